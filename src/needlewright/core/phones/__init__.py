"""Phones and cameras over PTP (ISO 15740) and MTP: every object that they hold, or why not."""
