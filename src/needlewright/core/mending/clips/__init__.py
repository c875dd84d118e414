"""Mending of clips: their samples found again, their index written anew."""
