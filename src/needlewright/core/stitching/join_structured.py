"""Registers the files that prove themselves step by step; see `structured`."""

from __future__ import annotations

from needlewright.core.stitching.base import Joiner, register
from needlewright.core.stitching.structured import join_structured

register(Joiner("structured", frozenset((
    "png", "ogg", "avi", "flv", "mkv", "webm", "mka", "ts", "m2ts", "gif", "aac", "mp3", "opus")),
    join_structured))
