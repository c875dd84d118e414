"""MPEG program streams: runs of packs, and what of their pictures is torn."""
