"""Drawn and composed pieces that stations share."""
