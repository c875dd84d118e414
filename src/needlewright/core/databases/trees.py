"""B-trees of SQLite databases (sqlite.org file format, section 1.6): their pages and cells."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from needlewright.core.databases.pages import HEADER, Pages
from needlewright.core.databases.records import Value, shape_at, values_of, varint
from needlewright.core.errors import FormatError

INDEX_INNER, TABLE_INNER, INDEX_LEAF, TABLE_LEAF = 0x02, 0x05, 0x0A, 0x0D
KINDS = frozenset((INDEX_INNER, TABLE_INNER, INDEX_LEAF, TABLE_LEAF))
MAX_DEPTH = 40


@dataclass(frozen=True, slots=True)
class Leaf:
    """A page of a tree. `head`: where its header begins; `cells`: where its cells do; `content`:
    the first byte of the area of cells; `blocks`: (start, size) of its free blocks; `gap`: the
    byte behind the last pointer."""

    number: int
    kind: int
    head: int
    data: bytes
    cells: tuple[int, ...]
    content: int
    blocks: tuple[tuple[int, int], ...]
    right: int

    @property
    def gap(self) -> int:
        return self.head + _head_bytes(self.kind) + 2 * len(self.cells)


def _head_bytes(kind: int) -> int:
    return 12 if kind in (INDEX_INNER, TABLE_INNER) else 8


def read_leaf(data: bytes, number: int, usable: int) -> Leaf:
    """A page of a tree; FormatError where it is none. Pointers that lead nowhere end the list."""
    head = HEADER if number == 1 else 0
    kind = data[head]
    if kind not in KINDS:
        raise FormatError("page-of-no-tree", offset=0)

    def half(at: int) -> int:
        return int.from_bytes(data[at : at + 2], "big")

    start = head + _head_bytes(kind)
    count, content = half(head + 3), half(head + 5) or 65_536
    if start + 2 * count > usable:
        raise FormatError("page-of-no-tree", offset=0)
    cells = tuple(c for c in (half(start + 2 * i) for i in range(count))
                  if start + 2 * count <= c < usable)
    blocks = []
    at, last = half(head + 1), 0
    while last < at <= usable - 4:
        size = half(at + 2)
        if size < 4 or at + size > usable:
            break
        blocks.append((at, size))
        last, at = at, half(at)
    right = int.from_bytes(data[head + 8 : head + 12], "big") if kind in (
        INDEX_INNER, TABLE_INNER) else 0
    return Leaf(number, kind, head, data, cells, min(content, usable), tuple(blocks), right)


def local_bytes(payload: int, usable: int, table: bool) -> int:
    """How much of a payload stands in its cell; the rest is in overflow pages (1.6)."""
    most = usable - 35 if table else (usable - 12) * 64 // 255 - 23
    if payload <= most:
        return payload
    least = (usable - 12) * 32 // 255 - 23
    wanted = least + (payload - least) % (usable - 4)
    return wanted if wanted <= most else least


@dataclass(frozen=True, slots=True)
class Cell:
    """A row as its cell has it. `rowid`: None in an index; `stop`: the byte behind the cell;
    `overflow`: the pages that hold the rest of it."""

    rowid: int | None
    types: tuple[int, ...]
    values: tuple[Value, ...]
    at: int
    stop: int
    overflow: tuple[int, ...] = ()


def read_cell(pages: Pages, leaf: Leaf, at: int, strict: bool = False) -> Cell:
    """The row at byte `at` of a page; FormatError where none stands whole."""
    data, usable = leaf.data[: pages.header.usable], pages.header.usable
    begin = at + 4 if leaf.kind == INDEX_INNER else at
    payload, place = varint(data, begin)
    rowid = None
    table = leaf.kind == TABLE_LEAF
    if table:
        rowid, place = varint(data, place)
    if not 1 <= payload <= pages.count * usable:
        raise FormatError("record-makes-no-sense", offset=at)
    local = local_bytes(payload, usable, table)
    if place + local > usable:
        raise FormatError("record-makes-no-sense", offset=at)
    record = data[place : place + local]
    chain: tuple[int, ...] = ()
    stop = place + local
    if local < payload:
        first = int.from_bytes(data[stop : stop + 4], "big")
        record, chain = follow(pages, record, first, payload)
        stop += 4
    shape = shape_at(record, 0)
    if shape.size != payload:
        raise FormatError("record-makes-no-sense", offset=at)
    values = values_of(record, shape.head, shape.types, pages.header.encoding, strict)
    return Cell(rowid, shape.types, values, at, max(stop, at + 4), chain)


def row_numbers(leaf: Leaf) -> Iterator[tuple[int, int]]:
    """(byte, number) of the rows of a leaf of a table, as far as they can be read."""
    for at in leaf.cells:
        try:
            _, place = varint(leaf.data, at)
            number, _ = varint(leaf.data, place)
        except FormatError:
            continue
        yield at, number


def follow(pages: Pages, record: bytes, number: int, size: int) -> tuple[bytes, tuple[int, ...]]:
    """(`record` with what its overflow pages hold, those pages); FormatError where the chain does
    not hold `size` bytes."""
    parts, have, chain = [record], len(record), []
    seen: set[int] = set()
    while have < size:
        if number in seen:
            raise FormatError("overflow-goes-round", offset=0)
        seen.add(number)
        data = pages.page(number)
        part = data[4 : 4 + min(size - have, pages.header.usable - 4)]
        parts.append(part)
        chain.append(number)
        have += len(part)
        number = int.from_bytes(data[:4], "big")
    return b"".join(parts), tuple(chain)


def leaves_of(pages: Pages, root: int, broken: Callable[[int], None]) -> Iterator[Leaf]:
    """All pages of the tree whose root is page `root`, in the order of its keys as far as that
    goes; `broken` is told pages that cannot be read. Inner pages of indexes come as well."""
    waiting = [(root, 0)]
    seen: set[int] = set()
    while waiting:
        number, depth = waiting.pop()
        if number in seen or depth > MAX_DEPTH:
            broken(number)
            continue
        seen.add(number)
        try:
            leaf = read_leaf(pages.page(number), number, pages.header.usable)
        except FormatError:
            broken(number)
            continue
        yield leaf
        if leaf.kind in (TABLE_INNER, INDEX_INNER):
            children = [int.from_bytes(leaf.data[c : c + 4], "big") for c in leaf.cells]
            waiting += [(child, depth + 1) for child in reversed([*children, leaf.right])]
