"""Shelves that are elsewhere, other than phones: backups, albums, synchronised folders."""
