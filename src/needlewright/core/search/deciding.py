"""What the isolated decoders are asked about a walk, and the find that comes of their answers."""

from __future__ import annotations

from dataclasses import dataclass, replace

from needlewright.core.checks.decoding import (
    DecodeReport,
    DecodeRequest,
    StreamReport,
)
from needlewright.core.checks.grading import Grade, Verdict, judge
from needlewright.core.contents import Stretches
from needlewright.core.decoders import PLAYED, Decoder, Task
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.finds import Find, key_of
from needlewright.core.formats.base import Format
from needlewright.core.formats.registry import formats
from needlewright.core.sources.source import Source
from needlewright.core.walks import Facts, Variant, Walk

CLIP_FRAMES_IN_MEMORY = 4  # of a clip, as a decoder keeps them, in pixels of pictures


@dataclass(frozen=True, slots=True)
class Case:
    """A walk on its way to a find. `parent`: the broken find it lies in. `looked`: what the decoder
    showed of a clip at first sight, until all of its frames are decoded. `pictured`: what it said
    of a photo whose appended clip is still to be decoded."""

    walk: Walk
    form: str
    parent: tuple[int, str] | None = None
    looked: DecodeReport | None = None
    pictured: DecodeReport | None = None
    task: Task = Task.PICTURE

    @property
    def variant(self) -> Variant:
        return self.walk.variant or formats()[self.form].plain


def first_question(case: Case, source: Source, every_frame: bool) -> tuple[
        Case, DecodeRequest, bool] | None:
    """(case, request, for later) of what a decoder is asked first; None where none can tell."""
    decoder, walk = case.variant.decoder, case.walk
    implausible = any(c.code == "dimensions-implausible" for c in walk.checks)
    if not decoder or implausible or walk.stop <= walk.start:
        return None
    asked = _request(case, source)
    if decoder == Decoder.CLIP:
        # Where all frames are decoded anyway, the strip comes out of that.
        look = replace(asked, task=Task.LOOK, strip=not every_frame)
        return replace(case, task=Task.LOOK), look, False
    if decoder == Decoder.SOUND:
        return all_frames(case, source) if every_frame else None
    preview = None
    if walk.preview is not None:
        preview = (walk.preview[0] - walk.start, walk.preview[1] - walk.start)
    return case, replace(asked, preview=preview, inset=walk.broken is not None), False


def all_frames(case: Case, source: Source) -> tuple[Case, DecodeRequest, bool]:
    """The question whether all of a clip or a sound decodes; it can wait."""
    asked = replace(_request(case, source), task=Task.FRAMES,
                    strip=case.variant.decoder == Decoder.CLIP)
    if case.walk.clip is not None:
        start, stop = case.walk.clip
        asked = replace(asked, extents=((start, stop - start),), format=Decoder.CLIP, turn=1)
    return replace(case, task=Task.FRAMES), asked, True


def _request(case: Case, source: Source) -> DecodeRequest:
    walk = case.walk
    pixels = (walk.facts.width or 0) * (walk.facts.height or 0)
    if case.variant.decoder in PLAYED:
        pixels *= CLIP_FRAMES_IN_MEMORY
    return DecodeRequest(source, ((walk.start, walk.stop - walk.start),), case.variant.decoder,
                         pixels, turn=walk.facts.orientation)


def find_of(case: Case, report: DecodeReport | None, step: str,
            sector: int) -> tuple[Find, Verdict]:
    """The find that `case` is, after what the decoder said; `report` is None where none was asked.

    For a clip, `report` is that of all its frames, or None while they are not decoded. `sector`:
    bytes between the places where files begin.
    """
    walk, variant = case.walk, case.variant
    clip = None
    if case.pictured is not None:
        report, clip = case.pictured, report
    verdict = judge(walk, report, variant.decoder, clip)
    grade = verdict.grade
    if case.parent is not None and (walk.start - case.parent[0]) % sector:
        # What begins inside a sector of a broken file was embedded in it.
        grade = Grade.REMNANT
    shown = report if report is not None and report.thumbnail else case.looked
    row = report if report is not None and report.strip else case.looked
    find = Find(
        variant.name, variant.kind, variant.extension,
        Stretches(((walk.start, walk.stop - walk.start),)), grade, verdict.share, (step,),
        verdict.checks, _facts(walk, report, case.looked), walk.parts, walk.preview,
        verdict.damage_row, shown.thumbnail if shown else b"",
        inside=None if case.parent is None else key_of(case.parent[1], case.parent[0]),
        strip=row.strip if row else b"", broken=walk.broken)
    return find, verdict


def _facts(walk: Walk, report: DecodeReport | None, looked: DecodeReport | None) -> Facts:
    """The walk's facts, with what only the decoder could tell."""
    facts = walk.facts
    told = report if report is not None and report.width else looked
    if facts.width is None and told is not None and told.width:
        facts = replace(facts, width=told.width, height=told.height)
    if facts.duration_s is None and report is not None and report.streams:
        longest = max(s.seconds for s in report.streams)
        facts = replace(facts, duration_s=round(longest, 3) or None)
    return facts


def damaged_from(walk: Walk, verdict: Verdict, report: DecodeReport | None) -> int | None:
    """The byte from which a walk that seemed sound is not its own after all, or None."""
    if walk.broken is not None or verdict.grade is Grade.WHOLE or report is None:
        return None
    if report.ok or report.error not in (None, "undecodable"):
        return None
    streams: list[StreamReport] = [s for s in report.streams if s.bad]
    places = [s.first_at for s in streams if s.first_at is not None]
    return walk.start + min(places) if places else walk.start


def preview_find(case: Case, find: Find, source: Source, step: str,
                 report: DecodeReport | None) -> Find | None:
    """The intact preview of a find that is not whole, as a remnant linked to it; or None.

    What is no more than its preview anyway is not told twice. Its picture is what a decoder made
    of it: bytes of the medium are shown to nobody.
    """
    walk = case.walk
    worth = find.grade is Grade.PARTIAL and walk.broken is not None
    if not worth or walk.preview is None or "jpeg" not in formats():
        return None
    start, stop = walk.preview
    jpeg: Format = formats()["jpeg"]
    try:
        inner = jpeg.walk(source, start, stop)
    except (FormatError, SourceError):
        return None
    if inner.broken is not None or not inner.ended:
        return None
    verdict = judge(replace(inner, remnant=True), None, jpeg.decoder)
    return Find(
        "jpeg", jpeg.kind, "jpg", Stretches(((start, inner.stop - start),)), Grade.REMNANT,
        verdict.share,
        (step,), verdict.checks, replace(inner.facts, taken=walk.facts.taken,
                                         camera=walk.facts.camera),
        inner.parts, inside=find.key,
        thumbnail=report.inset if report is not None else b"")
