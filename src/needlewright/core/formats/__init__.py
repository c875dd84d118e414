"""What files look like inside: one module per format, each registering itself."""
