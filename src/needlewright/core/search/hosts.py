"""Volumes that are the content of a file: an image of a card kept on another drive.

Such a volume is there, and whole, as long as its file is: nothing of it was overwritten, although
every cluster under it is in use.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from needlewright.core.finds import key_of
from needlewright.core.formats.recognising import kind_of_name
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.volumes.base import Reader
from needlewright.core.volumes.finding import Volume

STOP_EVERY = 1024  # entries


@dataclass(frozen=True, slots=True)
class Host:
    """The live file that holds a volume; `key`: of its find; `whole`: in one piece."""

    path: str
    key: str
    whole: bool


def hosts_of(lost: Sequence[Volume], there: Iterable[tuple[Volume, Reader]],
             stop: StopSignal) -> dict[int, Host]:
    """The file in which each of the volumes `lost` begins, by the volume's first byte; what begins
    in no file is left out. `there`: the volumes that are there, with their readers.

    Raises Interrupted when told to stop.
    """
    found: dict[int, Host] = {}
    for volume, reader in there:
        inner = [v for v in lost if volume.span.start <= v.span.start < volume.span.stop]
        if inner:
            found.update(_in_files_of(volume, reader, inner, stop))
    return found


def _in_files_of(volume: Volume, reader: Reader, inner: Sequence[Volume],
                 stop: StopSignal) -> dict[int, Host]:
    base = volume.span.start
    found: dict[int, Host] = {}
    for number, entry in enumerate(reader.live()):
        if number % STOP_EVERY == 0 and stop.is_set():
            raise Interrupted
        for offset, length in entry.extents:
            if offset is None:
                continue
            for held in inner:
                start = base + offset
                if start <= held.span.start < start + length:
                    first = next(o for o, _ in entry.extents if o is not None)
                    key = key_of(kind_of_name(entry.name)[1], base + first)
                    found[held.span.start] = Host(entry.path, key,
                                                  held.span.stop <= start + length)
    return found
