"""Boxes written (ISO/IEC 14496-12, 4.2)."""

from __future__ import annotations

import struct


def box(name: bytes, *parts: bytes) -> bytes:
    body = b"".join(parts)
    return struct.pack(">I4s", len(body) + 8, name) + body


def full(name: bytes, *parts: bytes, version: int = 0, flags: int = 0) -> bytes:
    return box(name, struct.pack(">I", version << 24 | flags), *parts)
