"""What stations show, as state without widgets."""
