"""btrfs."""
