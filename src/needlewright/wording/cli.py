"""What the command line says."""

from __future__ import annotations

from typing import TYPE_CHECKING

from needlewright.core.names import one_line
from needlewright.wording import checks, finds, units

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from needlewright.core.jobfile.rows import FindRecord, FindRow, TallyRow
    from needlewright.core.sources.devices import Device

ABOUT = "Search a medium for removed photos, look at them, and deliver what is intact."
TOLD_NOTES = frozenset(("kept-listed", "kept-missing", "phone-waiting", "phone-back"))
SECRET_HINT = "Give it with --secret-file."
HELP = {
    "demo": "the demo job in the window, or the whole tour without a display",
    "headless": "no window: search, deliver and take pictures into this folder",
    "sources": "what is attached", "image": "copy a source", "search": "search a job's sources",
    "mend": "mend damaged files: new ones beside them, with what was changed",
    "check": "tell which files are sound; writes nothing else",
    "paths": "files, or folders with all that is in them",
    "json_out": "also as JSON, into this new file",
    "mend_to": "the folder for the mended files; made if it is not there",
    "mend_job": "mend the finds of this job instead of files",
    "rows": "rows of a SQLite database, older and removed ones included, or of a SIM's phone book",
    "rows_html": "a new folder for a page with messages and calls, the CSV files, and what values "
                 "hold as files",
    "rows_files": "where files are that values name, to be laid beside the page",
    "rows_vcard": "contacts also as cards (vCard 4.0), into this new file",
    "rows_file": "the database; its log and journal are read where they lie beside it",
    "rows_removed": "only older states of rows, and removed ones",
    "rows_csv": "also as tables, into this new folder",
    "standin": "a simulated device or service",
    "put_back": "put the finds of the tray onto a phone, as new files in a folder of their own",
    "onto": "the phone: phone:NAME, ptpip://HOST[:PORT] or usb:",
    "onto_yes": "yes, write to the phone",
    "standin_what": "which one: a phone, an album, or a synchronised folder",
    "standin_headless": "no window: a line of JSON says where its owner acts",
    "standin_say": "act as the owner of one that is running (see below), with commas; needs "
                   "--control",
    "standin_control": "the control socket of the one that is running",
    "standin_faults": "what is wrong with it, as JSON",
    "patience": "how long a phone is waited for, in seconds (60 if not given); after that the "
                "command ends and says what the phone waits for",
    "deliver": "hand over finds as a bag",
    "deliver_missing": "of backups, albums and phones, only what the job has nowhere else",
    "missing_only": "of what a shelf offers, only what the job does not have",
    "at_most": "how fast albums and synchronised folders hand out, at most: 500k, 2.5M (bytes a "
               "second)",
    "secret_file": "a file with the password on its first line, a one-time code on the second",
    "inside_job": "say how much of it this job lost, and does not have",
    "backups": "which backups there are in some places, the most useful first",
    "backups_place": "a folder, a drive's folder or an archive; what lies below is looked at, too",
    "backups_job": "judge them by what this job lost, and when",
    "backups_loss": "the day of the loss, as YYYY-MM-DD",
    "loss": "when the loss was: tell it, or set it", "loss_day": "on this day, as YYYY-MM-DD",
    "loss_after": "after the photo of this number", "loss_unknown": "nobody knows",
    "compare": "which finds of different sources are the same, and what is only on a shelf",
    "copy_job": "copy what can be read of a damaged job into a new one",
    "copy_job_to": "an empty folder, which becomes the new job",
    "run": "all of it in one go",
    "job_there": "the job folder",
    "job": "the job folder; made if it is not there", "to": "the folder that becomes the bag",
    "formats": "which formats, with commas: jpeg, mp4, tiff, …",
    "every_byte": "look for files at every byte, not only where sectors begin",
    "skip_frames": "do not decode clips and sound to their end; they are not called whole then",
    "days": "of what a phone offers, only these days: 2031-05-09:2031-05-12, either may be left "
            "out; files without a date are taken as well",
    "removed_only": "of what records name, only what was removed",
    "free_only": "look for signatures only where no file system has anything",
    "deliver_removed": "only what was removed", "ids": "these finds, by number, with commas",
    "deliver_folder": "only what lies in this folder",
    "finds": "list the finds of a job",
    "tray": "put finds of a job into its tray, or take them out",
    "tray_only": "only what is in the tray",
    "tray_add": "put the chosen finds into the tray",
    "tray_remove": "take the chosen finds out of the tray",
    "tray_clear": "take everything out of the tray",
    "dry_run": "only tell what would be delivered, and how much it is",
    "reference": "sound files of the same camera, for mending",
    "folder": "of what records name, only what lies in this folder of the volume",
    "steps": "which ways of searching, with commas", "kinds": "which kinds, with commas",
    "area": "START:END in bytes", "grades": "which grades, with commas",
    "hash": "also hash the whole source", "source": "an image file or device",
    "forecast": "a few seconds of sampling: what a medium holds, how long the work will take",
    "verify": "afterwards read the image again and compare it with its hashes",
    "verify_source": "the same, and compare it with the medium too",
    "json": "as JSON", "first": "START:END in bytes, to be read first; may be repeated",
    "tries": "how often a block is asked for before it is given up",
    "read_seconds": "how long one read may take", "hours": "stop after so many hours",
    "again": "ask again for what an earlier copy gave up",
    "although_mounted": "copy although it is mounted for writing and may change",
    "wait": "seconds to wait for a medium that went away (600 if not given)",
    "join": "join the pieces of one find by hand, a step at a time",
    "join_find": "its number in the job; without one, what waits is listed",
    "take": "join the piece with this number in the list",
    "take_at": "join what lies at this place: a byte, 31.204 GB or 'sector 61000'",
    "cut": "end it behind so many clusters, earlier or later", "redo": "do it again",
    "go_on": "let the program put together the rest", "undo": "take the last step back",
    "keep": "check it all and keep it as a find of its own",
    "image_file": "an image to search, if not in the job",
    "inside": "list what a phone offers, without fetching any of it",
    "inside_source": "a phone: phone:NAME, ptpip://HOST or usb:",
    "inside_names": "paths alone, one a line, as --named takes them",
    "inside_rows": "read the rows of the databases among them, and tell which files these name; "
                   "with --names, the paths of these files alone",
    "inside_thumbnails": "put the device's own small pictures into this folder, by their place in "
                         "the list",
    "named": "of what a phone offers, only the files whose paths this file names, one a line",
}


NO_DEVICES = "no drives or cards are attached"


def device_line(device: Device) -> str:
    """'/dev/sdb  31.9 GB  usb  Fernline MR-20  mounted for writing at /media/x'."""
    parts = [device.path, units.size(device.size), device.bus or device.kind, device.model,
             device.serial]
    parts += [f"{v.file_system} {v.label}".strip() for v in device.volumes if v.file_system]
    if device.write_protected:
        parts.append("write-protected")
    mounts = [m for v in device.mounted for m in v.mounts]
    if mounts:
        parts.append(f"mounted for writing at {', '.join(mounts)}")
    if not device.may_read:
        parts.append(f"not readable by this user (group {device.group})")
    return "  ".join(part for part in parts if part)


def counts(tally: Iterable[TallyRow]) -> list[str]:
    """Lines such as 'whole      57 finds, 58.1 MB'."""
    totals: dict[str, list[int]] = {}
    for row in tally:
        entry = totals.setdefault(row.grade, [0, 0])
        entry[0] += row.finds
        entry[1] += row.bytes
    if not totals:
        return ["no finds"]
    return [
        f"{grade:<9}{units.count(totals[grade][0], 'find'):>14}, {units.size(totals[grade][1])}"
        for grade in checks.GRADES if grade in totals]


def joined_line(record: FindRecord) -> str:
    """What was put together: 'BF_0251.JPG: 3 pieces, both seams proven, whole'."""
    by_hand = any(r.code == "by-hand" for seam in record.seams for r in seam.reasons)
    likely = sum(seam.word != "proven" for seam in record.seams)
    seams = units.count(len(record.seams), "seam")
    told = f"{seams} proven" if not likely else f"{seams}, {likely} likely"
    how = "joined by hand" if by_hand else "put together"
    return (f"{one_line(finds.title(record.row))}: {how} of "
            f"{units.count(len(record.extents), 'piece')}, {told}, {record.row.grade}")


def piece_line(start: int, length: int) -> str:
    """One piece of a thread: 'piece     52,428,800     4.1 MB'."""
    return f"piece{start:>16,}  {units.size(length):>9}"


def reaches(place: str, missing: str) -> str:
    """How far a thread goes: 'it goes to row 1,904 of 3,456, about 1.2 MB missing'."""
    return f"it goes to {place}{', ' if missing else ''}{missing}"


def dry_run(rows: Sequence[FindRow]) -> list[str]:
    """What a delivery would hold: a line a file, and the sum."""
    rows = [row for row in rows if row.grade != "gone"]
    lines = [f"{row.id:>6}  {row.grade:<8} {units.size(row.size):>10}  "
             f"{one_line(row.path or finds.file_name(row))}" for row in rows]
    total = sum(row.size for row in rows)
    return [*lines, f"{units.count(len(rows), 'file')}, {units.size(total)}; nothing was written"]


def tray_told(count: int, size: int) -> str:
    """What is in the tray after a change."""
    return f"{units.count(count, 'find')} in the tray, {units.size(size)}."


STANDIN_EPILOG = """\
It ends with Ctrl+C. Without a window, its first line of JSON has:
  source    what other commands open it by: phone:NAME, album:NAME or dav+http://…
  control   a socket on which its owner acts: one word a line, one line of JSON back. From
            another terminal:  needlewright standin phone --control PATH --say unlock,trust,allow

What a phone's owner can say:
  unlock, lock      unlock or lock the screen
  trust, allow      trust this computer; share the files
  refuse            share nothing any longer
  grant             allow its storage to be read raw (nbd://)
  pull, plug        pull the cable out; plug it in
  state, truth      how it is; the SHA-256 of every file
A computer sees files after unlock, trust and allow.

Of an album (account hollow.bank, password "reeds at dawn", and a one-time code):
  code              the one-time code of the moment
  down, up          make the service fail; make it work again
  state, truth      how it is; the SHA-256 of every original

Of a synchronised folder (account hollow.bank, password "sedge and rush"):
  down, up, state, truth

The password of the simulated phone backup that is encrypted: "sallow and sedge"
"""
