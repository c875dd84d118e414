"""Which medium it is, whatever it is called today. Asked by the reader process, never here: a
medium that hangs must hang nothing else."""

from __future__ import annotations

from collections.abc import Iterator

from needlewright.core.errors import SourceError
from needlewright.core.imaging.reader import ReaderProcess
from needlewright.core.sources.map_file import Origin
from needlewright.core.sources.registry import elsewhere


def same_medium(known: Origin, other: Origin) -> bool:
    """Whether two are the same medium, as far as both could be asked."""
    if known.size != other.size:
        return False
    if known.serial and other.serial and known.serial != other.serial:
        return False
    return not (known.head and other.head and known.head != other.head)


def find_again(known: Origin, spec: str) -> Iterator[ReaderProcess]:
    """An open reader for each place where the medium may be back, `spec` first; the caller closes
    those that it does not keep."""
    others = elsewhere(spec, known.size, known.serial)
    for name in (spec, *(other for other in others if other != spec)):
        try:
            yield ReaderProcess(name)
        except SourceError:
            continue
