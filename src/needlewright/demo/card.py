"""The stream card: the memory card of the survey's trail camera at the stream.

1 GiB, FAT32, 8 KiB clusters; some sixty photos, thirty-five of them removed, of which later files
have overwritten three in part and one wholly; clips and calls recorded beside them, of which one
clip is overwritten in its middle. When the card was nearly full, three photos were written into
what gaps there were and two clips in turns; these are removed as well (see `in_pieces`). A folder
holds what somebody rescued before and what does not open (see `rescued`). Drawn from a seed: the
same bytes on every machine. Beside it lies a truth file, against which tests compare.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import subprocess
import sys
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from datetime import datetime, timedelta
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np
import platformdirs

from needlewright.core import processes
from needlewright.core.errors import JobError
from needlewright.demo import clips, in_pieces, photos, rescued, scenes
from needlewright.demo.alone import alone_in
from needlewright.demo.fat32 import Entry, Fat32Volume

VERSION = 6  # changes with every byte of the card
SEED = 20310512
IMAGE_SIZE = 1 << 30
CARD, TRUTH = "stream card.img", "stream card.truth.json"
SIZES = ((1632, 1224), (2048, 1536), (2592, 1944), (1536, 2048), (3264, 2448), (1632, 1224))
PLACES = ("Reedmouth weir", "Alder bend", "Lower Fernbeck", "Mill leat", "Otter holt 7")
PHOTOS_PER_FOLDER = 28
CHARTS = 5
MEDIA = frozenset(("jpeg", "png", "mp4", "mov", "avi", "wav", "mp3"))
#: (name, container, picture coding, sound coding, seconds) of the clips; the last is overwritten
CLIPS = (
    ("BF_0301.MP4", "mp4", "libx264", "aac", 8.0), ("BF_0302.MOV", "mov", "libx264", "aac", 6.0),
    ("BF_0303.AVI", "avi", "mjpeg", "pcm_s16le", 3.0),
    ("BF_0304.MP4", "mp4", "libx264", "aac", 9.0))
CALLS = (("Calls at Otter holt 7.wav", "wav", "pcm_s16le"), ("Dawn at Alder bend.mp3", "mp3",
                                                             "libmp3lame"))
CLIP_SIZE = (640, 360)
DAY_ONE = datetime(2031, 5, 12, 4, 51, 8)


@dataclass(frozen=True, slots=True)
class Shot:
    """One photo to draw: where it goes, what it shows, how it is coded."""

    folder: str
    name: str
    seed: int
    width: int
    height: int
    taken: datetime
    place: str
    quality: int
    progressive: bool
    restart_rows: int


def shots() -> list[Shot]:
    """The photos of the card, in the order in which they were taken."""
    rng = np.random.default_rng(SEED)
    found = []
    when = DAY_ONE
    for index in range(2 * PHOTOS_PER_FOLDER):
        width, height = SIZES[int(rng.integers(len(SIZES)))]
        when += timedelta(seconds=int(rng.integers(40, 9000)))
        folder = "104BRKFD" if index < PHOTOS_PER_FOLDER else "105BRKFD"
        found.append(Shot(
            folder, f"BF_{188 + index:04d}.JPG", SEED + index, width, height, when,
            PLACES[int(rng.integers(len(PLACES)))], int(rng.integers(84, 93)),
            index % 11 == 7, int(index % 9 == 4)))
    return found


def draw_shot(shot: Shot) -> bytes:
    """The JPEG of one shot."""
    caption = (f"Fernbeck Valley otter survey    {shot.place}    {shot.taken:%d %b %Y %H:%M}    "
               f"TC-4")
    picture = scenes.draw_photo(shot.seed, shot.width, shot.height, caption)
    exposure = 60 + shot.seed % 7 * 40
    return photos.encode_photo(picture, f"{shot.taken:%Y:%m:%d %H:%M:%S}", exposure, shot.quality,
                               shot.progressive, shot.restart_rows)


def draw_chart(index: int) -> bytes:
    """The PNG of one chart."""
    title = f"Otter sightings by week, {PLACES[index % len(PLACES)]}"
    return photos.encode_chart(scenes.draw_chart(SEED + 900 + index, 2000, 1200, title))


def draw_clip(index: int) -> bytes:
    """One clip."""
    _, container, pictures, sound, seconds = CLIPS[index]
    return clips.encode(container, pictures, sound, SEED % 1000 + index,
                        round(seconds * clips.FPS), CLIP_SIZE)


def _notes(lines: int) -> bytes:
    rng = np.random.default_rng(SEED + 77)
    rows = ["time;place;otters;weather"]
    for line in range(lines):
        place = PLACES[int(rng.integers(len(PLACES)))]
        rows.append(f"{(DAY_ONE + timedelta(minutes=7 * line)):%Y-%m-%d %H:%M};{place};"
                    f"{int(rng.integers(0, 4))};{('mist', 'clear', 'rain')[line % 3]}")
    return "\n".join(rows).encode()


def _tracks(size: int) -> bytes:
    """Receiver tracks: dense numbers that look random to any tool."""
    return np.random.default_rng(SEED + 88).integers(0, 256, size, dtype=np.uint8).tobytes()


class Card:
    """Writes the card and remembers what lies where."""

    def __init__(self, volume: Fat32Volume) -> None:
        self.volume = volume
        self.folders: dict[str, Entry] = {"": volume.root}
        self.files: list[dict[str, Any]] = []
        self.entries: list[Entry] = []

    def folder(self, path: str, when: datetime) -> Entry:
        if path not in self.folders:
            above, _, name = path.rpartition("/")
            self.folders[path] = self.volume.make_folder(self.folder(above, when), name, when)
        return self.folders[path]

    def write(self, folder: str, name: str, data: bytes, when: datetime, kind: str,
              at_cluster: int | None = None) -> Entry:
        entry = self.volume.write_file(self.folder(folder, when), name, data, when, at_cluster)
        return self._note(entry, folder, data, kind)

    def write_pieces(self, folder: str, name: str, data: bytes, when: datetime, kind: str,
                     runs: tuple[tuple[int, int], ...]) -> Entry:
        """Write a file into runs of clusters that were taken for it."""
        entry = self.volume.write_pieces(self.folder(folder, when), name, data, when, runs)
        return self._note(entry, folder, data, kind)

    def _note(self, entry: Entry, folder: str, data: bytes, kind: str) -> Entry:
        self.entries.append(entry)
        extents, left = [], len(data)
        for first, count in entry.runs:
            length = min(left, count * self.volume.cluster_size)
            extents.append([self.volume.offset(first), length])
            left -= length
        self.files.append({
            "path": f"{folder}/{entry.name}", "size": len(data),
            "sha256": hashlib.sha256(data).hexdigest(), "kind": kind,
            "media": kind in MEDIA,
            "extents": extents, "state": "live",
            "intact": True, "intact_bytes": len(data), "lost_ranges": [],
            "modified": entry.modified.isoformat(),
        })
        return entry

    def remove(self, entry: Entry) -> None:
        self.volume.remove(entry)
        self.files[self.entries.index(entry)]["state"] = "deleted"

    def overwrite(self, victim: Entry, name: str, data: bytes, when: datetime, kind: str,
                  skip_clusters: int) -> None:
        """Write a later file over the clusters of a removed one, and note what that lost."""
        first = victim.first_cluster + skip_clusters
        self.write("LATER", name, data, when, kind, at_cluster=first)
        lost_from = skip_clusters * self.volume.cluster_size
        sectors = -(-len(data) // 512) * 512
        lost = min(sectors, victim.size - lost_from)
        truth = self.files[self.entries.index(victim)]
        truth["lost_ranges"] = [[lost_from, lost]]
        truth["intact"] = False
        truth["intact_bytes"] = victim.size - lost
        wholly = lost == victim.size
        truth["state"] = "overwritten_fully" if wholly else "overwritten_partly"


def _lay_out(volume: Fat32Volume, jpegs: Iterator[bytes], charts: list[bytes]) -> Card:
    card = Card(volume)
    listed = shots()
    taken: list[Entry] = []
    gaps = np.random.default_rng(SEED + 3)
    for index, (shot, data) in enumerate(zip(listed, jpegs)):
        if index % 6 == 3:  # long clips were here once; the card has cleared them since
            volume.next_free += int(gaps.integers(5000, 16_000))
        if index % 12 == 5:
            card.write("NOTES", f"watch {index // 12 + 1}.csv", _notes(220 + 40 * index),
                       shot.taken, "csv")
        taken.append(card.write(f"DCIM/{shot.folder}", shot.name, data, shot.taken, "jpeg"))
    last = listed[-1].taken
    plots = [
        card.write("CHARTS", f"Sightings at {PLACES[i % len(PLACES)]}, week 20.png", chart, last,
                   "png") for i, chart in enumerate(charts[:CHARTS])]
    card.write("NOTES", "read me first.txt", b"Stream card, Fernbeck Valley otter survey.\n", last,
               "txt")
    # Removed: most of the first folder, some of the second, two charts; thirty-five in all.
    rng = np.random.default_rng(SEED + 5)
    removed = [taken[i] for i in sorted(rng.permutation(PHOTOS_PER_FOLDER)[:24].tolist())]
    later = rng.permutation(np.arange(PHOTOS_PER_FOLDER, 2 * PHOTOS_PER_FOLDER))[:9]
    removed += [taken[i] for i in sorted(later.tolist())]
    removed += plots[1:3]
    for entry in removed:
        card.remove(entry)
    films = [card.write("DCIM/105BRKFD", name, draw_clip(index), last, container)
             for index, (name, container, _, _, _) in enumerate(CLIPS)]
    for index, (name, container, coding) in enumerate(CALLS):
        card.write("CALLS", name, clips.record(container, coding, 40 + index, 7.0), last, container)
    card.remove(films[0])
    card.remove(films[-1])
    card.overwrite(films[-1], "tracks 3.dat", _tracks(2 * volume.cluster_size),
                   last + timedelta(hours=4), "dat",
                   volume.clusters_for(films[-1].size) * 6 // 10)
    _overwrite_some(card, [e for e in removed if e in taken], charts[CHARTS], last)
    in_pieces.write(card, [draw_shot(shot) for shot in in_pieces.shots(Shot, last)], last)
    rescued.write(card, [draw_shot(shot) for shot in rescued.shots(Shot, last)],
                  clips.encode("mp4", "libx264", "aac", SEED % 1000 + 9, 200, CLIP_SIZE), last)
    return card


def _overwrite_some(card: Card, removed: list[Entry], chart: bytes, last: datetime) -> None:
    size = card.volume.cluster_size
    tail, middle, head, whole = removed[3], removed[9], removed[15], removed[21]
    when = last + timedelta(hours=3)
    cut = card.volume.clusters_for(tail.size) * 6 // 10
    card.overwrite(tail, "all watches.csv", _notes(40_000)[: tail.size - cut * size + 900], when,
                   "csv", cut)
    card.overwrite(middle, "Sightings at all places.png", chart, when, "png",
                   card.volume.clusters_for(middle.size) * 4 // 10)
    card.overwrite(head, "tracks 1.dat", _tracks(16 * size), when, "dat", 3)
    card.overwrite(whole, "tracks 2.dat", _tracks(whole.size), when, "dat", 0)


def folder() -> Path:
    """Where the demo's media are kept between runs: the user's cache."""
    return Path(platformdirs.user_cache_dir("needlewright")) / "demo" / f"v{VERSION}"


def build(target: Path | None = None, told: Callable[[int, int], None] | None = None) -> Path:
    """The card in `target` (default: the user's cache), built if it is not there; its path.

    `told` is called with (photos drawn, photos in all). Drawn in a process of its own: the
    processes that draw inherit from it that they import nothing from the working directory.
    """
    place = (target or folder()).absolute()
    card = place / CARD
    if card.exists() and (place / TRUTH).exists():
        return card
    child = processes.start("needlewright.demo", str(place), stdin=subprocess.DEVNULL,
                            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    said = ""
    with child:
        assert child.stderr is not None
        for line in child.stderr:
            said = line.decode("utf-8", "replace").strip()
            if told and (match := re.fullmatch(r"(\d+) (\d+)", said)):
                told(int(match[1]), int(match[2]))
    if child.returncode:
        raise JobError("demo-failed", reason=said)
    return card


def draw(place: Path, told: Callable[[int, int], None] | None = None) -> Path:
    """Draw the card and write it into `place`, if it is not there yet; its path."""
    with alone_in(place):
        return _draw(place, told)


def _draw(place: Path, told: Callable[[int, int], None] | None) -> Path:
    card = place / CARD
    if card.exists() and (place / TRUTH).exists():
        return card
    unfinished = place / f".{os.getpid()}.unfinished"
    total = len(shots()) + CHARTS + 1
    try:
        # Spawned, not forked: the caller may have threads.
        with ProcessPoolExecutor(
                min(4, os.cpu_count() or 1), mp_context=get_context("spawn")) as pool:
            charts = pool.map(draw_chart, range(CHARTS + 1))
            jpegs = _counted(pool.map(draw_shot, shots()), told, total)
            with unfinished.open("wb") as out:
                volume = Fat32Volume(out, IMAGE_SIZE, 16, "FERNBECK_1", DAY_ONE)
                laid = _lay_out(volume, jpegs, list(charts))
                volume.finish()
        truth = {
            "image": CARD, "file_system": "fat32", "sector_size": 512,
            "cluster_size": volume.cluster_size, "partition_offset": 8192 * 512,
            "image_size": IMAGE_SIZE, "files": laid.files,
        }
        (place / TRUTH).write_text(json.dumps(truth, indent=1), encoding="utf-8")
        os.replace(unfinished, card)
    finally:
        unfinished.unlink(missing_ok=True)
    return card


def _counted(jpegs: Iterator[bytes], told: Callable[[int, int], None] | None,
             total: int) -> Iterator[bytes]:
    for done, data in enumerate(jpegs, 1):
        if told:
            told(done, total)
        yield data


def main() -> None:
    """Build the card and print its path; lines 'done total' go to standard error."""
    place = Path(sys.argv[1]) if len(sys.argv) > 1 else folder()
    path = draw(place, told=lambda done, total: print(done, total, file=sys.stderr, flush=True))
    print(path)


