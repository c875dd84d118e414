"""Partition tables and file systems."""
