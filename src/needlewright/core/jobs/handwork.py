"""Joining a find of a job by hand: piece after piece, undone and redone at will, kept at the end.

The find as found stays what it is. Every change is in the job file before it is told; what is kept
is a find of its own, linked to it, with the same checks as what the step put together.
"""

from __future__ import annotations

import contextlib
from contextlib import AbstractContextManager, closing
from dataclasses import dataclass
from typing import Any

from needlewright.core.checks.decoding import DecoderPool
from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.core.errors import FormatError, JobError
from needlewright.core.finds import JOINED_FROM, Find
from needlewright.core.formats.registry import form_of
from needlewright.core.jobfile.store import Job
from needlewright.core.jobfile.texture import TextureFile
from needlewright.core.jobfile.threads import History, Thread, runs_of
from needlewright.core.jobs.known import JobKnowledge
from needlewright.core.jobs.media import Media
from needlewright.core.search.carving import follow
from needlewright.core.search.dialogue import Dialogue
from needlewright.core.search.pieces_pool import pools_around
from needlewright.core.search.stitched import StitchedCase, stitched, summed, with_rest
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.stitching.base import Bench, Broken, Extents, Joined, joiner_for
from needlewright.core.stitching.hand import Hand, Offer, Offers, cluster_list
from needlewright.core.stitching.trial_decodes import TrialDecodes
from needlewright.core.stopping import StopSignal
from needlewright.core.volumes.base import cut

EFFORT = 1  # how far pieces are looked for: a person waits
MAX_LATER = 4096  # clusters that a cut is moved on over


@dataclass(frozen=True, slots=True)
class Standing:
    """How a find's thread stands. `pieces`: (byte of the source, bytes); `shares`: how much of the
    file is there after each cluster; `at`: bytes of the file that are there; `second`: of a clip,
    where the thread ends."""

    number: int
    thread: Thread
    unit: int
    base: int
    head: int
    pieces: tuple[tuple[int, int], ...]
    shares: tuple[float, ...]
    at: int
    by_rows: bool
    second: float | None
    can_redo: bool
    steps: tuple[str, ...]  # what was done, see Thread.what

    @property
    def share(self) -> float:
        return 1.0 if self.ended else self.shares[-1] if self.shares else 0.0

    @property
    def ended(self) -> bool:
        return self.thread.end is not None

    @property
    def can_undo(self) -> bool:
        return bool(self.steps)

    @property
    def seam_shares(self) -> tuple[float, ...]:
        """How much of the file is there before each seam."""
        return tuple(self.shares[min(s.at // self.unit, len(self.shares)) - 1]
                     for s in self.thread.seams if self.shares)


class Handwork:
    """The bench for one find. Raises JobError("hand-...") for what cannot be joined by hand."""

    def __init__(self, job: Job, number: int, stop: StopSignal) -> None:
        self.job, self.number, self.stop = job, number, stop
        self.record = job.record(number)
        source = next(s for s in job.sources() if s.id == self.record.row.source)
        if source.kind != Source.kind:
            raise JobError("hand-on-shelf")
        self._media = Media.of(job)
        self._source = self._media.source(source.id)
        self._texture = TextureFile(job.folder, source.id)
        self._decodes = TrialDecodes(self._source, stop)
        try:
            self.hand, self._key = self._begun(JobKnowledge(job, source, self._source,
                                                            self._texture))
            self.history = self._restored() or self._fresh()
        except BaseException:
            self.close()
            raise

    @property
    def sector_size(self) -> int:
        """Bytes of a sector of the source."""
        return self._source.sector_size

    def listen(self, stop: StopSignal) -> None:
        """Stop what is looked for at this signal from now on."""
        self._decodes.stop = stop
        self.hand.listen(stop)

    def close(self) -> None:
        self._decodes.close()
        self._texture.close()
        self._media.close()

    def _begun(self, knowledge: JobKnowledge) -> tuple[Hand, str]:
        row = self.record.row
        joiner = joiner_for(row.format)
        if joiner is None or joiner.by_hand is None or row.grade == "gone":
            raise JobError("hand-no-way", format=row.format)
        if row.grade == "whole" or self.record.seams or not self.record.content.size:
            raise JobError("hand-not-broken")
        key, place, why = self.job.places.break_of(self.number)
        mine = Broken(self.number, key, row.format, self.record.extents, place, why,
                      row.size if self.record.record is not None else None)
        pool = pools_around(self._source, knowledge, [mine])[0][0]
        for _ in pool.look(knowledge.texture):
            if self.stop.is_set():
                break
        # What it has so far is its own, and so is what was made of it before.
        made = [self.job.record(n).extents
                for n in self.job.links.of(self.number, JOINED_FROM, back=True)]
        for extents in (mine.extents, *made):
            pool.free[[n for n in cluster_list(pool, extents) if n < pool.count]] = True
        hand = None
        with contextlib.suppress(FormatError):
            hand = joiner.by_hand(mine, Bench(pool, self.stop, EFFORT, self._decodes))
        if hand is None:
            raise JobError("hand-no-begin", format=row.format)
        self._broken = mine
        return hand, key

    def _restored(self) -> History | None:
        history, pool = self.job.threads.of(self.number), self.hand.pool
        if history is None or (history.unit, history.base) != (pool.unit, pool.base):
            return None
        inside = all(first + count <= pool.count
                     for thread in history.threads for first, count in thread.runs)
        return history if inside else None

    def _fresh(self) -> History:
        """The thread as found: its own clusters, down to where it breaks."""
        pool, mine = self.hand.pool, self._broken
        clusters = cluster_list(pool, mine.extents)
        if mine.breaks_at is not None and self.hand.cut_known:
            place = pool.number(mine.breaks_at)
            if place in clusters:
                clusters = clusters[: clusters.index(place)]
        head = list(self.hand.head)
        if clusters[: len(head)] != head:
            clusters = head
        reach = self.hand.reach(clusters)
        clusters = clusters[: max(len(head), len(reach.shares))]
        return History(pool.unit, pool.base, (Thread(runs_of(clusters), (), reach.end),))

    # what it looks like

    def standing(self) -> Standing:
        thread, pool = self.history.now, self.hand.pool
        clusters = thread.clusters
        reach = self.hand.reach(clusters)
        at = len(clusters) * pool.unit
        if thread.end is not None:
            at += thread.end - pool.unit
        return Standing(
            self.number, thread, pool.unit, pool.base, len(self.hand.head),
            tuple((pool.start(first), count * pool.unit) for first, count in thread.runs),
            reach.shares, at, self.hand.by_rows, self.hand.seconds(len(clusters)),
            self.history.at + 1 < len(self.history.threads),
            tuple(t.what for t in self.history.threads[1 : self.history.at + 1]))

    def offers(self) -> Offers:
        """The pieces that may come next."""
        return self.hand.offers(self.history.now.clusters)

    def looks(self, offer: Offer | None = None) -> tuple[Extents, float | None]:
        """(extents of the file as it stands, or would with `offer`, the second of a clip to show).
        """
        clusters, end = self.history.now.clusters, self.history.now.end
        if offer is None:
            return self.hand.extents(clusters, end), self.hand.seconds(max(0, len(clusters) - 1))
        kept = self._kept(offer.keep)
        return (self.hand.extents((*kept, *offer.clusters), offer.end),
                self.hand.seconds(len(kept)))

    def pieces(self, extents: Extents) -> PiecedSource:
        """The file of these extents of the source."""
        return PiecedSource(self._source, extents)

    def as_found(self) -> AbstractContextManager[Source]:
        """The find as it is in the job, open in a `with`."""
        return self._media.content(self.record)

    # changes

    def _set(self, thread: Thread) -> None:
        self.history = self.history.then(thread)
        self.job.threads.keep(self.number, self.history)

    def _kept(self, count: int) -> tuple[int, ...]:
        """The first `count` clusters of the thread; more of them stand in line behind its last."""
        clusters = self.history.now.clusters
        more = range(clusters[-1] + 1, clusters[-1] + 1 + count - len(clusters))
        return (*clusters[:count], *more)

    def take(self, offer: Offer, best: bool = False) -> None:
        """Join `offer`. `best`: it is the one that the program would have taken; another that a
        person chose is never more than likely."""
        kept = self._kept(offer.keep)
        clusters = (*kept, *offer.clusters)
        seams = self._seams_within(len(kept))
        if offer.first != kept[-1] + 1:
            word = offer.word if best else SeamWord.LIKELY
            seams = (*seams, Seam(len(kept) * self.hand.pool.unit, word,
                                  (*offer.reasons, Reason("by-hand"))))
        self._set(Thread(runs_of(clusters), seams, offer.end, "took"))

    def take_at(self, byte: int) -> None:
        """Join what lies at a byte of the source, as far as it can be the file's own."""
        pool, clusters = self.hand.pool, self.history.now.clusters
        first = pool.number(byte)
        if not 0 <= first < pool.count:
            raise JobError("hand-outside", at=byte)
        if first in clusters:
            raise JobError("hand-used", at=byte)
        line = [*clusters, *range(first, min(pool.count, first + MAX_LATER))]
        reach = self.hand.reach(line)
        more = len(reach.shares) - len(clusters)
        if more <= 0:
            raise JobError("hand-refused", at=pool.start(first))
        seams = self._seams_within(len(clusters))
        if first != clusters[-1] + 1:
            seams = (*seams, Seam(len(clusters) * pool.unit, SeamWord.LIKELY, (Reason("by-hand"),)))
        self._set(Thread(runs_of(line[: len(reach.shares)]), seams, reach.end, "place"))

    def cut(self, count: int) -> None:
        """End the thread behind `count` clusters; more of them than there are stand in line behind
        the last one, as far as they can be the file's own."""
        count = max(len(self.hand.head), count)
        now = len(self.history.now.clusters)
        kept = self._kept(min(count, now + MAX_LATER, now + self._in_line()))
        reach = self.hand.reach(kept)
        kept = kept[: max(len(self.hand.head), len(reach.shares))]
        if kept == self.history.now.clusters:
            return
        what = "cut-earlier" if len(kept) < now else "cut-later"
        self._set(Thread(runs_of(kept), self._seams_within(len(kept)), reach.end, what))

    def _in_line(self) -> int:
        last = self.history.now.clusters[-1]
        return self.hand.pool.run(last + 1, MAX_LATER) if last + 1 < self.hand.pool.count else 0

    def _seams_within(self, count: int) -> tuple[Seam, ...]:
        stop = count * self.hand.pool.unit
        return tuple(s for s in self.history.now.seams if s.at < stop)

    def go_on(self) -> bool:
        """Let the program put together the rest; whether anything came of it."""
        clusters = self.history.now.clusters
        gone = self.hand.gone_on(clusters)
        if gone is None or gone.clusters == clusters:
            return False
        unit = self.hand.pool.unit
        new = tuple(s for s in gone.seams if s.at >= len(clusters) * unit)
        self._set(Thread(runs_of(gone.clusters), (*self._seams_within(len(clusters)), *new),
                         gone.end, "went-on"))
        return True

    def undo(self) -> None:
        self._move(-1)

    def redo(self) -> None:
        self._move(1)

    def _move(self, by: int) -> None:
        self.history = self.history.moved(by)
        self.job.threads.keep(self.number, self.history)

    # keeping

    def keep(self) -> int:
        """Check what was put together and keep it as a find of its own; its id.

        Raises JobError("hand-nothing") where there is no seam, or nothing that its format knows.
        """
        thread, form = self.history.now, form_of(self._broken.format)
        if not thread.seams or form is None:
            raise JobError("hand-nothing")
        extents = self.hand.extents(thread.clusters, thread.end)
        joined = Joined(extents, thread.seams, thread.end is not None)
        source = PiecedSource(self._source, with_rest(joined, self.hand.pool))
        try:
            walk = follow(source, 0, form, self.stop)
        except FormatError as error:
            raise JobError("hand-nothing") from error
        source = PiecedSource(self._source, cut(source.extents, walk.stop))
        case = StitchedCase(walk, form.name, thread=source, joined=summed(joined, walk),
                            origin=self._key)
        find = self._checked(case, source)
        if not find.seams or find.share < self.record.row.share:
            raise JobError("hand-no-gain")
        self.job.log("joined-by-hand", {"find": self.number, "pieces": len(thread.runs)})
        kept = self.job.add_finds(self.record.row.source, [find])
        return kept[0] if kept else self.job.links.of(self.number, JOINED_FROM, back=True)[0]

    def _checked(self, case: StitchedCase, source: PiecedSource) -> Find:
        with closing(DecoderPool[Any](1)) as decoders:
            dialogue: Dialogue[StitchedCase] = Dialogue(decoders, True, self.stop)
            turn = dialogue.to_the_end(case, source)
            return stitched(turn.case, turn.report, self._source.sector_size)


