"""Partition tables, one module each."""
