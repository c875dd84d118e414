"""A raw image of a phone's storage or of a card: the files that its volumes hold now.

What was removed from it is found by taking the image itself in as a source.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.shelves.backups.base import Backup, Facts, Layout, marks_of, register
from needlewright.core.shelves.backups.layout_folder import day_of
from needlewright.core.shelves.backups.spots import BLOCK, Spot
from needlewright.core.shelves.backups.trees import content_of
from needlewright.core.shelves.item_shelf import MOST_ITEMS, Item
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.shelf import Flaw
from needlewright.core.sources.source import Span
from needlewright.core.volumes.base import Entry, VolumeState
from needlewright.core.volumes.finding import Volume, find_volumes, open_volume

RAW = "raw"
SMALLEST = 1 << 18  # bytes; less is no image of a storage
OFTEN = 256


@dataclass(frozen=True, slots=True)
class _Held:
    entry: Entry
    base: int


class RawBackup(Backup):
    """What the volumes of an image hold."""

    def __init__(self, spot: Spot) -> None:
        self._image = spot.source()
        self._spot = spot
        self.facts = Facts("raw", notes=("backup-raw",))

    def items(self, breathe: Callable[[], None]) -> Sequence[Item]:
        found: list[Item] = []
        volumes = find_volumes(self._image).volumes
        several = sum(bool(v.file_system) for v in volumes) > 1
        newest = 0
        for number, volume in enumerate(volumes, 1):
            if volume.facts.state is VolumeState.LOCKED:
                self.facts.encrypted = True
                self._trouble("backup-volume-locked")
                continue
            if not volume.file_system:
                continue
            try:
                for item, seconds in self._of(volume, f"{volume.title or number}/" if several
                                              else "", breathe):
                    found.append(item)
                    newest = max(newest, seconds)
                    if len(found) >= MOST_ITEMS:
                        break
            except (FormatError, SourceError):
                self._trouble("backup-volume-damaged")
        self.facts.device = next((v.title for v in volumes if v.title), "")
        self.facts.made = day_of(newest)
        return found

    def _of(self, volume: Volume, before: str, breathe: Callable[[], None]) -> Iterator[
            tuple[Item, int]]:
        reader = open_volume(self._image, volume)
        for number, entry in enumerate(reader.live()):
            if number % OFTEN == 0:
                breathe()
            if not entry.path or entry.version:
                continue
            created, modified = entry.times.created, entry.times.modified
            told = {"problem": "backup-file-locked"} if entry.locked else {}
            yield Item(before + entry.path, entry.size, _Held(entry, volume.span.start),
                       created.text() if created else None,
                       modified.text() if modified else None, dict(told)), (
                           modified.seconds if modified else 0)
        if reader.problems:
            self._trouble("backup-volume-damaged")

    def _trouble(self, code: str) -> None:
        self.facts.troubles[code] = self.facts.troubles.get(code, 0) + 1

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        source, at = content_of(self._image, item.handle.entry, item.handle.base), begin
        try:
            for block in blocks(source, Span(begin, source.size), size=BLOCK):
                yield block
                at += len(block)
        except (SourceError, FormatError) as error:
            raise Flaw("backup-cut", path=item.path, at=at) from error
        if source.lost_within(0, source.size):
            raise Flaw("backup-unread", path=item.path)

    def marks(self) -> tuple[tuple[int, int], ...]:
        return marks_of(self._spot)

    def close(self) -> None:
        self._image.close()


def _fits(spot: Spot) -> bool:
    if not spot.is_file() or spot.status().size < SMALLEST:
        return False
    try:
        with spot.source() as image:
            return any(v.file_system or v.facts.state is VolumeState.LOCKED
                       for v in find_volumes(image).volumes)
    except (SourceError, FormatError):
        return False


register(Layout(RAW, 70, _fits, lambda spot, spec: RawBackup(spot)))
