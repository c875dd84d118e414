"""The survey's field phone: what its folders hold, drawn from a seed."""

from __future__ import annotations

import os
import shutil
import sqlite3
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

from needlewright.demo import clips, photos, scenes

FIRST = datetime(2031, 5, 9, 4, 41, tzinfo=UTC)
SIZE = (1280, 960)
PHOTOS, REMOVED, ON_CARD = 14, 3, 6
DAYS_LEFT = (3, 12, 26)
SEED = 4200
ON_CARD_FROM = 60


def draw(place: Path) -> list[dict[str, str]]:
    """Write the folders of both stores into `place`; the stores as the phone describes them."""
    inner, card = place / "inner", place / "card"
    for old in (inner, card):
        shutil.rmtree(old, ignore_errors=True)  # names hold the day on which they are purged
    camera = inner / "DCIM" / "Camera"
    for folder in (camera, inner / "Pictures" / "Screenshots", inner / "Recordings",
                   inner / "Pictures" / "Decoys", inner / "Documents", card / "DCIM" / "200FERNB"):
        folder.mkdir(parents=True, exist_ok=True)
    for number in range(PHOTOS):
        _photo(camera / name_of(number), number)
    for number in range(REMOVED):
        until = int(time.time()) + DAYS_LEFT[number] * 86_400
        _photo(camera / f".trashed-{until}-FP_{number + 281:04}.jpg", 40 + number)
    for number in range(ON_CARD):
        number += ON_CARD_FROM
        _photo(card / "DCIM" / "200FERNB" / name_of(number), number)
    for number in range(2):
        _write(inner / "Pictures" / "Screenshots" / f"Screenshot_{number + 1}.png",
               photos.encode_chart(scenes.draw_chart(SEED + number, 720, 1280, "Sightings")),
               number)
    _photo(inner / "Pictures" / "Decoys" / "FP_0299.jpg", 80)
    (inner / "Pictures" / "Decoys" / ".nomedia").touch()
    clip = clips.encode("mp4", "libx264", "aac", SEED, 60, (640, 360))
    _write(camera / "FP_0314.mp4", clip, PHOTOS - 1)  # goes with the photo of that name
    _write(inner / "Recordings" / "Voice 001.m4a", clips.record("mp4", "aac", SEED, 2.0), 21)
    _messages(inner / "Documents" / "messages.db")
    return [{"label": "Inner storage", "kind": "inner", "folder": str(inner)},
            {"label": "Card", "kind": "card", "folder": str(card)}]


def taken(number: int) -> datetime:
    """When a photo was taken."""
    return FIRST + timedelta(hours=13 * (number % 20), minutes=7 * number)


def name_of(number: int) -> str:
    """What the phone calls a photo."""
    return f"FP_{number + (41 if number >= ON_CARD_FROM else 301):04}.jpg"


def photo_bytes(number: int) -> bytes:
    """The JPEG of one photo."""
    when = taken(number)
    caption = f"Fernbeck Valley otter survey   {when:%d %b}"
    picture = scenes.draw_photo(SEED + number, *SIZE, caption)
    return photos.encode_photo(picture, f"{when:%Y:%m:%d %H:%M:%S}", 100, 86)


def _photo(path: Path, number: int) -> None:
    _write(path, photo_bytes(number), number)


def _write(path: Path, data: bytes, number: int) -> None:
    path.write_bytes(data)
    when = taken(number).timestamp()
    os.utime(path, (when, when))


def _messages(path: Path) -> None:
    """A database that is in use: what was written last stands in its log alone."""
    work = path.with_name("being written")
    base = sqlite3.connect(work, isolation_level=None)
    base.execute("PRAGMA journal_mode=WAL")
    base.execute("PRAGMA wal_autocheckpoint=0")
    base.execute("CREATE TABLE messages (id INTEGER PRIMARY KEY, sender TEXT, sent TEXT, "
                 "text TEXT)")
    base.executemany("INSERT INTO messages (sender, sent, text) VALUES (?, ?, ?)", [
        (("Hollow Bank", "Reed Island")[n % 2], f"2031-05-{n % 20 + 1:02}T05:{n % 60:02}",
         f"Otter number {n} seen by the weir") for n in range(60)])
    base.execute("DELETE FROM messages WHERE id % 7 = 0")
    base.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    base.executemany("INSERT INTO messages (sender, sent, text) VALUES (?, ?, ?)", [
        ("Weir Cottage", f"2031-05-22T06:{n:02}", f"Cub number {n} is in the holt")
        for n in range(5)])
    for ending in ("", "-wal"):  # closing it would write the log into it
        copy = path.with_name(path.name + ending)
        copy.write_bytes(work.with_name(work.name + ending).read_bytes())
        os.utime(copy, (taken(19).timestamp(), taken(19).timestamp()))
    base.close()
    work.unlink()
