"""Clips and pictures that an index places: where each run of clusters belongs."""
