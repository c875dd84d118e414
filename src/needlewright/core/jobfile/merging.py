"""Whether a find is new to a job, or another way to one that stands: decided by proof.

A carve that begins where a recorded find does is the same file, unless both are proven and differ.
A record that nothing proves beside a whole file of other length is another file's old name; both
stay, each for what it is. Nothing that was found is lost by this.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import Enum

from needlewright.core.checks.grading import AGAINST, Grade, lowered, share_of
from needlewright.core.contents import ShelfObject, Stretches
from needlewright.core.finds import Find, Record
from needlewright.core.walks import Check, Facts, Outcome

BEST_LAST = (Grade.GONE, Grade.REMNANT, Grade.PARTIAL, Grade.MENDED, Grade.UNPROVEN,
             Grade.WHOLE)
RECORD_CHECKS = frozenset({"record", "clusters", "extents", "length", "name"})
LOST_FOLDER = "lost folder "  # begins a path whose upper folders are not known
STITCHED, BY_HAND = "stitched", "by-hand"  # the claims of what was put together
MENDED = "mended"  # … and the beginning of those of what was mended: they merge with nothing
KEPT_COPIES = "kept-copies"
STEP_ORDER = ("records", "old-records", KEPT_COPIES, "signatures", "stitching")


@dataclass(frozen=True, slots=True)
class Standing:
    """A find in the job that begins where a new one does, of the same format."""

    number: int
    grade: Grade
    share: float
    size: int
    claim: str
    found_by: tuple[str, ...]
    name: str | None
    path: str | None
    removed: bool | None
    record: Record | None
    checks: tuple[Check, ...]


class Act(Enum):
    ADD = "add"  # under `claim`
    REPLACE = "replace"  # the find `number`, which stays under its number
    JOIN = "join"  # no more than found_by of `number` changes
    KEEP = "keep"  # nothing changes


@dataclass(frozen=True, slots=True)
class Decision:
    act: Act
    find: Find
    number: int = 0
    claim: str = ""


def claim_of(find: Find) -> str:
    """What tells apart finds that nothing but their records tells apart."""
    if find.record is None:
        return "carved"
    return f"{find.record.at}:{find.path}"


def taken_over(find: Find) -> Find:
    """A removed file whose first bytes are another's, which is whole: no more than its record."""
    checks = (Check("content", Outcome.FAIL, "gone-foreign", {"bytes": find.size}, content=True),
              *(c for c in find.checks if c.name == "name"))
    record = None if find.record is None else replace(find.record, stated=find.size, claim=True)
    return Find(find.format, find.kind, find.extension, Stretches(), Grade.GONE, 0.0,
                find.found_by, checks, Facts(), name=find.name, path=find.path,
                removed=find.removed, record=record)


def joined_claim(find: Find) -> str:
    """What tells apart what the program put together and what a person did."""
    by_hand = any(reason.code == "by-hand" for seam in find.seams for reason in seam.reasons)
    return BY_HAND if by_hand else STITCHED


def worth(grade: Grade, share: float, size: int) -> tuple[int, float, int]:
    return BEST_LAST.index(grade), share, size


def settle(find: Find, standing: Sequence[Standing]) -> Decision:
    """What to do with `find`, given what stands in its place."""
    if find.joined_from is not None:
        return _stitched(find, standing)
    if isinstance(find.content, ShelfObject):
        return _shelved(find, standing)
    joined = next((s for s in standing if s.claim == STITCHED and s.grade is Grade.WHOLE), None)
    if joined is not None and find.grade is not Grade.WHOLE and (
            find.record is None or is_same(find, joined)):
        return Decision(Act.KEEP, find, joined.number)  # its first piece, found again
    standing = [s for s in standing if s.claim not in (STITCHED, BY_HAND)]
    same = next((s for s in standing if is_same(find, s)), None)
    if same is not None:
        return _again(find, same)
    there = [s for s in standing if s.grade is not Grade.GONE]
    if find.grade is Grade.GONE:
        return Decision(Act.ADD, find, claim=claim_of(find))
    if find.record is None:
        return _carved(find, there)
    return _recorded(find, there)


def _shelved(find: Find, standing: Sequence[Standing]) -> Decision:
    """A file on a shelf is what it is now, whatever it was when it was looked at before; what was
    brought from elsewhere is kept as long as nothing better comes."""
    same = next((s for s in standing if is_same(find, s)), None)
    if same is None:
        return Decision(Act.ADD, find, claim=claim_of(find))
    if KEPT_COPIES in find.found_by and _is_better(same, find):
        # What was brought stays, though the device refuses the file now, or the backup got worse.
        return Decision(Act.KEEP, find, same.number)
    return Decision(Act.REPLACE, find, same.number)


def _is_better(stands: Standing, find: Find) -> bool:
    """Whether what stands is of a better grade, or of the same with more of it."""
    return worth(stands.grade, stands.share, 0) > worth(find.grade, find.share, 0)


def is_same(find: Find, stands: Standing) -> bool:
    """Whether both rest on one record: at the same place, under the same path as far as known.

    A lost folder may have cost a name its first letter, too. Files on a shelf have other places
    when some came or went before them.
    """
    if find.record is None or stands.record is None:
        return False
    if isinstance(find.content, ShelfObject):
        return find.path == stands.path
    if find.record.at != stands.record.at:
        return False
    unknown = (find.path or "").startswith(LOST_FOLDER) or (stands.path or "").startswith(
        LOST_FOLDER)
    return find.path == stands.path or unknown


def _stitched(find: Find, standing: Sequence[Standing]) -> Decision:
    """A file that was put together stands beside what broke off, and takes over its name where a
    record states its size."""
    named = next((s for s in standing if s.record is not None and s.size == find.size
                  and s.claim not in (STITCHED, BY_HAND) and s.name is not None), None)
    if named is not None and named.record is not None:
        find = replace(find, name=named.name, path=named.path, removed=named.removed,
                       record=replace(named.record, claim=False))
    claim = joined_claim(find)
    before = next((s for s in standing if s.claim == claim), None)
    if before is None:
        return Decision(Act.ADD, find, claim=claim)
    if claim == BY_HAND or worth(find.grade, find.share, find.size) >= worth(
            before.grade, before.share, before.size):
        return Decision(Act.REPLACE, find, before.number)
    return Decision(Act.KEEP, find, before.number)


def _again(find: Find, stands: Standing) -> Decision:
    """The same record, read again."""
    if (find.path or "").startswith(LOST_FOLDER) and find.path != stands.path:
        find = replace(find, path=stands.path, name=stands.name)
    elif (stands.path or "").startswith(LOST_FOLDER) and find.path != stands.path:
        return Decision(Act.REPLACE, _joined(find, stands), stands.number)
    if worth(find.grade, find.share, find.size) > worth(stands.grade, stands.share, stands.size):
        return Decision(Act.REPLACE, _joined(find, stands), stands.number)
    return _join(find, stands)


def _carved(find: Find, there: Sequence[Standing]) -> Decision:
    """A find without a record."""
    if not there:
        return Decision(Act.ADD, find)
    plain = next((s for s in there if s.record is None), None)
    if plain is not None:
        if worth(find.grade, find.share, find.size) > worth(plain.grade, plain.share, plain.size):
            return Decision(Act.REPLACE, _joined(find, plain), plain.number)
        return _join(find, plain)
    best = max(there, key=lambda s: (worth(s.grade, s.share, s.size), -s.number))
    if find.grade is not Grade.WHOLE or (best.grade is Grade.WHOLE and find.size <= best.size):
        return _join(find, best)
    if best.grade is not Grade.WHOLE and find.size == best.size:
        return Decision(Act.REPLACE, _named(find, best), best.number)
    if best.removed is False and find.size < best.size:
        return _join(find, best)  # a file that is there says itself how long it is
    taken = any(s.claim == "" for s in there)
    return Decision(Act.ADD, find, claim=claim_of(find) if taken else "")


def _recorded(find: Find, there: Sequence[Standing]) -> Decision:
    """A find with a record of its own."""
    plain = next((s for s in there if s.record is None), None)
    taken = any(s.claim == "" for s in there)
    unproven = find.record is not None and find.record.claim
    claim = claim_of(find) if unproven or taken else ""
    if plain is None:
        return Decision(Act.ADD, find, claim=claim)
    if plain.grade is not Grade.WHOLE or find.grade is Grade.WHOLE:
        return Decision(Act.REPLACE, _joined(find, plain), plain.number)
    if plain.size == find.size:
        checks = [*plain.checks, *_proven(c for c in find.checks if c.name in RECORD_CHECKS)]
        grade = lowered(Grade.WHOLE, checks)
        return Decision(Act.REPLACE, replace(_joined(
            find, plain), checks=tuple(checks), grade=grade, share=share_of(grade, 1.0)),
            plain.number)
    return Decision(Act.ADD, find, claim=claim_of(find))


def _joined(find: Find, stands: Standing) -> Find:
    return replace(find, found_by=_union(find.found_by, stands.found_by))


def _named(find: Find, stands: Standing) -> Find:
    """A proven carve under the name of the record that it proves."""
    record = None if stands.record is None else replace(stands.record, claim=False)
    return replace(with_record(_joined(find, stands), stands), record=record)


def with_record(find: Find, stands: Standing) -> Find:
    """A carve under the name of a record, and with what that says against it: clusters that belong
    to others now are a doubt, whatever decodes."""
    checks = [*find.checks, *_proven(c for c in stands.checks if c.name in RECORD_CHECKS)]
    grade = lowered(find.grade, checks)
    return replace(find, name=stands.name, path=stands.path, removed=stands.removed,
                   checks=tuple(checks), grade=grade, share=share_of(grade, find.share))


def _proven(checks: object) -> list[Check]:
    """What a record's own checks are once the content is proven to be as long as it says."""
    out = []
    for check in checks:  # type: ignore[attr-defined]
        if check.name == "extents" and check.outcome in AGAINST:
            check = Check("extents", Outcome.PASS, "extents-proven")
        out.append(check)
    return out


def _join(find: Find, stands: Standing) -> Decision:
    union = _union(find.found_by, stands.found_by)
    act = Act.KEEP if union == stands.found_by else Act.JOIN
    return Decision(act, replace(find, found_by=union), stands.number)


def _union(one: Sequence[str], two: Sequence[str]) -> tuple[str, ...]:
    every = set(one) | set(two)
    return tuple(sorted(every, key=lambda s: (
        STEP_ORDER.index(s) if s in STEP_ORDER else len(STEP_ORDER), s)))
