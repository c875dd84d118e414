"""exFAT."""
