"""NTFS."""
