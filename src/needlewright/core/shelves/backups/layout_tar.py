"""Archives of tar: plain, gzip, Zstandard; damaged ones as far as they go.

Headers: `tar_headers`. Long names (`L`, `K`): GNU tar manual, "Basic Tar Format". gzip: RFC 1952.
Zstandard: RFC 8878. The archive is listed in one pass, and what is compressed is unpacked anew to
reach what lies before the place where it is just read.
"""

from __future__ import annotations

import io
import zlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from needlewright.core.errors import SourceError
from needlewright.core.shelves.backups import tar_sparse
from needlewright.core.shelves.backups.base import Backup, Facts, Layout, marks_of, register
from needlewright.core.shelves.backups.layout_folder import day_of
from needlewright.core.shelves.backups.spots import BLOCK, Spot
from needlewright.core.shelves.backups.tar_headers import RECORD, header, number
from needlewright.core.shelves.backups.tar_headers import pax as pax_of
from needlewright.core.shelves.backups.tar_sparse import Spread
from needlewright.core.shelves.item_shelf import MOST_ITEMS, Item
from needlewright.core.sources.shelf import Flaw
from needlewright.core.volumes.stamps import unix

MOST_NAME, MOST_PAX = 1 << 16, 1 << 20  # bytes of a name, of a header of pax
SKIP = 1 << 18  # bytes that are read at once to come forward
FILES, LINK = (b"0", b"\0", b"7"), b"1"
LONG_NAME, LONG_LINK, PAX, PAX_ALL, SPARSE = b"L", b"K", b"x", b"g", b"S"
GZIP, ZSTD = b"\x1f\x8b\x08", b"\x28\xb5\x2f\xfd"
OFTEN = 256
MOST_RATIO, MOST_HOLE = 1000, 1 << 30  # times what is stored, and bytes, that a file may be
STEP = 8 << 20  # bytes that are passed over between two breaths
WINDOW = 1 << 27  # bytes that Zstandard may look back


class Stream(Protocol):
    """Bytes in a line. `cut`: they broke off where more should follow."""

    cut: bool

    def read(self, count: int) -> bytes: ...

    def skip(self, count: int) -> int: ...

    def tell(self) -> int: ...

    def close(self) -> None: ...


class Plain:
    """A file as it is."""

    def __init__(self, spot: Spot) -> None:
        self._file = spot.file()
        self._size = self._file.seek(0, io.SEEK_END)
        self._file.seek(0)
        self.cut = False

    def read(self, count: int) -> bytes:
        return self._file.read(count)

    def skip(self, count: int) -> int:
        """Go on by `count` bytes; how many there were."""
        at = self._file.tell()
        there = max(0, min(count, self._size - at))
        self._file.seek(there, io.SEEK_CUR)
        return there

    def tell(self) -> int:
        return self._file.tell()

    def close(self) -> None:
        self._file.close()


class Unpacked:
    """A file that is compressed, unpacked as it is read, a little at a time."""

    def __init__(self, spot: Spot, packing: str) -> None:
        self._file = spot.file()
        self._packing = packing
        self._begin()
        self._made, self._at = b"", 0
        self._raw = b""
        self.cut = False

    def _begin(self) -> None:
        if self._packing == "gzip":
            self._gzip = zlib.decompressobj(31)
        else:
            import zstandard

            self._zstd = zstandard.ZstdDecompressor(max_window_size=WINDOW).stream_reader(
                self._file, read_across_frames=True, closefd=False)

    def _more(self) -> bytes:
        return self._more_gzip() if self._packing == "gzip" else self._more_zstd()

    def _more_zstd(self) -> bytes:
        import zstandard

        try:
            return self._zstd.read(SKIP)
        except (zstandard.ZstdError, MemoryError, EOFError):
            self.cut = True
            return b""

    def _more_gzip(self) -> bytes:
        while not self.cut:
            if not self._raw:
                self._raw = self._file.read(SKIP)
                if not self._raw:
                    self.cut = not self._gzip.eof  # it should have come to its end
                    return b""
            if self._gzip.eof:
                self._raw = self._raw.lstrip(b"\0")  # drives and tapes fill up with them
                if not self._raw:
                    continue
                self._gzip = zlib.decompressobj(31)  # another member follows (RFC 1952, 2.2)
            try:
                out = self._gzip.decompress(self._raw, SKIP)
            except zlib.error:
                self.cut = True
                return b""
            self._raw = self._gzip.unconsumed_tail or self._gzip.unused_data
            if out:
                return out
        return b""

    def read(self, count: int) -> bytes:
        parts, left = [], count
        while left:
            if not self._made:
                self._made = self._more()
                if not self._made:
                    break
            part = self._made[:left]
            self._made = self._made[len(part) :]
            parts.append(part)
            left -= len(part)
        out = b"".join(parts)
        self._at += len(out)
        return out

    def skip(self, count: int) -> int:
        done = 0
        while done < count:
            got = len(self.read(min(SKIP, count - done)))
            if not got:
                break
            done += got
        return done

    def tell(self) -> int:
        return self._at

    def close(self) -> None:
        self._file.close()


@dataclass(frozen=True, slots=True)
class _Place:
    """`at`: of what is stored; `spread`: where that belongs in the file, None where it is all."""

    at: int
    size: int
    spread: Spread | None = None


class TarBackup(Backup):
    """The files of an archive."""

    def __init__(self, spot: Spot, packing: str) -> None:
        self._spot, self._packing = spot, packing
        self.facts = Facts("tar" if not packing else f"tar-{packing}")
        self._stream: Stream | None = None
        self.at_random = not packing

    def _opened(self) -> Stream:
        return Unpacked(self._spot, self._packing) if self._packing else Plain(self._spot)

    def items(self, breathe: Callable[[], None]) -> Sequence[Item]:
        stream = self._opened()
        try:
            found, newest = self._read(stream, breathe)
        finally:
            stream.close()
        self.facts.made = day_of(newest or self._spot.status().seconds)
        self.facts.complete = not self.facts.troubles
        return found

    def _read(self, stream: Stream, breathe: Callable[[], None]) -> tuple[list[Item], int]:
        found: list[Item] = []
        places: dict[str, _Place] = {}
        pax: dict[str, str] = {}
        every: dict[str, str] = {}
        name, newest, count, ended, lost = "", 0, 0, False, False
        while len(found) < MOST_ITEMS:
            count += 1
            if count % OFTEN == 0:
                breathe()
            raw = stream.read(RECORD)
            if len(raw) < RECORD:
                break
            if not raw.strip(b"\0"):
                ended = True
                continue  # archives that were added to go on behind it
            head = header(raw)
            if head is None:
                if not ended and not lost:
                    self._trouble("backup-damaged")  # the next header that is one is looked for
                lost = True
                pax, name = {}, ""
                continue
            ended = lost = False
            path, size, mtime, kind, target = head
            if kind in (LONG_NAME, LONG_LINK, PAX, PAX_ALL):
                limit = MOST_NAME if kind in (LONG_NAME, LONG_LINK) else MOST_PAX
                data = stream.read(min(size, limit))
                stream.skip(_padded(size) - len(data))
                if kind == LONG_NAME:
                    name = data.split(b"\0")[0].decode("utf-8", "surrogateescape")
                elif kind == PAX:
                    pax = pax_of(data)
                elif kind == PAX_ALL:
                    every |= pax_of(data)
                continue
            told = every | pax
            path = told.get(tar_sparse.NAME) or told.get("path") or name or path
            size = number(told.get("size")) if "size" in told else size
            mtime = number(told.get("mtime", "").split(".")[0]) or mtime
            pax, name, taken = {}, "", 0
            if kind == LINK and target in places:
                found.append(_item(path, mtime, places[target]))
            elif kind == SPARSE or tar_sparse.is_sparse(told):
                if kind == SPARSE:
                    spread, real = tar_sparse.old_spread(raw, size, stream.read)
                else:
                    spread, real, taken = tar_sparse.pax_spread(told, size, stream.read)
                item = _item(path, mtime, _Place(stream.tell(), real, spread))
                wrong = "backup-sparse" if spread is None else "backup-bomb" if (
                    real > MOST_RATIO * size + MOST_HOLE) else ""
                found.append(replace(item, told={"problem": wrong}) if wrong else item)
                newest = max(newest, mtime)
            elif kind in FILES and not path.endswith("/"):
                place = _Place(stream.tell(), size)
                places[path] = place
                found.append(_item(path, mtime, place))
                newest = max(newest, mtime)
            if kind not in (LINK, b"2", b"3", b"4", b"5", b"6"):
                left = _padded(size) - taken
                while left > 0 and (there := stream.skip(min(left, STEP))):
                    left -= there
                    breathe()
                if left > 0:
                    self._trouble("backup-cut")
                    break
        if stream.cut:
            self._trouble("backup-damaged")
        elif not ended and not self.facts.troubles:
            self._trouble("backup-cut")
        return found, newest

    def _trouble(self, code: str) -> None:
        self.facts.troubles[code] = self.facts.troubles.get(code, 0) + 1

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        place: _Place = item.handle
        parts = [(begin, place.size - begin)] if place.spread is None else (
            tar_sparse.stretches(place.spread, place.size, begin))
        for at, length in parts:
            yield from self._part(item, at, length)
        stored = place.size if place.spread is None else sum(n for _, n in place.spread)
        first, stop = (0, self._spot.status().size) if self._packing else (
            place.at, place.at + stored)
        if self._spot.lost(first, stop):  # nothing in an archive proves it
            raise Flaw("backup-unread", path=item.path)

    def _part(self, item: Item, at: int | None, length: int) -> Iterator[bytes]:
        """`length` bytes from byte `at` of what is stored of a file; None: of a hole."""
        if at is None:
            for start in range(0, length, BLOCK):
                yield bytes(min(BLOCK, length - start))
            return
        place: _Place = item.handle
        stream = self._stream
        if stream is None or stream.tell() > place.at + at or stream.cut:
            if stream is not None:
                stream.close()
            stream = self._stream = self._opened()
        stream.skip(place.at + at - stream.tell())
        left = length
        while left > 0:
            block = stream.read(min(BLOCK, left))
            if not block:
                raise Flaw("backup-cut", path=item.path, at=at + length - left)
            left -= len(block)
            yield block

    def marks(self) -> tuple[tuple[int, int], ...]:
        return marks_of(self._spot)

    def close(self) -> None:
        if self._stream is not None:
            self._stream.close()
            self._stream = None


def _padded(size: int) -> int:
    return -(-size // RECORD) * RECORD


def _item(path: str, mtime: int, place: _Place) -> Item:
    stamp = unix(mtime)
    plain = path.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
    return Item(plain, place.size, place, None, stamp.text() if stamp else None)


def _packing(spot: Spot) -> str | None:
    """"" of a plain archive, else how it is compressed; None where it is none."""
    if not spot.is_file():
        return None
    head = spot.head(RECORD)
    if len(head) == RECORD and head.strip(b"\0") and header(head) is not None:
        return ""
    for mark, packing in ((GZIP, "gzip"), (ZSTD, "zstd")):
        if head.startswith(mark):
            stream = Unpacked(spot, packing)
            try:
                first = stream.read(RECORD)
            finally:
                stream.close()
            if len(first) == RECORD and first.strip(b"\0") and header(first) is not None:
                return packing
    return None


def _open(spot: Spot, spec: str) -> Backup:
    packing = _packing(spot)
    if packing is None:
        raise SourceError("backup-unknown", path=str(spot))
    return TarBackup(spot, packing)


register(Layout("tar", 40, lambda spot: _packing(spot) is not None, _open))
