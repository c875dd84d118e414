"""PNG: what stands in the compressed data behind damage."""
