"""File names that any file system takes, and that never clash."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable
from pathlib import PurePosixPath

MAX_NAME_BYTES = 180  # 255 on most file systems; room for a suffix and for encrypted ones
FORBIDDEN = re.compile(r'[\x00-\x1f\x7f<>:"/\\|?*]')
#: Letters that show nothing and turn others around: a name may be read as another with them.
TURNING = re.compile("[\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]")
ODD = re.compile(f"{TURNING.pattern}|[\x00-\x1f\x7f-\x9f]")  # … or begin a line of their own
DEVICES = re.compile(r"(?i)^(con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³])$")


def safe_name(name: str, most: int = MAX_NAME_BYTES) -> str:
    """`name` without what some file system forbids (FAT, NTFS, exFAT, ext4, HFS+), what changes
    the direction of writing, and what is over `most` bytes; never empty."""
    plain = unicodedata.normalize("NFC", name)
    plain = TURNING.sub("_", FORBIDDEN.sub("_", plain))
    plain = "".join("_" if unicodedata.category(c) in ("Cs", "Cc") else c for c in plain)
    plain = plain.rstrip(". ").lstrip(" ") or "_"
    if plain in (".", ".."):
        plain = "_"
    stem, dot, suffix = plain.rpartition(".")
    if not dot or not stem or len(suffix) > 16:
        stem, suffix = plain, ""
    if DEVICES.match(stem.split(".")[0].rstrip(" ")):
        stem = f"_{stem}"
    room = most - len(suffix.encode()) - 1
    stem = stem.encode()[:room].decode("utf-8", "ignore").rstrip(". ") or "_"
    return f"{stem}.{suffix}" if suffix else stem


def harmless(text: str) -> str:
    """`text` with the letters that turn others around written as what they are."""
    return TURNING.sub(_named, text)


def one_line(name: str) -> str:
    """A name as it may stand in a line of its own: also without what ends a line or moves about."""
    return ODD.sub(_named, name)


def _named(match: re.Match[str]) -> str:
    return f"<U+{ord(match[0]):04X}>"


def safe_path(path: str) -> PurePosixPath:
    """The folders of `path`, each made safe; never absolute, never upwards."""
    parts = [safe_name(p) for p in path.replace("\\", "/").split("/") if p not in ("", ".", "..")]
    return PurePosixPath(*parts) if parts else PurePosixPath()


class Names:
    """Hands out paths that differ even where case and accents do not count."""

    def __init__(self, most: int = MAX_NAME_BYTES) -> None:
        """`most`: bytes of one name."""
        self._taken: set[str] = set()
        self._next: dict[str, int] = {}
        self._most = most

    def keep_free(self, keys: Iterable[str]) -> None:
        """These paths (see `key`) are folders: no file gets them."""
        self._taken.update(keys)

    def unique(self, folder: PurePosixPath, name: str) -> PurePosixPath:
        """`folder`/`name`, with ' (2)' and so on before the suffix where that is taken."""
        plain = safe_name(name, self._most)
        stem, dot, suffix = plain.rpartition(".")
        if not dot:
            stem, suffix = plain, ""
        path = folder / plain
        first = self.key(path)
        number = self._next.get(first, 1)
        while self.key(path) in self._taken:
            number += 1
            path = folder / (f"{stem} ({number}).{suffix}" if dot else f"{stem} ({number})")
        self._next[first] = number
        self._taken.add(self.key(path))
        return path

    @staticmethod
    def key(path: PurePosixPath) -> str:
        """What is the same for paths that some file system does not tell apart."""
        return unicodedata.normalize("NFKD", str(path)).casefold()
