"""The five stations: places, not a wizard."""
