"""Which medium it is, whatever it is called today."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

from needlewright.core.errors import SourceError
from needlewright.core.sources.map_file import Origin
from needlewright.core.sources.registry import elsewhere, open_source, told_of
from needlewright.core.sources.source import Source

HEAD_BYTES = 1 << 16


def head_of(source: Source) -> str:
    """SHA-256 (hex) of the first HEAD_BYTES; "" where they cannot be read."""
    try:
        return hashlib.sha256(source.read_at(0, HEAD_BYTES)).hexdigest()
    except SourceError:
        return ""


def identify(spec: str) -> Origin:
    """What tells the medium at `spec` from others; SourceError where it does not open."""
    with open_source(spec) as source:
        serial, model = told_of(spec)
        return Origin(spec, source.size, head_of(source), serial, model)


def same_medium(known: Origin, other: Origin) -> bool:
    """Whether two are the same medium, as far as both could be asked."""
    if known.size != other.size:
        return False
    if known.serial and other.serial and known.serial != other.serial:
        return False
    return not (known.head and other.head and known.head != other.head)


def find_again(known: Origin, spec: str) -> Iterator[tuple[str, bool]]:
    """(name, whether it is the medium) for each place where it may be back, `spec` first."""
    for name in (spec, *(other for other in elsewhere(spec) if other != spec)):
        try:
            yield name, same_medium(known, identify(name))
        except SourceError:
            continue
