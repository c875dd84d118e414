"""ZIP archives, encrypted ones (AE-1, AE-2) and damaged ones as far as they go.

APPNOTE.TXT 6.3.10: local headers 4.3.7, data descriptors 4.3.9, the central directory 4.3.12 to
4.3.16, ZIP64 4.5.3. Where the directory is missing, files are found by their own headers.
"""

from __future__ import annotations

import bz2
import zlib
from collections import Counter
from collections.abc import Callable, Iterator, Sequence

from needlewright.core import secrets
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.shelves.backups import zip_cipher
from needlewright.core.shelves.backups.base import Backup, Facts, Layout, marks_of, register
from needlewright.core.shelves.backups.layout_folder import day_of
from needlewright.core.shelves.backups.spots import Spot
from needlewright.core.shelves.backups.zip_headers import (
    LOCAL,
    ZipEntry,
    entries_by_directory,
    entries_by_headers,
    local_data,
)
from needlewright.core.shelves.item_shelf import Item
from needlewright.core.sources.shelf import Flaw

PIECE = 1 << 18
STORED, DEFLATED, BZIPPED, ZSTANDARD = 0, 8, 12, 93
TRIED = 8  # files that a password is tried on
PROBED = 16 << 20  # bytes of a file by which a password is tried
MOST_RATIO = 1032  # that Deflate reaches


class _Bounded:
    """Unpacks Deflate or bzip2 a little at a time."""

    def __init__(self, method: int) -> None:
        self._bzip = bz2.BZ2Decompressor() if method == BZIPPED else None
        self._zlib = zlib.decompressobj(-15) if method == DEFLATED else None
        self._zstd = None
        if method == ZSTANDARD:
            import zstandard

            self._zstd = zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()

    def feed(self, data: bytes) -> Iterator[bytes]:
        if self._zlib is not None:
            while data and not self._zlib.eof:
                yield self._zlib.decompress(data, PIECE)
                data = self._zlib.unconsumed_tail
        elif self._bzip is not None:
            while not self._bzip.eof and (data or not self._bzip.needs_input):
                yield self._bzip.decompress(data, PIECE)
                data = b""
        elif self._zstd is not None:
            for at in range(0, len(data), 1 << 12):  # a block of it makes 128 KiB at most
                yield self._zstd.decompress(data[at : at + (1 << 12)])
        else:
            yield data


class ZipBackup(Backup):
    """The files of an archive."""

    def __init__(self, spot: Spot, spec: str) -> None:
        self._spot, self._spec = spot, spec
        self._file = spot.source()
        self.facts = Facts("zip")
        self._password: str | None = None

    def items(self, breathe: Callable[[], None]) -> Sequence[Item]:
        try:
            entries = entries_by_directory(self._file, breathe)
        except FormatError:
            entries = None
        if entries is None:
            self.facts.troubles["backup-no-directory"] = 1
            entries = entries_by_headers(self._file, breathe)
        locked = [entry for entry in entries if entry.strength is not None]
        self.facts.encrypted = any(entry.encrypted for entry in entries)
        if locked:
            self._open_with_password(sorted(locked, key=lambda entry: entry.packed)[:TRIED])
        starts = Counter(entry.at for entry in entries)
        found = [self._item(entry, starts[entry.at] > 1) for entry in entries
                 if not entry.path.endswith(("/", "\\"))]
        days = [entry.modified for entry in entries if entry.modified]
        self.facts.made = max(days, default=None) or day_of(self._spot.status().seconds)
        self.facts.complete = not self.facts.troubles
        return sorted(found, key=lambda item: item.handle.at)

    def _item(self, entry: ZipEntry, shared: bool) -> Item:
        """`shared`: others are stored in the very place."""
        told = {}
        impossible = entry.plain_method == DEFLATED and (
            (entry.size or 0) > MOST_RATIO * (entry.packed + 64))
        if shared or impossible:
            told["problem"] = "backup-bomb"
        elif entry.encrypted and entry.strength is None:
            told["problem"] = "backup-old-cipher"
        elif entry.plain_method not in (STORED, DEFLATED, BZIPPED, ZSTANDARD):
            told["problem"] = "backup-method"
        return Item(entry.path, entry.size, entry, None, entry.modified, told)

    def _open_with_password(self, smallest: Sequence[ZipEntry]) -> None:
        """Ask for the password until it is the one, as the smallest files tell; SourceError where
        none is. Two bytes of each tell it, which of several are no chance, also where a file is
        damaged; of a single one all of it has to be authentic."""
        wrong = False
        while self._password is None:
            password = secrets.wanted(self._spec, secrets.PASSWORD, wrong)
            fitting = [entry for entry in smallest if self._fits(entry, password)]
            if len(fitting) > 1 or (fitting and self._opens(fitting[0], password)):
                self._password = password
            wrong = True

    def _fits(self, entry: ZipEntry, password: str) -> bool:
        """Whether two bytes in front of a file say that this is its password."""
        try:
            for _ in self._clear(entry, password, "", prove=False):
                break
        except (FormatError, Flaw):
            return False
        return True

    def _opens(self, entry: ZipEntry, password: str) -> bool:
        try:
            for _ in self._clear(entry, password, "", prove=entry.packed <= PROBED):
                if entry.packed > PROBED:
                    break
        except FormatError:
            return False
        except Flaw as flaw:
            return flaw.code != "backup-unauthentic"
        return True

    def _raw(self, entry: ZipEntry, path: str) -> Iterator[bytes]:
        """What is stored of a file."""
        try:
            at = local_data(self._file, entry)
        except FormatError as error:
            raise Flaw("backup-damaged-file", path=path) from error
        left = entry.packed
        while left > 0:
            data = self._file.read_at(at, min(PIECE, left, max(0, self._file.size - at)))
            if not data:
                raise Flaw("backup-cut", path=path, at=entry.packed - left)
            yield data
            at += len(data)
            left -= len(data)

    def _clear(self, entry: ZipEntry, password: str | None, path: str, prove: bool = True) -> (
            Iterator[bytes]):
        """… in the clear. FormatError where the password is not its own."""
        strength = entry.strength
        if strength is None:
            yield from self._raw(entry, path)
            return
        head = strength.salt + zip_cipher.VERIFIER
        if entry.packed < strength.overhead:
            raise Flaw("backup-damaged-file", path=path)
        opener, kept, inside = None, b"", entry.packed - strength.overhead
        for data in self._raw(entry, path):
            kept += data
            if opener is None:
                if len(kept) < head:
                    continue
                opener = zip_cipher.Opener(strength, kept[: strength.salt],
                                           kept[strength.salt : head], password or "")
                kept = kept[head:]
            part, kept = kept[:inside], kept[inside:] if len(kept) > inside else b""
            inside -= len(part)
            if part:
                yield opener.open(part)
        if prove and (opener is None or not opener.is_authentic(kept)):
            raise Flaw("backup-unauthentic", path=path)

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        entry: ZipEntry = item.handle
        unpack, made, checksum = _Bounded(entry.plain_method), 0, 0
        try:
            for data in self._clear(entry, self._password, item.path):
                for out in unpack.feed(data):
                    checksum = zlib.crc32(out, checksum)
                    made += len(out)
                    if made > begin and out:
                        yield out[max(0, begin - (made - len(out))) :]
        except Flaw:
            raise
        except (zlib.error, OSError, EOFError, FormatError, ValueError) as error:
            raise Flaw("backup-damaged-file", path=item.path) from error
        except Exception as error:  # zstandard has an error of its own
            if type(error).__name__ != "ZstdError":
                raise
            raise Flaw("backup-damaged-file", path=item.path) from error
        if entry.crc is not None and checksum != entry.crc:
            raise Flaw("backup-crc", path=item.path)

    def marks(self) -> tuple[tuple[int, int], ...]:
        return marks_of(self._spot)

    def close(self) -> None:
        self._file.close()
        self._password = None


def _fits(spot: Spot) -> bool:
    if not spot.is_file() or spot.suffix.lower() != ".zip":
        return False  # documents and programs are archives of this kind, too
    return spot.head(4) == LOCAL or _has_directory(spot)


def _has_directory(spot: Spot) -> bool:
    try:
        with spot.source() as file:
            return bool(entries_by_directory(file, lambda: None))
    except (SourceError, FormatError):
        return False


register(Layout("zip", 50, _fits, ZipBackup))
