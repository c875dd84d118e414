"""TIFF: directories found again, strips that are lost made neutral."""
