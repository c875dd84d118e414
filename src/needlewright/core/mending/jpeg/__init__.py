"""Mending of JPEG files: their headers, and their coded data MCU by MCU."""
