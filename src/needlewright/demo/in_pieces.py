"""What a nearly full card does: photos in the gaps that there are, two clips written in turns.

All of it is removed again, which zeroes the chains. Where the gaps were between files that are
still there, the free clusters tell what follows; where those are removed too, nothing does.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from itertools import pairwise
from typing import Protocol, TypeVar

import numpy as np

from needlewright.demo import clips
from needlewright.demo.fat32 import Entry, Fat32Volume

SEED = 20310601
FOLDER = "DCIM/106BRKFD"
PLACES = ("Lower Fernbeck", "Mill leat", "Reedmouth weir")
#: How many parts of ten of each photo stand in line before the next gap.
PARTS = ((6,), (3, 7), (4,))
BY_HAND = "BF_0251.JPG"  # whose pieces the tour joins by hand
STAY, BACKWARDS = 0, 2  # the photo between whose pieces files stay; the one written end first
TURN_BYTES = 1 << 17  # of one clip, before the other one's turn
CLIP_SECONDS, CLIP_SIZE = 7.0, (640, 360)
Shot = TypeVar("Shot")


class Cardlike(Protocol):
    """The card as this module writes to it."""

    volume: Fat32Volume

    def write(self, folder: str, name: str, data: bytes, when: datetime, kind: str,
              at_cluster: int | None = None) -> Entry: ...

    def write_pieces(self, folder: str, name: str, data: bytes, when: datetime, kind: str,
                     runs: tuple[tuple[int, int], ...]) -> Entry: ...

    def remove(self, entry: Entry) -> None: ...


def shots(make: type[Shot], after: datetime) -> list[Shot]:
    """The photos that are written into gaps, made with the card's own `make`."""
    return [make(  # type: ignore[call-arg]
        FOLDER.rpartition("/")[2], f"BF_{250 + i:04d}.JPG", SEED + i, 2048, 1536,
        after + timedelta(hours=6, minutes=9 * i), place, 88, False, 0)
        for i, place in enumerate(PLACES)]


def write(card: Cardlike, drawn: Sequence[bytes], last: datetime) -> None:
    """Write it all behind everything else, and remove it."""
    when = last + timedelta(hours=6)
    gone: list[Entry] = []
    for i, data in enumerate(drawn):
        gone += _in_gaps(card, f"BF_{250 + i:04d}.JPG", data, when + timedelta(minutes=9 * i), i)
    gone += _in_turns(card, when + timedelta(hours=1))
    for entry in gone:
        card.remove(entry)


def _in_gaps(card: Cardlike, name: str, data: bytes, when: datetime, which: int) -> list[Entry]:
    """One photo, whose pieces lie with other files between them; what is to be removed."""
    volume = card.volume
    count = volume.clusters_for(len(data))
    edges = [0, *(count * part // 10 for part in PARTS[which]), count]
    sizes = [end - begin for begin, end in pairwise(edges)]
    if which == BACKWARDS:
        sizes.reverse()
    runs, between = [], []
    for index, size in enumerate(sizes):
        if index:
            noise = np.random.default_rng(SEED + 10 * which + index)
            between.append(card.write("LATER", f"receiver {which}{index}.dat", noise.bytes(
                (3 + which) * volume.cluster_size - 700), when, "dat"))
        runs.append((volume.take(size), size))
    if which == BACKWARDS:
        runs.reverse()
    photo = card.write_pieces(FOLDER, name, data, when, "jpeg", tuple(runs))
    return [photo] if which == STAY else [photo, *between]


def _in_turns(card: Cardlike, when: datetime) -> list[Entry]:
    """Two clips that were recorded at once, a turn of clusters each."""
    volume = card.volume
    films = [clips.encode("mp4", "libx264", "aac", 61 + i, round(CLIP_SECONDS * clips.FPS),
                          CLIP_SIZE) for i in range(2)]
    turn = TURN_BYTES // volume.cluster_size
    left = [volume.clusters_for(len(film)) for film in films]
    runs: list[list[tuple[int, int]]] = [[], []]
    while any(left):
        for i in range(2):
            count = min(turn, left[i])
            if count:
                runs[i].append((volume.take(count), count))
                left[i] -= count
    return [card.write_pieces(FOLDER, f"BF_{260 + i:04d}.MP4", film, when, "mp4", tuple(runs[i]))
            for i, film in enumerate(films)]
