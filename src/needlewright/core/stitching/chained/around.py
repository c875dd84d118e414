"""Files that go on behind what others own: any format whose walk and decoder know a whole file.

A driver that finds no room in one piece fills what is free, stretch by stretch. Where the pieces of
a file reach from the beginning or to the end of such stretches, few ways to put them together are
left, and the format's own walk and its decoder say which of them is a file.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.core.decoders import Decoder
from needlewright.core.formats.base import Format
from needlewright.core.kernels.texture import Texture
from needlewright.core.stitching.base import Bench, Broken, Extents, Joined
from needlewright.core.stitching.chained.structured import (
    Reached,
    begun_in_line,
    join_structured,
    reached,
)
from needlewright.core.volumes.base import cut

NEAR_BYTES = 256 << 20  # in which stretches are looked for, on either side
MOST = (8, 24, 64)  # ways that are tried, by effort
STRETCHES = 24  # free ones that a piece may begin at
WORK = 5 << 29  # for one find and round
MAX_DECODED = 64 << 20  # bytes of a file that is decoded for it
MAX_LINE = 4096  # stretches one behind another
TO_THE_END = 1e9  # seconds
#: Decoders that say where they are not given what was coded; of others little can be concluded.
STRICT = frozenset((Decoder.CLIP, Decoder.DATABASE))

Pieces = tuple[tuple[int, int], ...]


@dataclass(frozen=True, slots=True)
class _Way:
    """Pieces that are a file for the walk: `used` of them to its last byte."""

    used: Pieces
    extents: Extents
    unproven: bool


def join_around(broken: Broken, bench: Bench) -> Joined | None:
    """The file over the free stretches around; None where none of them makes it whole."""
    begun = begun_in_line(broken, bench)
    if begun is None:
        return None  # or what is broken in it is not that it ends
    form, here = begun
    good: list[_Way] = []
    until = bench.until(WORK)
    for way in _ways(bench, form, here.clusters[0], until):
        if not _opens(bench, broken.format, form, way):
            continue
        good.append(way)
        if form.checked or len(good) > 1:
            break
    if not good:
        return join_structured(broken, bench)  # by what stands where the next item must be
    return _joined(form, good[0], len(good) == 1, bench.pool.unit)


def _joined(form: Format, way: _Way, alone: bool, unit: int) -> Joined:
    sure = alone and not way.unproven and (form.checked or form.decoder in STRICT)
    reasons = [Reason("checksum", {"bytes": sum(n for _, n in way.extents)})] if (
        form.checked) else [Reason("behind-others")]
    if alone:
        reasons.append(Reason("only-place"))
    seams, at = [], 0
    for (start, count), (following, _) in pairwise(way.used):
        at += count
        if start + count != following:
            seams.append(Seam(at * unit, SeamWord.PROVEN if sure else SeamWord.LIKELY,
                              tuple(reasons)))
    return Joined(way.extents, tuple(seams), True)


def _ways(bench: Bench, form: Format, head: tuple[int, int], until: int) -> Iterator[_Way]:
    """Ways to go on from the piece `head` that the walk takes for a whole file, up to this
    mark of the bench's meter."""
    seen: set[Pieces] = set()
    for tried, pieces in enumerate(_orders(bench, head)):
        bench.rest()
        late = tried and bench.beyond(until)
        if late or tried >= MOST[min(bench.effort, len(MOST) - 1)]:
            return
        here = reached(bench, form, pieces)
        if here is None or not here.ended or here.walk is None:
            continue
        way = _used(bench, here)
        told = form.checked or form.decoder in STRICT
        if len(way.used) > 1 and way.used not in seen and (told or _alike(bench, way.used)):
            seen.add(way.used)
            yield way


def _alike(bench: Bench, used: Pieces) -> bool:
    """Whether each piece begins with what the one before ends with, by Texture: all that speaks for
    it where nothing in a format does."""
    classes = bench.pool.classes
    return all(classes[a + n - 1] == classes[b] or Texture.BLANK in (classes[a + n - 1], classes[b])
               for (a, n), (b, _) in pairwise(used))


def _orders(bench: Bench, head: tuple[int, int]) -> Iterator[Pieces]:
    """Free stretches in the orders that drivers fill them: on and on; one or more passed over;
    round again from farther in front."""
    pool, first, stop = bench.pool, head[0], sum(head)
    reach = NEAR_BYTES // pool.unit
    behind = [s for s in pool.stretches(stop, stop + reach) if pool.is_free(s[0])]
    before = [s for s in pool.stretches(first - reach, first) if pool.is_free(s[0])]
    yield (head, *behind[:MAX_LINE])
    for skipped in range(1, min(STRETCHES, len(behind))):
        yield (head, *behind[skipped:MAX_LINE])
    for number in range(len(before) - 1, max(-1, len(before) - 1 - STRETCHES), -1):
        yield (head, *before[number:MAX_LINE], *behind[:MAX_LINE])
    for one in range(min(STRETCHES, len(behind))):
        for other in range(one + 2, min(STRETCHES, len(behind))):
            yield (head, behind[one], *behind[other:MAX_LINE])


def _used(bench: Bench, here: Reached) -> _Way:
    """What of the pieces a walk used up to the file's end."""
    assert here.walk is not None
    unit, left, used = bench.pool.unit, here.walk.stop, list[tuple[int, int]]()
    for start, count in here.clusters:
        if left <= 0:
            break
        used.append((start, min(count, -(-left // unit))))
        left -= count * unit
    pieces = tuple((bench.pool.start(start), count * unit) for start, count in used)
    return _Way(tuple(used), cut(pieces, here.walk.stop), bool(here.walk.unproven))


def _opens(bench: Bench, name: str, form: Format, way: _Way) -> bool:
    """Whether the decoder takes it; where there is none, the walk alone says so."""
    decoder = next((v.decoder for v in (form.plain, *form.variants) if v.name == name), "")
    if not decoder:
        return True
    size = sum(length for _, length in way.extents)
    return size > MAX_DECODED or bench.ask(way.extents, 0.0, TO_THE_END, decoder)
