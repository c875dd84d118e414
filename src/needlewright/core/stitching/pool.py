"""The free pieces of a source: clusters on a grid, less what whole finds and live files own."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import SourceError
from needlewright.core.kernels.texture import BLOCK_BYTES, Texture, classify
from needlewright.core.sources.careful import read_around
from needlewright.core.sources.source import Source
from needlewright.core.stitching.habits import Habits, gaps_of

Longs = npt.NDArray[np.int64]
Rows = npt.NDArray[np.uint8]
LARGEST, SMALLEST = 1 << 16, 512  # bytes of a cluster that starts of files can vote for
FEW, FEWEST = 8, 4  # starts of which all must agree; that are no vote yet
COMMON = 4096  # bytes of a cluster of which few starts may tell
AGREED = 0.9
AT_ONCE = 4 << 20  # bytes that are read at once
FAR = 1 << 62
MAX_MARKS = 1 << 19  # places of one mark: more are no marks


def voted_grid(starts: Sequence[int], sector: int) -> tuple[int, int]:
    """(bytes of a cluster, first byte of one) that the first bytes of whole files vote for.

    The largest power of two on which nearly all of them stand alike; of few starts all must, and on
    no more than is common; one sector where hardly any vote.
    """
    places = np.array(starts, np.int64)
    if places.size < FEW:
        alike = places.size >= FEWEST and np.unique(places % COMMON).size == 1
        return (COMMON, int(places[0] % COMMON)) if alike and sector < COMMON else (sector, 0)
    unit = LARGEST
    while unit > max(SMALLEST, sector):
        rests, counts = np.unique(places % unit, return_counts=True)
        if counts.max() >= AGREED * places.size:
            return unit, int(rests[counts.argmax()])
        unit //= 2
    return sector, 0


class Pool:
    """Clusters of `unit` bytes from byte `base` of `source`; `free` bool[n] says which are still
    nobody's. Clusters are known by their numbers here."""

    def __init__(self, source: Source, unit: int, base: int, owned: Longs,
                 area: tuple[int, int] | None = None) -> None:
        """`owned` int64[n, 2]: (start, stop) of what belongs to whole finds and live files; `area`:
        the bytes that pieces are looked for in."""
        self.source, self.unit, self.base = source, unit, base
        self.count = max(0, (source.size - base) // unit)
        self.free = np.ones(self.count, np.bool_)
        self.blank = np.zeros(self.count, np.bool_)  # nobody's piece, but perhaps in line with one
        for start, stop in owned:
            self._set(int(start), int(stop))
        if area is not None:
            self._set(0, area[0])
            self._set(area[1], source.size)
        self.classes: npt.NDArray[np.uint8] = np.zeros(self.count, np.uint8)
        self.revision = 0
        self.habits = Habits()
        self._marks: dict[bytes, list[tuple[int, int]]] = {}

    def _set(self, start: int, stop: int) -> None:
        first = max(0, (start - self.base) // self.unit)
        last = max(0, -(-(stop - self.base) // self.unit))
        self.free[first:last] = self.blank[first:last] = False

    def number(self, byte: int) -> int:
        """The cluster that `byte` lies in."""
        return (byte - self.base) // self.unit

    def start(self, number: int) -> int:
        """The first byte of a cluster."""
        return self.base + number * self.unit

    def is_free(self, number: int) -> bool:
        return 0 <= number < self.count and bool(self.free[number])

    def in_line(self, number: int) -> bool:
        """Whether a cluster may belong to a file whose other clusters stand around it: headers and
        indexes are padded with zeros."""
        return 0 <= number < self.count and bool(self.free[number] or self.blank[number])

    def take(self, extents: Sequence[tuple[int | None, int]]) -> None:
        """These bytes are somebody's from now on."""
        for offset, length in extents:
            if offset is not None and length > 0:
                self._set(offset, offset + length)
        self.learn([(offset, length) for offset, length in extents if offset is not None])
        self.revision += 1

    def learn(self, extents: Sequence[tuple[int, int]]) -> None:
        """So a file of this medium goes on: (byte, length) of its pieces, in file order."""
        self.habits.learn(gaps_of([(self.number(offset), -(-length // self.unit))
                                   for offset, length in extents]))

    def look(self, known: Callable[[int, int], bytes] | None = None) -> Iterator[int]:
        """Learn the Texture of each free cluster; yields how far it came, in bytes. What cannot be
        read, or is blank, is nobody's piece. `known`: gives a Texture for each 4 KiB from one byte
        of the source to another, as far as it is known."""
        usable = self.unit >= BLOCK_BYTES and self.base % BLOCK_BYTES == 0
        step = max(1, AT_ONCE // self.unit)
        for first in range(0, self.count, step):
            part = slice(first, min(self.count, first + step))
            if known is not None and usable:
                blocks = np.frombuffer(known(self.start(part.start), self.start(part.stop)),
                                       np.uint8)[:: self.unit // BLOCK_BYTES]
                self.classes[first : first + blocks.size] = blocks
            open_ones = self.free[part] & (self.classes[part] == Texture.UNSEEN)
            if open_ones.any():
                numbers = first + np.flatnonzero(open_ones)
                rows = self.read(numbers)
                self.classes[numbers] = _classes_of(rows)
            self.blank[part] = self.free[part] & (self.classes[part] == Texture.BLANK)
            self.free[part] &= ~self.blank[part]
            yield self.start(part.stop)

    def marks(self, magic: bytes, back: int = 0) -> list[tuple[int, int]]:
        """(cluster, byte in it) of each place in free clusters where `magic` stands, less `back`;
        the whole pool is read once for it."""
        if magic not in self._marks:
            found: list[tuple[int, int]] = []
            step = max(1, AT_ONCE // self.unit)
            numbers = np.flatnonzero(self.free)
            for first in range(0, numbers.size, step):
                if len(found) >= MAX_MARKS:
                    break
                part = numbers[first : first + step]
                data = self.read(part).tobytes()
                at = data.find(magic)
                while at >= 0 and len(found) < MAX_MARKS:
                    index, inside = divmod(at - back, self.unit)
                    if index >= 0:
                        found.append((int(part[index]), inside))
                    at = data.find(magic, at + 1)
            self._marks[magic] = found
        return [(n, inside) for n, inside in self._marks[magic] if self.free[n]]

    def peek(self, numbers: Longs, offset: int, length: int) -> Rows:
        """uint8[n, length]: bytes that lie `offset` bytes behind the beginning of clusters; zeros
        where there are none."""
        rows = np.zeros((numbers.size, length), np.uint8)
        for index, number in enumerate(numbers.tolist()):
            try:
                got = self.source.read_at(self.start(number) + offset, length)
            except SourceError as error:
                if error.code != "source-range":
                    raise
                continue
            rows[index, : len(got)] = np.frombuffer(got, np.uint8)
        return rows

    def read(self, numbers: Longs, room: int = 0) -> Rows:
        """uint8[n, room + unit]: the bytes of clusters, `room` bytes free before each; zeros where
        they cannot be read."""
        rows = np.empty((numbers.size, room + self.unit), np.uint8)
        index = 0
        while index < numbers.size:
            stop = index + 1
            while stop < numbers.size and numbers[stop] == numbers[stop - 1] + 1:
                stop += 1
            rows[index:stop, room:] = self._run(int(numbers[index]), stop - index)
            index = stop
        return rows

    def _run(self, number: int, count: int) -> Rows:
        block = bytearray(count * self.unit)
        try:
            got = self.source.read_into(self.start(number), memoryview(block))
        except SourceError as error:
            if error.code != "source-range":
                raise
            got, _ = read_around(self.source, self.start(number), memoryview(block))
        block[got:] = bytes(len(block) - got)
        return np.frombuffer(block, np.uint8).reshape(count, self.unit)

    def nearest(self, number: int, most: int, like: npt.NDArray[np.bool_] | None = None,
                low: int = 0, high: int = FAR) -> Longs:
        """Up to `most` free clusters around `number`, two thirds of them behind it, ascending;
        `like`: the classes of Texture that serve."""
        usable = self.free if like is None else self.free & like[self.classes]
        ahead = number + 1 + _first(usable[number + 1 : min(self.count, high)], most * 2 // 3)
        back_to = max(0, low)
        back = usable[back_to:max(back_to, number)][::-1]
        behind = number - 1 - _first(back, most - ahead.size)
        if ahead.size + behind.size < most:
            ahead = number + 1 + _first(usable[number + 1 : min(self.count, high)],
                                        most - behind.size)
        return np.concatenate((behind[::-1], ahead)).astype(np.int64)

    def run(self, number: int, most: int) -> int:
        """How many clusters, `most` at the utmost, stand behind one another from `number` that are
        free, or blank and nobody's."""
        part = self.free[number : number + most] | self.blank[number : number + most]
        taken = np.flatnonzero(~part)
        return int(taken[0]) if taken.size else int(part.size)

    def stretches(self, low: int, high: int,
                  but: Sequence[tuple[int, int]] = ()) -> list[tuple[int, int]]:
        """(first cluster, how many) of each run that is free, or blank and nobody's, between two
        clusters, ascending. `but`: (first, stop) of clusters that do not count."""
        low, high = max(0, low), min(self.count, high)
        usable = self.free[low:high] | self.blank[low:high]
        for first, stop in but:
            usable[max(0, first - low) : max(0, stop - low)] = False
        edges = np.flatnonzero(np.diff(np.concatenate(([0], usable.view(np.int8), [0]))))
        return [(low + int(a), int(b - a)) for a, b in edges.reshape(-1, 2)]

    def span(self, numbers: Sequence[int]) -> list[tuple[int | None, int]]:
        """Clusters in file order as extents, neighbours joined."""
        out: list[tuple[int | None, int]] = []
        for number in numbers:
            at = self.start(number)
            if out and out[-1][0] is not None and out[-1][0] + out[-1][1] == at:
                out[-1] = (out[-1][0], out[-1][1] + self.unit)
            else:
                out.append((at, self.unit))
        return out


def _first(usable: npt.NDArray[np.bool_], most: int) -> Longs:
    """The first `most` places where `usable` is true; looks no farther than it must."""
    if most <= 0 or not usable.size:
        return np.zeros(0, np.int64)
    reach = max(most * 2, 4096)
    while True:
        found = np.flatnonzero(usable[:reach])
        if found.size >= most or reach >= usable.size:
            return found[:most].astype(np.int64)
        reach *= 4


def _classes_of(rows: Rows) -> npt.NDArray[np.uint8]:
    """A Texture for each of some clusters, uint8[n, unit]: of its first 4 KiB that are not blank.
    """
    count, unit = rows.shape
    if unit < BLOCK_BYTES:
        blank = (rows == rows[:, :1]).all(axis=1)
        return np.where(blank, np.uint8(Texture.BLANK), np.uint8(Texture.UNSEEN)).astype(np.uint8)
    classes = classify(np.ascontiguousarray(rows).reshape(-1)).reshape(count, -1)
    best = classes[:, 0].copy()
    for column in range(1, classes.shape[1]):
        best = np.where(best == Texture.BLANK, classes[:, column], best)
    return np.asarray(best, np.uint8)
