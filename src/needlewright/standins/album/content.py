"""What the survey's album holds, drawn from a seed: photos of the field phone in their full size,
smaller copies, what was removed lately, and what another field worker shares.
"""

from __future__ import annotations

import hashlib
import io
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from PIL import Image

from needlewright.standins.phone.content import name_of, photo_bytes, taken

USER, PASSWORD = "hollow.bank", "reeds at dawn"
PRESENT, REMOVED, SHARED = range(0, 14), range(14, 18), range(60, 63)
DAYS_KEPT, REMOVED_DAYS_AGO = 30, 4
REDUCED_SIDE, SMALL_SIDE = 640, 160


def draw(place: Path) -> list[dict[str, Any]]:
    """Draw the album into `place`; its items with their files, as `server.Held` wants them."""
    now = datetime.now(UTC)
    items = []
    for number in (*PRESENT, *REMOVED, *SHARED):
        data = photo_bytes(number)
        files = {"original": place / f"{number}.jpg", "reduced": place / f"{number}-reduced.jpg",
                 "small": place / f"{number}-small.jpg"}
        files["original"].write_bytes(data)
        files["reduced"].write_bytes(_smaller(data, REDUCED_SIDE, keep_facts=True))
        files["small"].write_bytes(_smaller(data, SMALL_SIDE))
        when = int(taken(number).replace(tzinfo=UTC).timestamp())
        shared = number in SHARED
        folder = "Weir Cottage" if shared else f"Field phone/{taken(number):%Y-%m}"
        told: dict[str, Any] = {
            "id": f"i{number}", "path": f"{folder}/{name_of(number)}", "created": when,
            "modified": when, "state": "shared" if shared else "present",
            "original": _told(files["original"]), "reduced": _told(files["reduced"])}
        if shared:
            told["shared_by"] = "Weir Cottage"
        if number in REMOVED:
            gone = now - timedelta(days=REMOVED_DAYS_AGO, hours=number)
            told |= {"state": "removed", "removed": int(gone.timestamp()),
                     "kept_until": int((gone + timedelta(days=DAYS_KEPT)).timestamp())}
        items.append({"told": told, "files": {name: str(path) for name, path in files.items()}})
    return items


def _told(path: Path) -> dict[str, Any]:
    data = path.read_bytes()
    return {"size": len(data), "sha256": hashlib.sha256(data).hexdigest()}


def _smaller(data: bytes, side: int, keep_facts: bool = False) -> bytes:
    with Image.open(io.BytesIO(data)) as picture:
        facts = picture.getexif() if keep_facts else None
        picture.thumbnail((side, side))
        out = io.BytesIO()
        picture.save(out, "JPEG", quality=72, **({"exif": facts.tobytes()} if facts else {}))
        return out.getvalue()
