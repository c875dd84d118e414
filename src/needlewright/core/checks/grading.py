"""From checks to a grade. Every grade can be read back from the checks that stand beside it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from needlewright.core.checks.decoding import LOST_TO_TIME, DecodeReport
from needlewright.core.decoders import PLAYED, Decoder
from needlewright.core.walks import Check, Outcome, Walk

# Grey levels by which a band of the picture may differ from the camera's own thumbnail. JPEG
# thumbnails, sharpening and other resampling stay below; a shifted DC or foreign rows go beyond.
BAND_AGREES = 14.0
BAND_DIFFERS = 26.0
SAME_PICTURE = 0.75  # correlation below which the thumbnail shows something else
AGAINST = {Outcome.FAIL: 0, Outcome.DOUBT: 1}  # what speaks against a find is read first
WITNESS = "own thumbnail"
PROOF = "proof"  # the check that fails to be one: nothing shows that the content is its own
GAP_S = 0.3  # seconds between damaged stretches that nobody would tell apart
MAX_DAMAGED = 40  # stretches that a check lists
#: Failed checks that say from which byte on the content is not its own.
ENDS_AT = frozenset(("payload-foreign", "unreadable-from"))
PARTIAL_AT_MOST = 0.9999  # of what a part is missing of
SCRAP = 0.02  # share of a picture below which only its preview or a scrap is there


class Grade(StrEnum):
    WHOLE = "whole"
    UNPROVEN = "unproven"
    MENDED = "mended"
    PARTIAL = "partial"
    REMNANT = "remnant"
    GONE = "gone"


@dataclass(frozen=True, slots=True)
class Verdict:
    """A grade, the share of the picture that is there (0.0 to 1.0), and all checks."""

    grade: Grade
    share: float
    checks: tuple[Check, ...]
    damage_row: int | None


def judge(walk: Walk, report: DecodeReport | None, decoder: str,
          clip: DecodeReport | None = None) -> Verdict:
    """Join what the walk and the isolated decoder found; `report` is None where none was asked.

    `decoder`: as in `Format`. For clips and sound the report is that of all their frames. `clip`:
    that of a clip that a photo carries.
    """
    share, row = walk.share, walk.broken.row if walk.broken else None
    if decoder in PLAYED:
        made = [_frames_check(report)]
        share = min(share, _played(report)) if report is not None else share
    else:
        made = [_decode_check(walk, report, decoder)]
        told = report is not None and report.preview is not None
        if walk.preview is not None or told or decoder == "JPEG":
            thumbnail, share, row = _thumbnail_check(walk, report)
            made.append(thumbnail)
        if report is not None and not report.ok and report.reached is not None:
            share = min(share, round(report.reached, 4))
        if walk.clip is not None:
            made.append(_frames_check(clip))
    checks = [*walk.checks, *made]
    witnessed = any(c.name == WITNESS and c.outcome is Outcome.PASS and c.content for c in made)
    if walk.unproven and walk.broken is None and not witnessed:
        checks.append(Check(PROOF, Outcome.DOUBT, walk.unproven, content=True))
    checks.sort(key=lambda check: AGAINST.get(check.outcome, 2))
    share = _borne_out(walk, checks, share)
    return Verdict(_grade(walk, checks, share), share, tuple(checks), row)


def lowered(grade: Grade, checks: Iterable[Check]) -> Grade:
    """`grade` of a complete file as far as `checks` leave it: one that fails says that a part is
    missing; one that doubts leaves all there, but unproven."""
    outcomes = {check.outcome for check in checks}
    if grade not in (Grade.WHOLE, Grade.UNPROVEN):
        return grade
    if Outcome.FAIL in outcomes:
        return Grade.PARTIAL
    return Grade.UNPROVEN if Outcome.DOUBT in outcomes else grade


def share_of(grade: Grade, share: float) -> float:
    """The share that is told with a grade: all of it only where no part is missing."""
    return min(share, PARTIAL_AT_MOST) if grade is Grade.PARTIAL else share


def _borne_out(walk: Walk, checks: Sequence[Check], share: float) -> float:
    """The share up to where the first failed check finds something foreign, at most."""
    failed = [c for c in checks if c.outcome is Outcome.FAIL]
    size = max(1, walk.stop - walk.start)
    for check in failed if walk.broken is None else ():
        if "strips" in check.values:  # each decodes, or does not, for itself
            share = min(share, 1 - int(check.values["bad"]) / int(check.values["strips"]))
        elif check.code in ENDS_AT:
            share = min(share, max(0, int(check.values["offset"])) / size)
        elif check.code == "sectors-lost":
            share = min(share, 1.0 - float(check.values["share"]))
    return round(min(share, PARTIAL_AT_MOST), 4) if failed or walk.broken else share


def _played(report: DecodeReport) -> float:
    """Part of the play time that is there: of the pictures where there are any, else of the sound.
    """
    if not report.streams:
        return 0.0 if report.error == "undecodable" else 1.0
    pictures = [s for s in report.streams if s.kind == "video"]
    share = min(s.share for s in pictures or report.streams)
    damaged = any(s.bad for s in report.streams)
    return round(min(share, 0.9999 if damaged else 1.0), 4)


def _joined(stretches: Sequence[tuple[float, float]]) -> list[list[float]]:
    """The stretches (seconds) in order, those that nearly touch as one."""
    joined: list[list[float]] = []
    for start, stop in sorted(stretches):
        if joined and start <= joined[-1][1] + GAP_S:
            joined[-1][1] = max(joined[-1][1], round(stop, 2))
        else:
            joined.append([round(start, 2), round(stop, 2)])
    return joined


def _frames_check(report: DecodeReport | None) -> Check:
    """Whether every frame and every sample of sound decodes, and from where on they do not."""
    name = "every frame"
    if report is None:
        return Check(name, Outcome.NOT_MADE, "frames-not-made", content=True)
    if report.error == LOST_TO_TIME:
        return Check(name, Outcome.NOT_MADE, "decode-time", content=True)
    bad = [s for s in report.streams if s.bad]
    frames = sum(s.frames for s in report.streams)
    if bad:
        first = min(bad, key=lambda s: s.first_s or 0.0)
        damaged = _joined([d for s in bad for d in s.damaged])
        return Check(name, Outcome.FAIL, "frames-damaged", {
            "bad": sum(s.bad for s in bad), "frames": frames, "sample": first.first,
            "stream": first.kind, "seconds": round(first.first_s or 0.0, 3),
            "damaged": damaged[:MAX_DAMAGED]}, content=True)
    if not report.ok:
        return Check(name, Outcome.FAIL, f"decode-{report.error}", {"text": report.text},
                     content=True)
    if any(s.packets and not s.frames for s in report.streams):
        return Check(name, Outcome.FAIL, "frames-none", content=True)
    return Check(name, Outcome.PASS, "frames-decode", {"frames": frames}, content=True)


def _decode_check(walk: Walk, report: DecodeReport | None, decoder: str) -> Check:
    name = "full decode"
    if not decoder:
        return Check(name, Outcome.NOT_APPLICABLE, "decode-none")
    if walk.remnant and report is None:
        return Check(name, Outcome.NOT_APPLICABLE, "decode-of-remnant")
    if report is None or report.error == "unknown":
        return Check(name, Outcome.NOT_MADE, "decode-not-made", content=True)
    if report.error == LOST_TO_TIME:  # a limit says nothing of the file
        return Check(name, Outcome.NOT_MADE, "decode-time", content=True)
    if report.ok and decoder == Decoder.DATABASE:
        return Check(name, Outcome.PASS, "database-sound", content=True)
    if report.ok and decoder == Decoder.RAW:
        # The mosaic has margins of its own; only that it unpacks is told.
        return Check(name, Outcome.PASS, "decode-raw", content=True)
    if report.ok:
        agree = (report.width, report.height) == (walk.facts.width, walk.facts.height)
        if agree:
            return Check(name, Outcome.PASS, "decode-complete",
                         {"width": report.width, "height": report.height}, content=True)
        return Check(name, Outcome.DOUBT, "decode-other-size",
                     {"width": report.width, "height": report.height}, content=True)
    return Check(name, Outcome.FAIL, f"decode-{report.error}", {"text": report.text}, content=True)


def _thumbnail_check(
    walk: Walk, report: DecodeReport | None
) -> tuple[Check, float, int | None]:
    """The embedded thumbnail as witness: its check, the share and the damaged row it leaves."""
    name, share = WITNESS, walk.share
    row = walk.broken.row if walk.broken else None
    if walk.preview is None and (report is None or report.preview is None):
        return Check(name, Outcome.NOT_APPLICABLE, "thumbnail-none"), share, row
    if report is None or report.preview is None:
        return Check(name, Outcome.NOT_MADE, "thumbnail-not-compared"), share, row
    if report.preview == "shown":
        return Check(name, Outcome.PASS, "thumbnail-decodes"), share, row
    if report.preview != "compared":
        return Check(name, Outcome.DOUBT, "thumbnail-undecodable"), share, row
    if walk.broken is not None:
        return Check(name, Outcome.NOT_APPLICABLE, "thumbnail-of-broken"), share, row
    rows = report.rows
    height = walk.facts.height or 0
    bad = _first_bad_band(rows)
    if bad is None and report.level_row is not None and height and not walk.edited:
        row = min(report.level_row, height)
        return Check(name, Outcome.FAIL, "thumbnail-level", {"row": row, "rows": height},
                     content=True), round(row / height, 4), row
    if bad is None and (report.correlation or 0.0) >= SAME_PICTURE:
        return Check(name, Outcome.PASS, "thumbnail-agrees", content=True), share, row
    if bad is not None and _agrees(rows[:bad]):
        # Rows above agree, rows from here on do not: the picture changes where it should not.
        row = bad * height // len(rows)
        if walk.suspect is not None and walk.suspect.row is not None:
            near = abs(walk.suspect.row - row) * len(rows) <= 2 * height
            row = walk.suspect.row if near else row
        share = round(row / height, 4) if height else 0.0
        return Check(name, Outcome.FAIL, "thumbnail-differs-below", {"row": row, "rows": height},
                     content=True), share, row
    if walk.edited:
        return Check(name, Outcome.NOT_APPLICABLE, "thumbnail-of-original"), share, row
    return Check(name, Outcome.DOUBT, "thumbnail-differs"), share, row


def _first_bad_band(rows: Sequence[float]) -> int | None:
    """The first of two neighbouring bands that differ clearly, or None."""
    for index in range(len(rows) - 1):
        if min(rows[index], rows[index + 1]) > BAND_DIFFERS:
            return index
    return None


def _agrees(rows: Sequence[float]) -> bool:
    return len(rows) >= 2 and max(rows[:-1]) < BAND_AGREES


def _grade(walk: Walk, checks: Sequence[Check], share: float) -> Grade:
    if walk.remnant or share < SCRAP:
        return Grade.REMNANT
    failed = any(c.outcome is Outcome.FAIL for c in checks)
    if walk.broken is not None or failed or share < 1.0:
        return Grade.PARTIAL
    sound = all(
        c.outcome in (Outcome.PASS, Outcome.NOT_APPLICABLE) or
        (c.outcome is Outcome.NOT_MADE and c.name == "coded data") for c in checks)
    shown = any(c.content and c.outcome is Outcome.PASS for c in checks)
    return Grade.WHOLE if sound and shown else Grade.UNPROVEN
