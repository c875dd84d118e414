"""Volumes that are encrypted as a whole, told by name."""
