"""Needlewright: a workbench for media recovery specialists."""

__version__ = "0.1.0"
