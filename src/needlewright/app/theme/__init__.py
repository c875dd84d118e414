"""Colours, type and style sheet, light and dark."""
