"""A field phone: PTP over TCP with its states, its faults, and a socket to play its owner."""
