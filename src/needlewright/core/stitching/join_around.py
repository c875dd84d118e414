"""Puts together, around what others own, the formats that say so; see `around`."""

from __future__ import annotations

from needlewright.core.stitching.base import Joiner, register
from needlewright.core.stitching.chained.around import join_around

register(Joiner("around", frozenset(), join_around, order=1, endless=True))
