"""Pictures that are decoded on: what a cluster would make of them."""
