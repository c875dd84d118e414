"""Finds of all sources of a job compared: which are the same bytes, which the same picture in
another size, and which bear the same name and time.

The same picture: the same signs of light against dark between neighbours on a coarse grid (128 of
them, a perceptual hash), the same proportions, and the same name or moment; a burst of photos looks
alike, so that what might be any of several is none of them.
"""

from __future__ import annotations

import hashlib
import io
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from needlewright.core.checks.grading import Grade
from needlewright.core.codes import SAME_BYTES, SAME_NAME, SAME_PICTURE
from needlewright.core.contents import Brought, Stored
from needlewright.core.errors import NeedlewrightError
from needlewright.core.jobfile.labels import MISSING
from needlewright.core.jobfile.rows import Filter, FindRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.already import HASHED, SOUND
from needlewright.core.jobs.media import Media
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.shelf import is_distant
from needlewright.core.stopping import Interrupted, StopSignal

PHONE = "phone"  # a kind of source
SIDE = 8  # comparisons a row and a column
NEAR = 8  # of 128 that may differ
PROPORTION = 0.03  # by which width over height may differ
MOST_ALIKE = 32  # finds of one name and time; more are no versions of one file
AT_ONCE = 256  # rows that are compared with all others,
ACROSS = 8192  # ... so many of those at a time
Prints = NDArray[np.uint64]


@dataclass(frozen=True, slots=True)
class Comparing:
    """How far a comparison is: finds that were looked at."""

    done: int
    total: int


@dataclass(frozen=True, slots=True)
class Versions:
    """Two finds of different sources that are the same. `relation`: SAME_BYTES or SAME_PICTURE."""

    one: int
    other: int
    relation: str


def print_of(thumbnail: bytes) -> tuple[int, int] | None:
    """The perceptual hash of a small picture; None where it shows nothing to compare by."""
    try:
        with Image.open(io.BytesIO(thumbnail)) as picture:
            grey = picture.convert("L").resize((SIDE + 1, SIDE + 1), Image.Resampling.BOX)
    except (OSError, ValueError):
        return None
    light = np.asarray(grey, np.int16)
    if int(light.max()) - int(light.min()) < 16:
        return None  # a plain surface is like any other
    across = light[:SIDE, 1:] > light[:SIDE, :SIDE]
    down = light[1:, :SIDE] > light[:SIDE, :SIDE]
    return _word(across), _word(down)


def _word(signs: NDArray[np.bool_]) -> int:
    return int.from_bytes(np.packbits(signs.ravel()).tobytes(), "big")


def compare(job: Job, stop: StopSignal) -> Iterator[Comparing | Versions]:
    """Compare all finds of different sources, and keep which are the same in the job."""
    rows = [row for row in job.matching(Filter()) if row.grade != Grade.GONE and row.size]
    if len({row.source for row in rows}) < 2:
        return
    known: set[tuple[int, int]] = set()
    for relation, events in ((SAME_BYTES, _by_bytes(job, rows, stop)),
                             (SAME_PICTURE, _by_picture(job, rows, stop)),
                             (SAME_NAME, _by_name(rows))):
        pairs = []
        for event in events:
            if isinstance(event, Versions):
                if (event.one, event.other) in known:
                    continue  # more than that is known of them
                known.add((event.one, event.other))
                pairs.append((event.one, event.other))
            yield event
        if stop.is_set():
            return  # what is known from before stays
        job.links.replace(pairs, relation)
    if not stop.is_set():
        job.labels.replace(MISSING, {row.id: "" for row in missing_of(job, rows)})


def _by_bytes(job: Job, rows: Sequence[FindRow], stop: StopSignal) -> Iterator[
        Comparing | Versions]:
    by_size: dict[int, list[FindRow]] = defaultdict(list)
    for row in rows:
        by_size[row.size].append(row)
    alike = [group for group in by_size.values() if len({row.source for row in group}) > 1]
    total = sum(map(len, alike))
    done = 0
    with Media.of(job) as media:
        for group in alike:
            hashes: dict[str, list[FindRow]] = defaultdict(list)
            for row in group:
                try:
                    digest = _hash(job, row, media, stop)
                except Interrupted:
                    return
                if digest:
                    hashes[digest].append(row)
                done += 1
                yield Comparing(done, total)
            for same in hashes.values():
                yield from _all_the_same(same)


def _hash(job: Job, row: FindRow, media: Media, stop: StopSignal) -> str:
    """The SHA-256 of a find; "" where it cannot be read. Interrupted when `stop` is set."""
    if stop.is_set():
        raise Interrupted
    content = job.record(row.id).content
    if isinstance(content, Brought | Stored) and len(content.sha256) == HASHED:
        return content.sha256
    digest = hashlib.sha256()
    try:
        with media.opened(row, content) as file:
            for block in blocks(file, stop=stop):
                digest.update(block)
    except NeedlewrightError:
        return ""
    return digest.hexdigest()


def _all_the_same(same: Sequence[FindRow]) -> Iterator[Versions]:
    """Each find of the same bytes tied to one of every other source: there may be thousands of one
    content, and who knows one of them knows that it is there."""
    by_source: dict[int, list[FindRow]] = defaultdict(list)
    for row in sorted(same, key=lambda row: row.grade not in SOUND):
        by_source[row.source].append(row)
    told: set[tuple[int, int]] = set()
    for source, rows in by_source.items():
        for other, theirs in by_source.items():
            for row in rows if other != source else ():
                first, second = sorted((row.id, theirs[0].id))
                if (first, second) not in told:
                    told.add((first, second))
                    yield Versions(first, second, SAME_BYTES)


def _tied(same: Sequence[FindRow], relation: str) -> Iterator[Versions]:
    for number, one in enumerate(same):
        for other in same[number + 1 :]:
            if one.source != other.source:
                first, second = sorted((one.id, other.id))
                yield Versions(first, second, relation)


def _by_picture(job: Job, rows: Sequence[FindRow], stop: StopSignal) -> Iterator[
        Comparing | Versions]:
    pictures, prints = [], []
    for row in rows:
        if stop.is_set():
            return
        if row.has_thumbnail and row.width and row.height and row.kind == "photo":
            told = print_of(job.thumbnail(row.id))
            if told is not None:
                pictures.append(row)
                prints.append(told)
    if len(pictures) < 2:
        return
    every = np.array(prints, np.uint64)
    near: dict[int, list[int]] = defaultdict(list)
    for begin in range(0, len(every), AT_ONCE):
        if stop.is_set():
            return
        for one, other in _near(every, begin):
            if _may_be(pictures[one], pictures[other]):
                near[one].append(other)
        yield Comparing(min(len(every), begin + AT_ONCE), len(every))
    for one, others in near.items():
        by_source: dict[int, list[int]] = defaultdict(list)
        for other in others:
            by_source[pictures[other].source].append(other)
        for alike in by_source.values():
            # A photo, and the one that was taken just behind it, look the same.
            if len(alike) == 1 and _only(near[alike[0]], pictures, pictures[one].source) == one:
                yield from _tied([pictures[one], pictures[alike[0]]], SAME_PICTURE)
                near[alike[0]] = [n for n in near[alike[0]] if n != one]


def _by_name(rows: Sequence[FindRow]) -> Iterator[Versions]:
    """What bears the same name and was changed or taken in the same second."""
    for told in ("modified", "taken"):
        alike: dict[tuple[str, str], list[FindRow]] = defaultdict(list)
        for row in rows:
            when = getattr(row, told)
            if row.name and when:
                alike[row.name.casefold(), when[:19]].append(row)
        for group in alike.values():
            if 1 < len(group) <= MOST_ALIKE:
                yield from _tied(group, SAME_NAME)


def _only(numbers: Sequence[int], pictures: Sequence[FindRow], source: int) -> int | None:
    of_it = [number for number in numbers if pictures[number].source == source]
    return of_it[0] if len(of_it) == 1 else None


def _near(every: Prints, begin: int) -> Iterator[tuple[int, int]]:
    """Pairs of prints that differ in NEAR signs at most, one of them of the block at `begin`."""
    block = every[begin : begin + AT_ONCE]
    for first in range(0, len(every), ACROSS):
        across = every[first : first + ACROSS]
        differ = np.zeros((len(block), len(across)), np.uint16)
        for part in range(2):
            differ += _ones(block[:, None, part] ^ across[None, :, part])
        for one, other in zip(*np.nonzero(differ <= NEAR)):
            if begin + one != first + other:
                yield begin + int(one), first + int(other)


def _ones(words: Prints) -> NDArray[np.uint16]:
    """How many bits of each word are set."""
    return np.bitwise_count(words).astype(np.uint16)


def _may_be(one: FindRow, other: FindRow) -> bool:
    """Whether two pictures that look alike may be one, by what else is told of them."""
    if one.source == other.source:
        return False
    a, b = (row.width / row.height for row in (one, other) if row.width and row.height)
    if abs(a / b - 1) > PROPORTION:
        return False
    if one.taken and other.taken and one.taken[:19] != other.taken[:19]:
        return False
    named = bool(one.name and other.name)
    same_name = named and _stem(one) == _stem(other)
    same_moment = bool(one.taken and other.taken)
    return same_name or (same_moment and not named)


def _stem(row: FindRow) -> str:
    return Path(row.name or "").stem.casefold()


def versions_of(job: Job, number: int) -> list[tuple[int, str]]:
    """(find, relation) of each find of another source that is the same."""
    found = []
    for relation in (SAME_BYTES, SAME_PICTURE, SAME_NAME):
        for back in (False, True):
            found += [(other, relation) for other in job.links.of(number, relation, back)]
    return found


def _is_missing(row: FindRow, versions: Sequence[tuple[FindRow, str]],
                first: frozenset[int] | None) -> bool:
    """Whether a find adds to what the job has: nowhere else are the same bytes whole, nor the same
    picture as large, nor, of a damaged one, a whole file of that name and time. `first`: sources
    that come before its own where two are equally good, all where None."""
    return not any(other.grade in SOUND and _is_as_good(
        other, row, relation, first is None or other.source in first)
        for other, relation in versions)


def _is_as_good(theirs: FindRow, mine: FindRow, relation: str, comes_first: bool) -> bool:
    if relation == SAME_NAME:
        # Of the same name with other content it is another version, unless mine is damaged.
        return mine.grade not in SOUND
    if relation == SAME_BYTES:
        return comes_first
    pixels, others = ((row.width or 0) * (row.height or 0) for row in (mine, theirs))
    return others > pixels or (others == pixels and comes_first)


def missing_of(job: Job, rows: Sequence[FindRow], source: int | None = None) -> list[FindRow]:
    """The ones among `rows` that add to what other sources have: of the source `source` alone, or
    of every shelf that is elsewhere where it is None; one of each content. What a phone holds and
    has not removed is what its owner still has, and is not missing."""
    every = [row.id for row in job.sources()]
    distant = {row.id for row in job.sources() if is_distant(row.kind)}
    # Where several shelves are, those that were taken in before come first, and before them
    # everything in a line and in folders.
    first = {own: None if source is not None else frozenset(
        number for number in every if number not in distant or number < own) for own in every}
    mine = {source} if source is not None else distant
    phones = {row.id for row in job.sources() if row.kind == PHONE}
    versions = _every_version(job)
    return [row for row in rows if row.source in mine and row.grade != Grade.GONE
            and (row.removed or row.source not in phones)
            and _is_missing(row, versions.get(row.id, ()), first[row.source])]


def _every_version(job: Job) -> dict[int, list[tuple[FindRow, str]]]:
    """(row, relation) of all that is the same as each find of which anything is."""
    pairs = [(one, other, relation) for relation in (SAME_BYTES, SAME_PICTURE, SAME_NAME)
             for one, other in job.links.all(relation)]
    rows = {row.id: row for row in job.rows(sorted({n for pair in pairs for n in pair[:2]}))}
    found: dict[int, list[tuple[FindRow, str]]] = defaultdict(list)
    for one, other, relation in pairs:
        for mine, theirs in ((one, other), (other, one)):
            if theirs in rows:
                found[mine].append((rows[theirs], relation))
    return found
