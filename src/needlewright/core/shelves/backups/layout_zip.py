"""ZIP archives, encrypted ones (AE-1, AE-2) and damaged ones as far as they go.

APPNOTE.TXT 6.3.10: local headers 4.3.7, data descriptors 4.3.9, the central directory 4.3.12 to
4.3.16, ZIP64 4.5.3. Where the directory is missing, files are found by their own headers.
"""

from __future__ import annotations

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
from needlewright.core.shelves.backups.zip_old_cipher import HEAD, OldOpener
from needlewright.core.shelves.backups.zip_unpacking import (
    DEFLATED,
    METHODS,
    PIECE,
    STORED,
    Unpacking,
    is_error,
)
from needlewright.core.shelves.item_shelf import Item
from needlewright.core.sources.shelf import Flaw

TRIED = 8  # files that a password is tried on
SURE_OLD = 4  # files whose one byte fits: more are no chance among those that are tried
TOO_SMALL = 16 + HEAD  # bytes of a file that any password seems to open
PROBED = 16 << 20  # bytes of a file by which a password is tried
MOST_RATIO = 1032  # that Deflate reaches


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
        locked = [entry for entry in entries
                  if entry.strength is not None or entry.check is not None]
        self.facts.encrypted = any(entry.encrypted for entry in entries)
        if locked:
            telling = [entry for entry in locked if entry.packed > TOO_SMALL] or locked
            self._open_with_password(sorted(telling, key=lambda entry: entry.packed)[:TRIED])
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
        elif entry.encrypted and entry.strength is None and entry.check is None:
            told["problem"] = "backup-cipher"
        elif entry.plain_method not in METHODS:
            told["problem"] = "backup-method"
        return Item(entry.path, entry.size, entry, None, entry.modified, told)

    def _open_with_password(self, smallest: Sequence[ZipEntry]) -> None:
        """Ask for the password until it is the one, as the smallest files tell; SourceError where
        none is. Two bytes of each tell it, which of several are no chance, also where a file is
        damaged; of a single one all of it has to be authentic. The old cipher has one byte, and
        what a file holds has to be what it should."""
        wrong = False
        while self._password is None:
            password = secrets.wanted(self._spec, secrets.PASSWORD, wrong)
            fitting = [entry for entry in smallest if self._fits(entry, password)]
            sure = len(fitting) > (SURE_OLD if any(e.check is not None for e in fitting) else 1)
            if sure or any(self._opens(entry, password) for entry in fitting[:2]):
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
        if entry.check is not None:
            return self._opens_old(entry, password)
        try:
            for _ in self._clear(entry, password, "", prove=entry.packed <= PROBED):
                if entry.packed > PROBED:
                    break
        except FormatError:
            return False
        except Flaw as flaw:
            return flaw.code != "backup-unauthentic"
        return True

    def _opens_old(self, entry: ZipEntry, password: str) -> bool:
        """What is packed does not unpack for long with a wrong one; what is not, only the sum of
        all of it tells."""
        made = 0
        try:
            for out in self._made(entry, password, ""):
                made += len(out)
                if made > PROBED and entry.plain_method != STORED:
                    break
        except Flaw:
            return False
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
        if entry.check is not None:
            yield from self._clear_old(entry, password, path)
            return
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

    def _clear_old(self, entry: ZipEntry, password: str | None, path: str) -> Iterator[bytes]:
        opener, kept = None, b""
        for data in self._raw(entry, path):
            if opener is None:
                kept += data
                if len(kept) < HEAD:
                    continue
                opener = OldOpener(kept[:HEAD], entry.check or 0, password or "")
                data = kept[HEAD:]
            if data:
                yield opener.open(data)
        if opener is None:
            raise Flaw("backup-damaged-file", path=path)

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        made = 0
        for out in self._made(item.handle, self._password, item.path):
            made += len(out)
            if made > begin:
                yield out[max(0, begin - (made - len(out))) :]

    def _made(self, entry: ZipEntry, password: str | None, path: str) -> Iterator[bytes]:
        """All that a file holds; Flaw where it is not what it should be."""
        unpack, checksum = Unpacking(entry.plain_method), 0
        try:
            for data in self._clear(entry, password, path):
                for out in unpack.feed(data):
                    if out:
                        checksum = zlib.crc32(out, checksum)
                        yield out
        except Flaw:
            raise
        except Exception as error:
            if not is_error(error):
                raise
            raise Flaw("backup-damaged-file", path=path) from error
        if entry.crc is not None and checksum != entry.crc:
            raise Flaw("backup-crc", path=path)

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
