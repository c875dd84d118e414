"""Folders that lie in clusters, as in FAT and exFAT: walked from the root, then once more for what
was removed.

A removed folder is followed as far as its clusters still look like one; all that it names was
removed with it.
"""

from __future__ import annotations

from abc import abstractmethod
from collections import deque
from collections.abc import Iterator
from typing import Generic, NamedTuple, Protocol, TypeVar

from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    Doubts,
    Entry,
    Extents,
    Reader,
    VolumeFacts,
    cut,
    path_in,
)
from needlewright.core.volumes.fat.boot import Boot
from needlewright.core.volumes.fat.table import Runs

MAX_FOLDERS = 2_000_000


class Folder(NamedTuple):
    """A folder: its path, its clusters, whether it was removed itself."""

    path: str
    runs: Runs
    removed: bool


class Named(Protocol):
    """What a directory says of one file or folder. `at`: its byte in the directory; `behind`: it
    stands behind the mark that ends the directory."""

    at: int
    removed: bool
    cluster: int
    size: int
    behind: bool

    @property
    def folder(self) -> bool: ...

    @property
    def name(self) -> str: ...


Item = TypeVar("Item", bound=Named)


class ClusterReader(Reader, Generic[Item]):
    """Walks the folders; what their items mean is its subclasses' business."""

    boot: Boot
    _taken: Allocation  # in use, or proven to belong to a removed file

    def __init__(self, volume: Source, facts: VolumeFacts) -> None:
        super().__init__(volume, facts)
        self._folders: list[Folder] = []
        self._walked = False

    # for subclasses to say

    @abstractmethod
    def _root(self) -> Folder:
        """The uppermost folder."""

    @abstractmethod
    def _items(self, data: bytes, removed_only: bool) -> Iterator[Item]:
        """What the bytes of a directory name."""

    @abstractmethod
    def _folder_runs(self, item: Item, path: str, at: int) -> Runs:
        """The clusters of a folder that is there; none where it cannot be read."""

    @abstractmethod
    def _gone_runs(self, item: Item) -> Runs:
        """The clusters of a removed folder that still look like one."""

    @abstractmethod
    def _live_entry(self, path: str, item: Item, at: int) -> Entry:
        """The entry of a file that is there."""

    @abstractmethod
    def _removed_entry(self, path: str, item: Item, at: int, doubts: Doubts) -> Entry:
        """The entry of a removed file; `doubts` are those of its name."""

    def _meet(self, item: Item, folder: str) -> None:
        """Look at an item that is there, on the way through `folder`."""
        return  # most have nothing to learn

    def _called(self, item: Item, folder: str) -> tuple[str, Doubts]:
        """What a removed item was called, and what is doubtful about that."""
        return item.name, ()

    # the walk

    def _bytes(self, folder: Folder) -> tuple[bytes, list[int]]:
        """(the directory's bytes, where on the volume each of its clusters lies)."""
        size = self.boot.cluster_size
        places: list[int] = []
        blocks: list[bytes] = []
        for first, count in folder.runs:
            at = self.boot.offset(first)
            blocks.append(self._read(at, count * size, "folder-unreadable"))
            places += range(at, at + count * size, size)
        return b"".join(blocks), places

    def _place(self, places: list[int], at: int) -> int:
        """Where on the volume byte `at` of a directory lies."""
        size = self.boot.cluster_size
        return places[0] + at if len(places) == 1 else places[at // size] + at % size

    def _laid(self, runs: Runs, size: int) -> Extents:
        """The first `size` bytes of these clusters."""
        unit = self.boot.cluster_size
        return cut([(self.boot.offset(c), n * unit) for c, n in runs], size)

    def live(self) -> Iterator[Entry]:
        self._folders.clear()
        seen: set[int] = set()
        queue = deque([self._root()])
        while queue:
            folder = queue.popleft()
            self._folders.append(folder)
            data, places = self._bytes(folder)
            for item in self._items(data, False):
                if item.removed or item.behind:
                    continue
                self._meet(item, folder.path)
                at, path = self._place(places, item.at), path_in(folder.path, item.name)
                if not item.folder:
                    yield self._live_entry(path, item, at)
                elif item.cluster in seen or path.count("/") > MAX_DEPTH or (
                        len(seen) >= MAX_FOLDERS):
                    self._problems.add("folder-loop", at, path=path)
                else:
                    seen.add(item.cluster)
                    runs = self._folder_runs(item, path, at)
                    if runs:
                        queue.append(Folder(path, runs, False))
        self._walked = True

    def _walk(self) -> None:
        """Go through all folders once, if nobody did yet."""
        if not self._walked:
            for _ in self.live():
                pass

    def removed(self) -> Iterator[Entry]:
        self._walk()
        gone: deque[Folder] = deque()
        seen: set[int] = set()
        for folder in self._folders:
            yield from self._removed_in(folder, gone, seen)
        while gone:
            yield from self._removed_in(gone.popleft(), gone, seen)

    def _removed_in(self, folder: Folder, gone: deque[Folder], seen: set[int]) -> Iterator[Entry]:
        data, places = self._bytes(folder)
        for item in self._items(data, not folder.removed):
            if not (item.removed or item.behind or folder.removed):
                continue
            at = self._place(places, item.at)
            name, doubts = self._called(item, folder.path)
            path = path_in(folder.path, name)
            if not item.folder:
                if item.size:
                    yield self._removed_entry(path, item, at, doubts)
            elif item.cluster not in seen and path.count("/") <= MAX_DEPTH:
                seen.add(item.cluster)
                runs = self._gone_runs(item)
                if runs:
                    gone.append(Folder(path, runs, True))

    def claim(self, extents: Extents) -> None:
        self._taken.take(extents)
