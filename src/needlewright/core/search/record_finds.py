"""The find that a file-system record and what lies in its extents make together."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from needlewright.core.checks.decoding import DecodeReport
from needlewright.core.checks.grading import AGAINST, PROOF, Grade, lowered, share_of
from needlewright.core.contents import Content, Inline, Packed, Stretches
from needlewright.core.finds import Find, Record
from needlewright.core.formats.recognising import kind_of_name
from needlewright.core.formats.registry import formats
from needlewright.core.search.deciding import Case, find_of
from needlewright.core.search.keeping import Kept
from needlewright.core.search.placing import Fate, Placing, shifted
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.volumes.base import CodedParts, Entry, Placed
from needlewright.core.volumes.stamps import Stamp
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome, Part, Variant

OF_NAMES = frozenset({"letter-guessed", "letter-lost", "name-cut", "name-lost", "folder-lost",
                      "name-likely", "record-reused"})
LOST_FATES = {Fate.OVERWRITTEN: "gone-overwritten", Fate.CLEARED: "gone-cleared",
              Fate.FOREIGN: "gone-foreign", Fate.NOWHERE: "gone-nowhere",
              Fate.LOCKED: "gone-locked", Fate.MOVED: "gone-moved"}


@dataclass(frozen=True, slots=True)
class RecordCase(Case):
    """A case whose bytes lie where a record says. `walk` addresses them from 0."""

    entry: Entry | None = None
    placing: Placing | None = None
    thread: PiecedSource | None = None
    base: int = 0
    kept: Kept | None = None
    number: int = 0
    exact: bool = False  # its extents are exact, and no other removed file claims any of them

    @property
    def variant(self) -> Variant:
        """A file that a record begins is no scrap, whatever its first bytes are."""
        made = self.walk.variant
        return formats()[self.form].plain if made is None or made.kind is Kind.SCRAP else made


def record_of(entry: Entry, base: int, kept: Kept | None, *, gone: bool = False,
              claim: bool = False) -> Record:
    """What goes onto a find from `entry`; `base`: the volume's first byte."""
    times = entry.times
    return Record(
        base + entry.record_at, entry.size if gone else None,
        _text(times.created), _text(times.modified), _text(times.accessed),
        _removed_at(entry, kept), kept.code if kept else "",
        kept.original if kept else None, kept.purge_at if kept else None, claim, volume=base)


def content_of(entry: Entry, base: int) -> Content:
    """How the bytes of an entry are had that says so itself; `base`: the volume's first byte."""
    if entry.data is not None:
        return Inline(entry.data[: entry.size], base + entry.record_at)
    if entry.coded:
        return Packed(_absolute(entry.coded, base), entry.size)
    return Stretches(shifted(entry.extents, base))


def _text(stamp: Stamp | None) -> str | None:
    return None if stamp is None else stamp.text()


def _removed_at(entry: Entry, kept: Kept | None) -> str | None:
    if kept is not None and kept.removed_at:
        return kept.removed_at
    return _text(entry.times.removed)


def _absolute(coded: CodedParts, base: int) -> CodedParts:
    return tuple(
        (None if part[0] is None else part[0] + base, part[1]) if isinstance(part, tuple)
        else replace(part, extents=shifted(part.extents, base)) for part in coded)


def find_from(case: RecordCase, report: DecodeReport | None, step: str, sector: int) -> Find:
    """The find of a record whose content was walked, and decoded where `report` is there."""
    entry, placing, thread = case.entry, case.placing, case.thread
    assert entry is not None and placing is not None and thread is not None
    found, _ = find_of(case, report, step, sector)
    checks = [*found.checks, *record_checks(entry, placing)]
    grade = found.grade
    if not entry.removed:  # it is there as its owner left it, whatever changed it since
        checks = [replace(c, outcome=Outcome.NOT_APPLICABLE, code="sum-of-before")
                  if c.code == "sum-differs" else c for c in checks]
    if case.exact and not placing.reused and entry.placed is Placed.EXACT:
        # Nothing in the content tells, but the file system does, and nobody else was there.
        checks = [Check(c.name, Outcome.PASS, "content-by-record", content=True)
                  if c.name == PROOF else c for c in checks]
        if placing.walk is not None and placing.walk.broken is None and not any(
                c.outcome in AGAINST or c.outcome is Outcome.NOT_MADE for c in checks):
            grade = Grade.WHOLE
    grade = lowered(grade, checks)
    checks.sort(key=lambda check: AGAINST.get(check.outcome, 2))
    claim = not placing.sound and entry.removed
    return replace(
        moved_to(found, thread), content=placing.content, grade=grade, checks=tuple(checks),
        name=entry.name or None,
        path=entry.path or None, removed=entry.removed, inside=None,
        extension=kind_of_name(entry.name)[2] or found.extension,
        share=share_of(grade, min(found.share, _there(entry, placing))),
        record=record_of(entry, case.base, case.kept, claim=claim))


def moved_to(found: Find, thread: PiecedSource) -> Find:
    """`found`, whose walk addressed `thread` from 0, in bytes of the source."""
    return replace(found, parts=_parts(found.parts, thread), preview=_span(found.preview, thread),
                   broken=_break(found.broken, thread))


def _there(entry: Entry, placing: Placing) -> float:
    """Part of the bytes that no other file uses."""
    if not placing.reused or not entry.size:
        return 1.0
    return round(max(0.0, 1 - placing.reused / entry.size), 4)


def _parts(parts: tuple[Part, ...], thread: PiecedSource) -> tuple[Part, ...]:
    out = []
    for part in parts:
        place = thread.place(part.start)
        if place is not None:
            out.append(Part(part.name, place, place + part.stop - part.start))
    return tuple(out)


def _break(broken: Break | None, thread: PiecedSource) -> Break | None:
    """A break by bytes of the file, as one by bytes of the source."""
    place = None if broken is None else thread.place(broken.offset)
    noticed = None if broken is None else thread.place(broken.noticed_at)
    if broken is None or place is None:
        return None
    return replace(broken, offset=place, noticed_at=noticed or place)


def _span(span: tuple[int, int] | None, thread: PiecedSource) -> tuple[int, int] | None:
    place = None if span is None else thread.place(span[0])
    return None if place is None or span is None else (place, place + span[1] - span[0])


def find_unwalked(entry: Entry, placing: Placing, base: int, kept: Kept | None, step: str,
                  text: bool) -> Find:
    """The find of a record whose content is of no known format. `text`: it reads as text."""
    kind, form, extension = kind_of_name(entry.name)
    checks = record_checks(entry, placing)
    if text:
        checks.append(Check("content", Outcome.PASS, "text-reads", content=True))
    else:
        checks.append(Check("content", Outcome.DOUBT, "content-unknown", content=True))
    share = _there(entry, placing)
    grade = lowered(Grade.WHOLE, checks)
    extents = placing.content.spans()
    if extents and extents[0][0] is None and placing.reused:
        grade = Grade.REMNANT
    checks.sort(key=lambda check: AGAINST.get(check.outcome, 2))
    return Find(form, kind, extension, placing.content, grade, share_of(grade, share), (step,),
                tuple(checks), Facts(), name=entry.name or None, path=entry.path or None,
                removed=entry.removed,
                record=record_of(entry, base, kept, claim=entry.removed))


def find_gone(entry: Entry, placing: Placing, base: int, kept: Kept | None, step: str) -> Find:
    """A file of which nothing but its record is left."""
    kind, form, extension = kind_of_name(entry.name)
    values: dict[str, Any] = {"bytes": entry.size}
    checks = [Check("content", Outcome.FAIL, LOST_FATES[placing.fate], values, content=True),
              *_name_checks(entry)]
    return Find(form, kind, extension, Stretches(), Grade.GONE, 0.0, (step,), tuple(checks),
                Facts(), name=entry.name or None, path=entry.path or None, removed=entry.removed,
                record=record_of(entry, base, kept, gone=True, claim=True))


def record_checks(entry: Entry, placing: Placing) -> list[Check]:
    """What the record and the clusters say for and against the find."""
    checks = [Check("record", Outcome.PASS,
                    "record-removed" if entry.removed else "record-live")]
    doubts = [(c, v) for c, v in entry.doubts if c not in OF_NAMES]
    if placing.reused:
        checks.append(Check("clusters", Outcome.FAIL, "clusters-reused", {
            "bytes": placing.reused, "share": placing.reused / max(1, entry.size)}))
    elif entry.removed:
        checks.append(Check("clusters", Outcome.PASS, "clusters-free"))
    checks.append(_extents_check(entry, placing, doubts))
    if placing.trailer and placing.padded:
        checks.append(Check("length", Outcome.PASS, "length-padded", {"bytes": placing.trailer}))
    elif placing.trailer:
        checks.append(Check("length", Outcome.DOUBT if entry.removed else Outcome.PASS,
                            "length-more", {"bytes": placing.trailer}))
    elif placing.walk is not None and placing.sound:
        checks.append(Check("length", Outcome.PASS, "length-agrees"))
    return [*checks, *_name_checks(entry)]


def _extents_check(entry: Entry, placing: Placing,
                   doubts: list[tuple[str, Mapping[str, Any]]]) -> Check:
    exact = entry.placed is Placed.EXACT or entry.data is not None
    if doubts and not placing.sound:
        return Check("extents", Outcome.DOUBT, doubts[0][0], doubts[0][1])
    if placing.rival:
        return Check("extents", Outcome.DOUBT, "extents-rival")
    if exact:
        return Check("extents", Outcome.PASS, "extents-exact")
    if placing.sound:
        return Check("extents", Outcome.PASS, "extents-proven")
    if entry.placed is Placed.CHAIN:
        return Check("extents", Outcome.PASS, "extents-older")
    return Check("extents", Outcome.DOUBT, "extents-guessed")


def _name_checks(entry: Entry) -> list[Check]:
    return [Check("name", Outcome.NOT_APPLICABLE, code, values)
            for code, values in entry.doubts if code in OF_NAMES]
