"""Restores the first letter of removed short names from the names around them.

Cameras number their files, so a removed '?MG_0231.JPG' beside 'IMG_0230.JPG' hardly was anything
else. That stays a guess, and is told as one.
"""

from __future__ import annotations

from collections import Counter

from needlewright.core.volumes.fat.directory import LOST

MAX_SHAPES = 20_000  # that are remembered of a volume
FALLBACK = "_"
DIGITS = str.maketrans("0123456789", "#" * 10)
LETTERS = str.maketrans("ABCDEFGHIJKLMNOPQRSTUVWXYZ", "A" * 26)
# What the design rule for camera file systems and common practice begin names with.
USUAL = ("IMG_0000", "DSC00000", "DSC_0000", "DSCN0000", "MVI_0000", "VID_0000", "MOV00000",
         "PICT0000", "CLIP0000", "IMG00000", "TMP_0000", "100MEDIA", "P0000000")


def _shapes(name: str) -> tuple[str, str, str]:
    """Three ways to look at a name without its first letter, the closest first."""
    stem, _, suffix = name.upper().rpartition(".") if "." in name else (name.upper(), "", "")
    rest = stem[1:].translate(DIGITS)
    return f"{rest}.{suffix}", rest, rest.translate(LETTERS)


class Letters:
    """Learns names and tells the likeliest first letter of one that lost it."""

    def __init__(self) -> None:
        self._seen: dict[str, Counter[str]] = {}
        for name in USUAL:
            self._learn(name, 0)

    def learn(self, name: str, folder: str = "") -> None:
        """Take in a name that is known, as it stands in `folder`."""
        if name and name[0] != LOST:
            self._learn(name, 4)
            self._learn(name, 4, folder + "/")

    def _learn(self, name: str, weight: int, folder: str = "") -> None:
        for shape in _shapes(name):
            key = folder + shape
            if key not in self._seen and len(self._seen) >= MAX_SHAPES:
                return
            self._seen.setdefault(key, Counter())[name[0].upper()] += 1 + weight

    def restore(self, name: str, folder: str = "") -> tuple[str, bool]:
        """(the name with its likeliest first letter, whether anything suggested it)."""
        for place in (folder + "/", ""):
            for shape in _shapes(name):
                found = self._seen.get(place + shape)
                if found:
                    letter = found.most_common(1)[0][0]
                    small = len(name) > 1 and any(c.islower() for c in name.split(".")[0])
                    return (letter.lower() if small else letter) + name[1:], True
        return FALLBACK + name[1:], False
