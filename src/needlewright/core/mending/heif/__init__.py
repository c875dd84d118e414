"""HEIC pictures: the coded pictures found in the data, and an index that leads to them."""
