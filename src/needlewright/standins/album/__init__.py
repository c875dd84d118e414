"""The survey's album: a small HTTP service with faults by description."""
