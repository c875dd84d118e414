"""How many examples property tests draw: the same few on every run of the tests, many and new ones
where NEEDLEWRIGHT_EXAMPLES is `large`, as `make fuzz` has it."""

from __future__ import annotations

import os
from typing import Any

from hypothesis import settings

LARGE = os.environ.get("NEEDLEWRIGHT_EXAMPLES") == "large"
LEAST, USUAL, PART, TIMES = 12, 30, 3, 20


def examples(count: int, **more: Any) -> settings:
    """The settings of a test for which `count` examples say much: a third of them, or many."""
    drawn = count * TIMES if LARGE else max(LEAST, count // PART)
    return settings(max_examples=drawn, deadline=None, **more)
