"""Random cards: volumes with a history, written by real formatters and drivers from a seed.

`contents` makes the files, `drivers` writes them, `history` draws what happens, `comparing` holds
what a search brought back against the truth.
"""
