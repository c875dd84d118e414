"""Partition tables and file systems, read-only: one module each, registering itself."""
