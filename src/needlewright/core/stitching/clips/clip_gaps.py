"""A piece of a clip in which no sample begins: nothing tells it but that the frame decodes with it.

Such pieces are looked for last, when what is whole has left the pool: what remains of it in short
stretches fits exactly, or begins or ends where a stretch does.
"""

from __future__ import annotations

from collections.abc import Iterator

from needlewright.core.stitching.base import Extents
from needlewright.core.stitching.clips.clip_runs import AROUND_S, LONGER_S, Clip, Run, extents_of

LAST_EFFORT = 2
MAX_GAP = 48  # clusters between two anchors
NEAR = 8192  # clusters in which stretches are looked for, on either side
MAX_STRETCHES = 64
WORK, MAX_DECODES = 1 << 33, 400  # for one gap; for one clip and round


def inserted(clip: Clip, before: Run, after: Run) -> tuple[Run, bool] | None:
    """(the piece between two runs that touch neither in line, whether no other would do); the runs
    are cut where it begins and ends."""
    bench, apart = clip.bench, after.low - before.high
    if bench.decodes is None or bench.effort < LAST_EFFORT or apart > MAX_GAP:
        return None
    start = max(0.0, clip.index.time_of(before.high * clip.index.unit) - AROUND_S)
    stop = clip.index.time_of(after.low * clip.index.unit) + LONGER_S[0]
    until = clip.bench.until(WORK)
    good: list[tuple[Run, int, int]] = []
    late = False
    for run in _ways(clip, before, after):
        clip.bench.rest()
        late = clip.bench.beyond(until) or clip.decoded > MAX_DECODES
        if late or len(good) > 1:
            break
        clip.decoded += 1
        if clip.bench.ask(_with(clip, before, run, after), start, stop):
            good.append((run, run.first - 1, run.last + 1))
    if not good:
        return None
    run, last, first = good[0]
    before.last = last
    after.at, after.first = after.number(first), first
    clip.runs.insert(clip.runs.index(after), run)
    return run, len(good) == 1 and not late


def _with(clip: Clip, before: Run, run: Run, after: Run) -> Extents:
    cut = Run(before.first, run.first - 1, before.at, before.low, before.high)
    rest = Run(run.last + 1, after.last, after.number(run.last + 1), after.low, after.high)
    others = [r for r in clip.runs if r is not before and r is not after]
    runs = sorted([*others, cut, run, rest], key=lambda r: r.low)
    return extents_of(Clip(clip.bench, clip.index, clip.size, runs))


def _ways(clip: Clip, before: Run, after: Run) -> Iterator[Run]:
    """Runs that fill what is between, those that use up a stretch of free clusters first."""
    cuts = range(before.high, min(before.last, after.low - 2) + 1)
    goes_on = range(max(after.first, before.high + 2), after.low + 1)
    stretches = _stretches(clip, before, after)
    seen: set[tuple[int, int, int]] = set()
    for whole in (True, False):
        for first, count in stretches:
            for last in reversed(cuts):
                for begin in goes_on:
                    length = begin - last - 1
                    if length < 1 or length > count or (whole and length != count):
                        continue
                    for at in {first, first + count - length}:
                        key = last, begin, at
                        if key in seen:
                            continue
                        seen.add(key)
                        if all(clip.check(last + 1 + n, at + n) is not None
                               for n in range(length)):
                            yield Run(last + 1, begin - 1, at, last + 1, begin - 1)


def _stretches(clip: Clip, before: Run, after: Run) -> list[tuple[int, int]]:
    """(first cluster, how many) of free stretches of the pool, the nearest to either run first."""
    pool, here = clip.bench.pool, before.number(before.last)
    own = [(run.number(run.low), run.number(run.high) + 1) for run in clip.runs]
    found = pool.stretches(here - NEAR, here + NEAR, own)
    other = after.number(after.low)
    found.sort(key=lambda s: min(abs(s[0] - here), abs(s[0] + s[1] - other)))
    return found[:MAX_STRETCHES]
