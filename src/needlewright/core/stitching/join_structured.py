"""Puts together the files that prove themselves step by step, where their formats say so; see
`structured`.
"""

from __future__ import annotations

from needlewright.core.stitching.base import Joiner, register
from needlewright.core.stitching.chained.structured import join_structured
from needlewright.core.stitching.chained.structured_hand import structured_by_hand

register(Joiner("structured", frozenset(), join_structured, by_hand=structured_by_hand))
