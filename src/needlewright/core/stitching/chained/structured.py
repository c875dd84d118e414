"""Files that prove themselves step by step: checksums, counted pages, chained chunks.

The format's own walk is the judge. What is known behind a seam is where the next item begins; the
free clusters that have one there are candidates, and every cluster boundary between the last item
that is whole and the damage may be the seam. The walk must come clearly farther with a piece than
without; of those that do, the one that comes farthest is taken.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice

import numpy as np

from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.core.decoders import PLAYED, Decoder
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats.base import Format
from needlewright.core.formats.registry import form_of
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.stitching.base import Bench, Broken, Joined
from needlewright.core.stitching.chained.chains.base import Next, chain_of
from needlewright.core.volumes.base import cut
from needlewright.core.walks import Walk

NEAR, EVERYWHERE = 8192, 1 << 40
MAX_PIECES = 64
MAX_TURNS, MAX_WAYS = 12, 4  # decisions that are gone back on; pieces that are kept for it
MAX_CUTS = 40  # boundaries of one seam that are tried
MAX_TRIALS = 80  # walks for one seam
WORK = 3 << 29  # for one find and round
WALK_WORK, WALKED_WORK, PEEK_WORK = 1 << 16, 10, 1 << 10  # of a walk; of its bytes; of a look
ITEM_HEAD = 16  # bytes: what is expected may stand so far behind the beginning of the item
NEAR_SHARE = 0.3  # of the way that the best one goes: another that goes so far came near
MAX_DECODES, MAX_DECODED, ALL_OF_IT = 16, 64 << 20, 1e9  # of one seam; bytes of a file; seconds
MAX_LINE = 1 << 32  # bytes in line that are walked at once


@dataclass(frozen=True, slots=True)
class Reached:
    """How far the walk of some clusters came."""

    clusters: tuple[tuple[int, int], ...]  # pieces: first cluster and how many
    walk: Walk | None
    at: int  # byte of the file up to which it is its own
    noticed: int
    ended: bool

    @property
    def far(self) -> int:
        """Up to where nothing was noticed."""
        return max(self.at, self.noticed)


def join_structured(broken: Broken, bench: Bench) -> Joined | None:
    """Put together by the format's walk alone."""
    begun = begun_in_line(broken, bench)
    if begun is None or chain_of(begun[0].name) is None:
        return None
    return joined_on(bench, *begun)


def begun_in_line(broken: Broken, bench: Bench) -> tuple[Format, Reached] | None:
    """(format, how far what stands in line from its beginning is one file); None where that does
    not begin on the grid, or is all of it."""
    pool, form = bench.pool, form_of(broken.format)
    first = pool.number(broken.start)
    if form is None or pool.start(first) != broken.start or not 0 <= first < pool.count:
        return None
    here = reached(bench, form, ((first, in_line(bench, first)),))
    return None if here is None or here.ended else (form, here)


def joined_on(bench: Bench, form: Format, here: Reached) -> Joined | None:
    """Piece by piece from `here` on, as far as it goes; where that is not to the end, by the pieces
    that came second."""
    best, turns = (here, tuple[Seam, ...]()), 0
    others: list[tuple[Reached, tuple[Seam, ...]]] = []
    seams: tuple[Seam, ...] = ()
    until = bench.until(WORK)
    while not here.ended:
        bench.rest()
        late = bench.beyond(until) or len(here.clusters) > MAX_PIECES
        ways, alone = ([], False) if late else _next_pieces(bench, form, here)
        if here.at > best[0].at:
            best = here, seams
        if not ways and (late or not others or turns >= MAX_TURNS):
            here, seams = best
            break
        if not ways:
            turns += 1
            here, seams = others.pop()
            continue
        for way in reversed(ways[1:MAX_WAYS]):
            others.append((way, (*seams, _seam(bench, form, way, False))))
        here, seams = ways[0], (*seams, _seam(bench, form, ways[0], alone))
    if not seams:
        return None
    return Joined(_extents(bench, here), seams, here.ended)


def _seam(bench: Bench, form: Format, more: Reached, alone: bool) -> Seam:
    """The last seam of `more`; `alone`: nothing else goes on there."""
    at = sum(count for _, count in more.clusters[:-1]) * bench.pool.unit
    # Of frames all are decoded later: a seam that they do not bear out makes nothing whole.
    sure = alone and (form.checked or form.decoder == Decoder.CLIP)
    return Seam(at, SeamWord.PROVEN if sure else SeamWord.LIKELY, (
        reason_of(form, more, at), *((Reason("only-place"),) if alone else ())))


def reason_of(form: Format, more: Reached, at: int) -> Reason:
    """What speaks for the seam at byte `at`, behind which the file comes to `more`."""
    return Reason("checksum" if form.checked else "structure", {"bytes": more.at - at})


def in_line(bench: Bench, first: int) -> int:
    """Clusters in line from `first` on that are free."""
    return max(1, bench.pool.run(first, MAX_LINE // bench.pool.unit))


def _extents(bench: Bench, here: Reached) -> tuple[tuple[int | None, int], ...]:
    out = bench.pool.span([n for start, count in here.clusters
                           for n in range(start, start + count)])
    stop = here.walk.stop if here.ended and here.walk is not None else here.at
    return cut(out, stop)


def reached(bench: Bench, form: Format, clusters: tuple[tuple[int, int], ...]) -> Reached | None:
    """How far the walk of these pieces comes; None where it does not begin."""
    pool = bench.pool
    thread = PiecedSource(pool.source, [
        (pool.start(first), count * pool.unit) for first, count in clusters])
    try:
        walk = form.walk(thread, 0, thread.size)
    except (FormatError, SourceError):
        bench.spend(WALK_WORK)
        return None
    far = walk.stop if walk.broken is None else walk.broken.noticed_at
    bench.spend(WALK_WORK + WALKED_WORK * min(thread.size, far))
    if walk.broken is None:
        return Reached(clusters, walk, walk.stop, walk.stop, walk.ended)
    return Reached(clusters, walk, walk.broken.offset, walk.broken.noticed_at, False)


def _next_pieces(bench: Bench, form: Format, here: Reached) -> tuple[list[Reached], bool]:
    """(the same with each piece that goes on, the best first; whether no other comes near)."""
    bad = max(here.noticed, here.at)
    found: dict[int, list[Reached]] = {}  # what goes on, by the cluster that was looked for
    for number, tried in tries(bench, form, here):
        if form.checked:
            return [tried], True
        found.setdefault(number, []).append(tried)
    if not found:
        return [], False
    best, alone = _best(bench, form, found, bad)
    mine = {first for first, _ in best.clusters}
    others = (max(tried, key=lambda t: (t.ended, t.at)) for tried in found.values())
    return [best, *sorted((t for t in others if t.clusters[-1][0] not in mine),
                          key=lambda t: (not t.ended, -t.at))], alone


def tries(bench: Bench, form: Format, here: Reached) -> Iterator[tuple[int, Reached]]:
    """(the pool's cluster that has what is expected, how far the walk comes with it) for each
    piece that goes on at all, nearest first."""
    pool, unit = bench.pool, bench.pool.unit
    thread = PiecedSource(pool.source, [
        (pool.start(first), count * unit) for first, count in here.clusters])
    bad = max(here.noticed, here.at)
    chain = chain_of(form.name)
    expected = chain(thread, bad + 1) if chain is not None else None
    if expected is None:
        return
    low = max(1, expected.start // unit)  # the item's own head may be behind the seam
    reach = max(expected.until, expected.at)
    high = min(reach + expected.width - 1, thread.size) // unit
    if expected.start % unit > unit - 16:
        low += 1
    cuts = list(range(high, low - 1, -1))[:MAX_CUTS]
    trials = 0
    for target, number in _candidates(bench, here, expected):
        for edge in cuts:
            begin = number - (target - edge)
            if edge > target or not pool.is_free(begin) or pool.run(
                    begin, target - edge + 1) <= target - edge:
                continue
            if _in(here.clusters, edge, begin) or trials > MAX_TRIALS:
                continue
            trials += 1
            tried = reached(bench, form, (
                *_cut(here.clusters, edge), (begin, in_line(bench, begin))))
            short = tried is None or tried.far <= bad or (
                tried.far + ITEM_HEAD < (bad + 1 if expected.until else expected.at))
            if tried is None or (short and not tried.ended):
                continue
            yield number, tried
        bench.rest()
        if trials > MAX_TRIALS:
            break


def _best(bench: Bench, form: Format, found: dict[int, list[Reached]],
          bad: int) -> tuple[Reached, bool]:
    """(what comes farthest, whether nothing else comes near). Where the structure leaves open at
    which boundary the seam is, frames that decode across it tell."""
    reach = {number: max(t.at for t in tried) for number, tried in found.items()}
    first = max(found, key=lambda n: (any(t.ended for t in found[n]), reach[n]))
    ends = any(t.ended for t in found[first])  # at its own end, which its index agrees with
    near = [n for n in found if n != first and (
        any(t.ended for t in found[n]) if ends
        else reach[n] - bad > (reach[first] - bad) * NEAR_SHARE)]
    tried = sorted(found[first], key=lambda t: (not t.ended, -t.at))
    tried = [t for t in tried if (t.ended, t.at) == (tried[0].ended, tried[0].at)]
    if len(tried) == 1:
        return tried[0], not near
    if bench.decodes is None or form.decoder not in PLAYED:
        return tried[0], False
    good = []
    for one in tried[:MAX_DECODES]:
        bench.rest()
        extents = _extents(bench, one)
        if sum(length for _, length in extents) <= MAX_DECODED and bench.ask(
                extents, 0.0, ALL_OF_IT):
            good.append(one)
    if not good:
        return tried[0], False
    return good[0], len(good) == 1 and not near


def _candidates(bench: Bench, here: Reached, expected: Next) -> list[tuple[int, int]]:
    """(cluster of the file, cluster of the pool that has there what is expected), nearest first."""
    pool = bench.pool
    if expected.until:
        return _somewhere(bench, here, expected)
    target, inside = divmod(expected.at, pool.unit)
    last, count = here.clusters[-1]
    origin = last + min(count, max(1, here.at // pool.unit - sum(
        c for _, c in here.clusters[:-1])))
    if expected.magic:
        numbers = np.array(sorted({n for magic in expected.magic for n, at in pool.marks(magic)
                                   if at == inside}), np.int64)
    else:
        near = pool.nearest(origin, NEAR if bench.effort == 0 else EVERYWHERE)
        bench.spend(near.size * PEEK_WORK)
        rows = pool.peek(near, inside, expected.width)
        numbers = near[expected.fits(rows)]
    key = np.where(numbers >= origin, numbers - origin, 2 * (origin - numbers))
    return [(target, int(n)) for n in numbers[np.argsort(key, kind="stable")]]


def _somewhere(bench: Bench, here: Reached, expected: Next) -> list[tuple[int, int]]:
    """The same where only the range is known that the next item begins in: each cluster that has
    one may be each of the file's that this leads to."""
    unit = bench.pool.unit
    origin = here.clusters[-1][0]
    found = {(n, at) for magic in expected.magic for n, at in bench.pool.marks(magic)}
    near = sorted(found, key=lambda f: (abs(f[0] - origin), f))
    places = ((target, n) for n, at in near
              for target in range(expected.at // unit, expected.until // unit + 1)
              if expected.at <= target * unit + at <= expected.until)
    return list(islice(places, MAX_TRIALS))


def _cut(clusters: tuple[tuple[int, int], ...], cut: int) -> tuple[tuple[int, int], ...]:
    """The first `cut` clusters of a file."""
    out: list[tuple[int, int]] = []
    for first, count in clusters:
        count = min(count, cut)
        if count > 0:
            out.append((first, count))
        cut -= count
    return tuple(out)


def _in(clusters: tuple[tuple[int, int], ...], cut: int, number: int) -> bool:
    return any(first <= number < first + count for first, count in _cut(clusters, cut))
