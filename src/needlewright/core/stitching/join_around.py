"""Registers the formats that are put together around what others own; see `around`."""

from __future__ import annotations

from needlewright.core.stitching.base import Joiner, register
from needlewright.core.stitching.chained.around import join_around

register(Joiner("around", frozenset((
    "tiff", "dng", "cr2", "orf", "rw2", "nef", "arw", "pef", "srw", "cr3", "webp", "bmp", "psd",
    "jxl", "pdf", "zip", "odt", "ods", "odp", "odg", "epub", "docx", "xlsx", "pptx", "vsdx", "apk",
    "jar", "kmz", "sqlite", "wav", "aiff", "wmv", "wma", "asf")),
    join_around, order=1, endless=True))
