"""Where bytes come from. Nothing in this package can write."""
