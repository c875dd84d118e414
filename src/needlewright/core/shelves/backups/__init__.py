"""Backups: one module a layout, registering itself. They are read, and never restored."""
