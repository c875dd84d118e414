"""What is said of backups, albums and synchronised folders."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any

from needlewright.core.codes import SAME_BYTES, SAME_NAME, SAME_PICTURE, When
from needlewright.core.names import one_line
from needlewright.core.secrets import PASSWORD
from needlewright.wording import errors, finds, units

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from needlewright.core.jobfile.rows import FindRow
    from needlewright.core.jobs.comparing import Versions
    from needlewright.core.jobs.loss import Loss
    from needlewright.core.jobs.usefulness import Use
    from needlewright.core.shelves.backups.finding import FoundBackup

LAYOUTS = {
    "folder": "a folder of files", "camera-folder": "a folder of files", "tar": "a tar archive",
    "tar-gzip": "a tar archive, gzip", "tar-zstd": "a tar archive, Zstandard",
    "zip": "a ZIP archive", "series": "a day of a series of folders",
    "raw": "a raw image of a storage", "phone-backup": "a phone backup",
}
#: What is damaged in a backup, with how often.
TROUBLES = {
    "backup-unreadable": ("{count} folder or file cannot be read",
                          "{count} folders or files cannot be read"),
    "backup-cut": ("it ends before its end", "it ends before its end"),
    "backup-damaged": ("a part of it is damaged", "{count} parts of it are damaged"),
    "backup-no-directory": ("its directory is lost; files were found by their own headers",
                            "its directory is lost; files were found by their own headers"),
    "backup-list-pages": ("a page of its list cannot be read",
                          "{count} pages of its list cannot be read"),
    "backup-missing": ("the content of one file is missing",
                       "the content of {count} files is missing"),
    "backup-unlisted": ("it promises one file more than it lists",
                        "it promises {count} files more than it lists"),
    "backup-volume-locked": ("a volume of it is encrypted", "{count} volumes of it are encrypted"),
    "backup-volume-damaged": ("a volume of it is damaged", "{count} volumes of it are damaged"),
}
NOTES = {
    "backup-no-facts": "Its day is that of its newest file; nothing else is told.",
    "backup-changes-only": "Each day holds only what had changed: what had been removed by then "
                           "is not told.",
    "backup-raw": "What was removed from it is found when the image itself is searched.",
}
WHEN = {When.BEFORE: "from before the loss", When.SAME_DAY: "from the day of the loss",
        When.UNKNOWN: "", When.AFTER: "from after the loss"}
NEVER_RESTORED = ("Backups are read and never restored: nothing can be put back over anything "
                  "from here. Take one in with: needlewright run backup:PATH …")
BACKUPS_HEAD = "Backups, the most useful first"
BACKUPS_CLOSE = "Close the list"
BACKUPS_NEVER = ("Backups are read and never restored: nothing can be put back over anything from "
                 "here.")
LOSS_ASK = "The loss was on"
LOSS_PLACEHOLDER = "2031-05-12, if known"
LOSS_AFTER = "The loss was after this"
LOSS_AFTER_TIP = ("The job remembers this day as the day of the loss; backups are judged by it")
LOSS_WRONG = "That is no day. Write it as 2031-05-12, or leave it empty."
TAKE_IN, TAKEN_IN = "Take it in", "Taken in"
LOCKED = "It is locked. What it holds is told once its password was given."
THIS_ONE = "this one"
RELATIONS = {SAME_BYTES: "the same bytes", SAME_PICTURE: "the same picture, another size",
             SAME_NAME: "the same name and time"}
SHOW_VERSION = "Show the other"
VERSIONS_HEAD = "Also on other sources"
SERVICE_TITLES = {"album": "The survey's album (simulated)",
                  "sync": "The survey's synchronised folder (simulated)"}
SERVICE_CODE = "One-time code"
SERVICE_PASSWORD = "Its password: {password}"
SERVICE_WISHES = {"down": "Put it out of reach", "up": "Bring it back"}
ALBUM_ABOUT = "an album, signed in to as {user}"
SECRET_TITLE = "{name} is locked"
SECRET_HEAD = "{name} is locked. What is its password?"
SECRET_TEXT = ("It is kept in memory while the program runs, and written nowhere: not into the "
               "job, not into the log.")
SECRET_PASSWORD, SECRET_CODE = "password", "code"
SECRET_WRONG = "That was not it. Nothing was opened."
SECRET_KEEP = "Keep it in this desktop's keyring"
SECRET_CODE_HEAD = "{name} asks for a one-time code"
SECRET_CODE_TEXT = "It stands on the device or in the program that its owner uses for such codes."
SECRET_CODE_WRONG = "That code is not good, or no longer. Each is good for half a minute."
SECRET_OPEN, SECRET_NOT_NOW = "Open", "Not now"
LOOKING_AT = "looking at {path}"
ENCRYPTED = "encrypted"


def ask(spec: str, what: str, wrong: bool) -> str:
    """What is asked of a person."""
    before = {True: "That was not it. ", False: ""}[wrong]
    if what == PASSWORD:
        return f"{before}Password for {spec}:"
    return f"{before}One-time code for {spec}:"


def loss_line(loss: Loss) -> str:
    """'The loss was on 12 May 2031.'"""
    if not loss.known:
        return "It is not known when the loss was."
    if loss.after is not None:
        return f"The loss was after find {loss.after:,}, not before {units.day(loss.day)}."
    return f"The loss was on {units.day(loss.day)}."


def title(found: FoundBackup) -> str:
    """'Brackenfield FP-2, 2 April 2031'."""
    facts = found.facts
    device = facts.device if facts is not None and facts.device else one_line(found.path.name)
    made = facts.made if facts is not None else None
    return f"{device}, {units.day(made[:10])}" if made else device


def about(found: FoundBackup) -> str:
    """What it is and what it holds, in one line."""
    facts = found.facts
    if facts is None:
        return ""
    kind = LAYOUTS.get(facts.layout, facts.layout)
    parts = [f"{one_line(found.path.name)}, {kind}" if facts.device else kind]
    if facts.encrypted:
        parts.append(ENCRYPTED)
    if found.problem is None:
        parts.append(f"{units.count(len(found.offered), 'file')}, {units.size(found.size)}")
        parts.append(finds.kinds_line(found.counts))
        if facts.complete is not None:
            how = "to its end mark" if facts.layout.startswith("tar") else "by its own list"
            parts.append(f"complete {how}" if facts.complete else "not complete")
    return "; ".join(part for part in parts if part)


def troubles(found: Mapping[str, int]) -> list[str]:
    """What is damaged in it, by code and how many times."""
    return [TROUBLES[code][count != 1].format(count=f"{count:,}")
            for code, count in found.items() if code in TROUBLES]


def why(use: Use, loss: Loss) -> str:
    """Why it stands where it stands among others."""
    parts = []
    if loss.known and WHEN[use.when]:
        parts.append(WHEN[use.when])
    if use.lost:
        parts.append(f"holds {use.covers:,} of {units.count(use.lost, 'name')} that were lost")
    parts.append(f"{units.count(use.adds, 'file')} that the job does not have")
    return "; ".join(parts)


def version_about(row: FindRow, relation: str, place: str) -> str:
    """Where a version is, and how large."""
    pixels = f"{row.width} × {row.height}, " if row.width and row.height else ""
    return f"{place}: {relation}\n{pixels}{units.size(row.size)}"


def missing_line(rows: Sequence[FindRow], sources: Mapping[int, str]) -> str:
    """'7 finds are on a shelf alone: 4 on field phone 2031-05-19, …'"""
    counts = Counter(sources.get(row.source, "?") for row in rows)
    where = ", ".join(f"{number:,} on {name}" for name, number in counts.items())
    verb = "is" if len(rows) == 1 else "are"
    return f"{units.count(len(rows), 'find')} {verb} on a shelf alone: {where}" if rows else (
        "Nothing is on a shelf alone.")


def service_told(told: Mapping[str, Any]) -> str:
    """How a simulated service is."""
    if told["down"]:
        return "It answers nobody."
    return (f"{units.count(int(told['requests']), 'request')} so far, "
            f"{int(told['limited']):,} of them told to come later.")


def album_about(user: str) -> str:
    """What is said of an album that is known by name."""
    return ALBUM_ABOUT.format(user=user) if user else "an album"


def finding_line(found: int, looking: str, places: Sequence[str]) -> str:
    """How far the look for backups is."""
    where = ", ".join(places)
    if looking:
        return f"{units.count(found, 'backup')} in {where} so far; looking at {looking}."
    if not found:
        return f"There is no backup in {where}."
    return f"{units.count(found, 'backup')} in {where}."


def row_lines(found: FoundBackup, use: Use, loss: Loss) -> list[tuple[str, str]]:
    """(text, role) of the lines under a backup's title."""
    out = [(about(found), "muted")] if about(found) else []
    if found.problem is not None and loss.known and WHEN[use.when]:
        said = WHEN[use.when]
        out.append((f"{said[:1].upper()}{said[1:]}.", ""))
    if found.problem is None:
        said = why(use, loss)
        out.append((f"{said[:1].upper()}{said[1:]}.", ""))
        if found.facts is not None:
            out += [(f"{line[:1].upper()}{line[1:]}.", "problem")
                    for line in troubles(found.facts.troubles)]
            out += [(NOTES[note], "muted") for note in found.facts.notes if note in NOTES]
    return out


def own_facts(about: Mapping[str, Any]) -> list[tuple[str, str]]:
    """(name, value) of what a backup that was taken in said of itself."""
    made, complete = about.get("made"), about.get("complete")
    rows = [("is", LAYOUTS.get(str(about.get("layout")), "")), ("device", about.get("device")),
            ("made", units.day(made[:10]) if isinstance(made, str) else ""),
            ("encrypted", "yes" if about.get("encrypted") else ""),
            ("complete", "" if complete is None else "by its own list" if complete else "no")]
    return [(name, str(value)) for name, value in rows if value] if about else []


def own_notes(about: Mapping[str, Any]) -> list[tuple[str, str]]:
    """(sentence, role) of what is damaged in a backup that was taken in, and of what it does not
    tell."""
    told, notes = about.get("troubles"), about.get("notes")
    counts = {str(code): count for code, count in told.items()
              if isinstance(count, int)} if isinstance(told, dict) else {}
    return [(f"{line[:1].upper()}{line[1:]}.", "problem") for line in troubles(counts)] + [
        (NOTES[note], "muted") for note in map(str, notes or ()) if note in NOTES]


def judged_line(use: Use, loss: Loss) -> str:
    """What any shelf is good for: 'Holds 3 of 14 names that were lost; …'"""
    said = why(use, loss)
    if loss.known:
        said += f"; {units.count(use.dated_before, 'file')} dated up to the day of the loss"
    return f"{said[:1].upper()}{said[1:]}."


def lines(number: int, found: FoundBackup, use: Use, loss: Loss) -> list[str]:
    """A backup, for a list in a terminal."""
    out = [f"{number}. {title(found)}", f"   {one_line(found.spec)}"]
    said = about(found)
    if said:
        out.append(f"   {said}")
    if found.problem is not None:
        out.append(f"   {errors.explain(found.problem)}")
        return out
    out.append(f"   {why(use, loss)}")
    if found.facts is not None:
        out += [f"   {line}" for line in troubles(found.facts.troubles)]
        out += [f"   {NOTES[note]}" for note in found.facts.notes if note in NOTES]
    return out


def as_json(found: FoundBackup, use: Use) -> dict[str, Any]:
    """A backup, for other programs."""
    facts = found.facts
    return {
        "source": found.spec, "layout": facts.layout if facts else None,
        "device": facts.device if facts else None, "made": facts.made if facts else None,
        "complete": facts.complete if facts else None,
        "encrypted": facts.encrypted if facts else None, "files": len(found.offered),
        "size": found.size, "kinds": found.counts,
        "troubles": facts.troubles if facts else {}, "when": str(use.when),
        "covers": use.covers, "lost": use.lost, "adds": use.adds,
        "problem": errors.explain(found.problem) if found.problem else None}


def pair_line(one: FindRow, other: FindRow, relation: str, sources: Mapping[int, str]) -> str:
    """'find 3 (BF_0001.JPG, card.img) and find 8 (…) are the same bytes'"""
    said = RELATIONS[relation]
    names = [f"find {row.id:,} ({row.name or row.format}, {sources[row.source]})"
             for row in (one, other)]
    return f"{names[0]} and {names[1]}: {said}"


def compared_line(pairs: Sequence[Versions], missing: int) -> str:
    """What came of comparing."""
    alike = Counter(pair.relation for pair in pairs)
    return (f"{units.count(alike[SAME_BYTES], 'pair')} of the same bytes, "
            f"{units.count(alike[SAME_PICTURE], 'pair')} of the same picture in two sizes, "
            f"{units.count(alike[SAME_NAME], 'pair')} of the same name and time alone; "
            f"{units.count(missing, 'find')} of shelves that the job has nowhere else.")
