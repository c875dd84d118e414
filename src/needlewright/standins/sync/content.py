"""What the survey's synchronised folder holds, drawn from a seed: photos, notes, what was removed,
and older versions of two files.
"""

from __future__ import annotations

import io
import os
from datetime import datetime
from pathlib import Path

from PIL import Image

from needlewright.standins.phone.content import name_of, photo_bytes, taken

PHOTOS, REMOVED, CHANGED = range(0, 10), range(10, 13), (2, 5)
REMOVED_ITEMS = "Removed items"
CHANGED_ON = datetime(2031, 6, 2, 9, 30)
NOTES = "Fernbeck Valley otter survey: {what}\n\nHollow Bank, Reed Island, Weir Cottage.\n"


def draw(place: Path) -> tuple[Path, Path]:
    """Draw it into `place`: (the folder, where older versions lie)."""
    top, versions = place / "folder", place / "versions"
    for number in PHOTOS:
        data = photo_bytes(number)
        name = f"Photos/{name_of(number)}"
        if number in CHANGED:  # a small copy was laid over it when it was synchronised
            _write(versions / name / "1.jpg", data, taken(number))
            _write(top / name, _smaller(data), CHANGED_ON)
        else:
            _write(top / name, data, taken(number))
    for number in REMOVED:
        _write(top / REMOVED_ITEMS / "Photos" / name_of(number), photo_bytes(number),
               taken(number))
    _write(top / "Notes" / "holts.txt", NOTES.format(what="holts, second count").encode(),
           CHANGED_ON)
    _write(versions / "Notes" / "holts.txt" / "1.txt",
           NOTES.format(what="holts, first count").encode(), taken(3))
    return top, versions


def _write(path: Path, data: bytes, when: datetime) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    os.utime(path, (when.timestamp(), when.timestamp()))


def _smaller(data: bytes) -> bytes:
    with Image.open(io.BytesIO(data)) as picture:
        facts = picture.getexif().tobytes()
        picture.thumbnail((640, 640))
        out = io.BytesIO()
        picture.save(out, "JPEG", quality=70, exif=facts)
        return out.getvalue()
