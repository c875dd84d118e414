"""File names that any file system takes, and that never clash."""

from __future__ import annotations

import re
import unicodedata
from pathlib import PurePosixPath

MAX_NAME_BYTES = 180  # 255 on most file systems; room for a suffix and for encrypted ones
FORBIDDEN = re.compile(r'[\x00-\x1f\x7f<>:"/\\|?*]')
DEVICES = re.compile(r"(?i)^(con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³])$")


def safe_name(name: str) -> str:
    """`name` without what some file system forbids (FAT, NTFS, exFAT, ext4, HFS+); never empty."""
    plain = unicodedata.normalize("NFC", name)
    plain = FORBIDDEN.sub("_", plain)
    plain = "".join("_" if unicodedata.category(c) in ("Cs", "Cc") else c for c in plain)
    plain = plain.rstrip(". ").lstrip(" ") or "_"
    if plain in (".", ".."):
        plain = "_"
    stem, dot, suffix = plain.rpartition(".")
    if not dot or not stem or len(suffix) > 16:
        stem, suffix = plain, ""
    if DEVICES.match(stem.split(".")[0].rstrip(" ")):
        stem = f"_{stem}"
    room = MAX_NAME_BYTES - len(suffix.encode()) - 1
    stem = stem.encode()[:room].decode("utf-8", "ignore").rstrip(". ") or "_"
    return f"{stem}.{suffix}" if suffix else stem


def safe_path(path: str) -> PurePosixPath:
    """The folders of `path`, each made safe; never absolute, never upwards."""
    parts = [safe_name(p) for p in path.replace("\\", "/").split("/") if p not in ("", ".", "..")]
    return PurePosixPath(*parts) if parts else PurePosixPath()


class Names:
    """Hands out paths that differ even where case and accents do not count."""

    def __init__(self) -> None:
        self._taken: set[str] = set()

    def unique(self, folder: PurePosixPath, name: str) -> PurePosixPath:
        """`folder`/`name`, with ' (2)' and so on before the suffix where that is taken."""
        plain = safe_name(name)
        stem, dot, suffix = plain.rpartition(".")
        if not dot:
            stem, suffix = plain, ""
        path, number = folder / plain, 1
        while self._key(path) in self._taken:
            number += 1
            path = folder / (f"{stem} ({number}).{suffix}" if dot else f"{stem} ({number})")
        self._taken.add(self._key(path))
        return path

    @staticmethod
    def _key(path: PurePosixPath) -> str:
        return unicodedata.normalize("NFKD", str(path)).casefold()
