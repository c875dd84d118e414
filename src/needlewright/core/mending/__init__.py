"""Mending damaged files: always a new file beside the untouched one, with what was changed."""
