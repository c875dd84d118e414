"""The window's own words: stations, labels, hints."""

from __future__ import annotations

from typing import TYPE_CHECKING

from needlewright.wording import units

if TYPE_CHECKING:
    from needlewright.core.imaging.events import Copied, Copying, Trouble, Waiting
    from needlewright.core.sources.devices import Device

PROGRAM = "Needlewright"
STATIONS = ["Intake", "Search", "Finds", "Mending", "Delivery"]
NO_JOB = "No job open"
READ_ONLY_ONE = "1 source, read-only"
READ_ONLY_MANY = "{count} sources, all read-only"
TAPE_OVERVIEW = "Overview"
TAPE_FINDS = "Finds"
TAPE_READ = "Read"
TAPE_TEXTURE = "Texture"
TAPE_VOLUMES = "Volumes"
TAPE_IN_USE = "In use"
TAPE_LANES = {"read": TAPE_READ, "volumes": TAPE_VOLUMES, "in use": TAPE_IN_USE,
              "texture": TAPE_TEXTURE}
TEXTURES = (
    "not looked at yet", "blank", "text", "structured data", "picture data (JPEG)",
    "compressed data", "random or encrypted data")
TAPE_EMPTY = "no source"

# Intake
INTAKE_SOURCES = "Sources"
INTAKE_VOLUMES = "Volumes"
INTAKE_ONLY_READ = "Only read; a phone gets new files after your yes alone."
INTAKE_FIRST = "Begin with an image of a card or a drive"
INTAKE_FIRST_TEXT = (
    "Open a raw image file, or drop one here. It is opened read-only and used in place; everything "
    "found is kept in a job folder of its own, somewhere else.")
INTAKE_OPEN = "Open an image file…"
INTAKE_FOLDER = "Take in a folder of files…"
INTAKE_FILES = "Loose files…"
INTAKE_OF_FILES = "files, {size} together"
INTAKE_OF_SHELVES = {
    "phone": "a phone, {size} in files", "backup": "a backup, {size} in files",
    "album": "an album, {size} in files", "sync": "a synchronised folder, {size} in files",
}
INTAKE_BACKUP_FILE = "A backup in one file…"
INTAKE_BACKUPS = "Look for backups…"
CHOOSE_BACKUP = "A backup: an archive, or an image of a phone's storage"
CHOOSE_BACKUPS = "Where to look for backups; what lies below is looked at, too"
INTAKE_OPEN_KEY = "Ctrl+O"
INTAKE_OPEN_JOB = "Open a job folder…"
INTAKE_DEMO = "Look at the demo"
INTAKE_DEMO_TEXT = ("The Fernbeck Valley otter survey: a made-up memory card with removed photos, "
                    "drawn on this computer.")
INTAKE_DEMO_BUILDING = "Drawing the demo card: {done} of {total} pictures"
INTAKE_DEMO_STARTING = "Drawing the demo card…"
INTAKE_RECENT = "Recent jobs"
INTAKE_NO_RECENT = "Jobs that you open are listed here."
INTAKE_JOB_KEPT = "The job is kept in {path}"
INTAKE_USED = "used in place"
INTAKE_NO_FACTS = "What is known of a source stands here."
INTAKE_NEXT = "Next"
INTAKE_NEXT_TEXT = "Go to Search and begin; finds come while it runs."
INTAKE_TO_SEARCH = "Go to Search"
CHOOSE_IMAGE = "Choose an image file"
CHOOSE_JOB = "Choose a job folder"
CHOOSE_FOLDER = "Choose a folder of files"
CHOOSE_FILES = "Choose files"
IMAGE_FILES = "Images (*.img *.dd *.raw *.bin *.iso);;All files (*)"
INTAKE_ATTACHED = "Attached"
INTAKE_ADDRESS = "Open an address…"
INTAKE_ADDRESS_ASK = ("Address of a network block device (nbd://host:port/name), or of a phone or "
                      "camera (ptpip://host, usb:, phone:NAME)")
INTAKE_COPY = "Copy"
INTAKE_COPIED = "copied"
INTAKE_BEING_COPIED = "being copied"
INTAKE_DROWNED = "Copy a failing card"
INTAKE_PHONE = "Start the field phone"
INTAKE_SHELVES_TEXT = ("What that phone has elsewhere: its backups, one of them sealed and one "
                       "damaged; its album and its synchronised folder, simulated.")
INTAKE_DEMO_BACKUPS = "Look at its backups"
INTAKE_DEMO_ALBUM, INTAKE_DEMO_SYNC = "Start its album", "Start its folder"
INTAKE_DROWNED_TEXT = "The same card after a night in the stream: a simulated reader that fails."
INTAKE_PHONE_TEXT = ("The survey's field phone, simulated, with a window of its own to unlock it "
                     "on. It comes into the list of sources.")

# Forecast
FORECAST_HEAD = "Forecast"
FORECAST_RUNNING = "sampling for at most five seconds …"

# Copying
COPY_HEAD = "Copy"
COPY_STATES = {
    "easy": "reading", "trouble": "narrowing down unreadable areas", "hash": "hashing",
    "paused": "paused", "gone": "no longer answers; waiting until it is back",
    "hangs": "a read hangs; waiting until the drive lets go of it",
    "other": "another medium is in its place; waiting for the right one",
    "done": "finished", "stopped": "stopped; goes on from there next time",
    "full": "paused before the disk is full; make room and go on",
    "time": "the time given is over", "begins": "opening",
}
COPY_ROWS = {"read": "read", "pending": "pending", "unreadable": "unreadable",
             "easy": "easy part", "troubled": "troubled part"}
COPY_EASY = "done in {time}"
COPY_EASY_DONE = "done"
COPY_UNKNOWN = "unknown"
COPY_TROUBLED_NONE = "none so far"
COPY_TROUBLED_OVER = "over"
COPY_TROUBLED = "{size} waiting, time unknown"
COPY_LIST = "Slow and troubled"
COPY_TRIES_ONE = "asked once"
COPY_TRIES = "asked {tries} times"
COPY_LOST = "given up"
COPY_WAITS = "waits"
EFFORT_BUTTON = "Effort…"
EFFORT_LINK = "How hard copies try…"
EFFORT_HEAD = "Effort"
EFFORT_HINT = "These are good for nearly all media. A running copy goes on with what is set here."
EFFORT_TRIES = "times that a block is asked for"
EFFORT_SECONDS = "seconds that one read may take"
EFFORT_HOURS = "hours in all"
EFFORT_NO_LIMIT = "no limit"
EFFORT_FIRST = "read the part of the tape in view first"
EFFORT_ONLY = "read nothing but the part of the tape in view"
EFFORT_AGAIN = "ask again for what was given up"
EFFORT_USE = "Use these"
COPY_NEVER_MIND = "Read on all the same"
COPY_READ_SLOWLY = "read"
COPY_VERIFY = "Verify"
COPY_VERIFY_MEDIUM = "Verify with the medium"
COPY_GO_ON = "Go on"
COPY_CARE = (
    "Stop using the medium, and do not let the system mount it. Searching may begin on what is "
    "read already.")
COPY_MOUNTED_ASK = (
    "{device} is mounted for writing at {mounts} and will change while it is copied. Unmounting it "
    "first (sudo umount {mounts}) is better. Copy it all the same?")

# Search
SEARCH_PLAN = "Plan for {source}"
SEARCH_PLAN_NONE = "Plan"
SEARCH_HINT = "Each step adds to what is there. Begin and stop any of them at any time."
SEARCH_LOOK_FOR = "look for"
SEARCH_BEGIN = "Begin"
SEARCH_GO_ON = "Go on"
SEARCH_AGAIN = "Search again"
SEARCH_PAUSE = "Pause"
SEARCH_STOP = "Stop"
SEARCH_CONTINUE = "Continue"
SEARCH_WHERE = "Where"
SEARCH_FREE = "free space only"
SEARCH_DAYS = "only these days: 2031-05-09:2031-05-12"
SEARCH_PACE = "no faster than … MB a second"
SEARCH_PACE_WRONG = "“{text}” is no speed. Write it in MB a second, as 2.5, or leave it empty."
SEARCH_DAYS_WRONG = "“{text}” is no range of days. Write it as 2031-05-09:2031-05-12."
SEARCH_FOLDER = "only in this folder: DCIM/104BRKFD"
SEARCH_WHICH = "Which"
SEARCH_VOLUME = "one volume …"
SEARCH_ALL_FILES = "removed and present"
SEARCH_REMOVED = "removed only"
SEARCH_MISSING = "only what is missing"
SEARCH_NEXT = "waits its turn"
SEARCH_COSTS = {
    "files": "as long as reading {size}, plus checks",
    "kept-copies": "as long as it takes to hand out {size}",
    "records": "seconds to read, then the checks",
    "old-records": "as long as reading {size}",
    "signatures": "as long as reading {size}, plus checks",
    "stitching": "seconds for each file in pieces",
}
SEARCH_COST_FREE = "as long as reading {size} of free space"
SEARCH_HOW = "How"
SEARCH_SECTORS = "files that begin at sectors"
SEARCH_BYTES = "at every byte, slower"
SEARCH_FRAMES = "decode every frame of clips"
SEARCH_FORMATS = "Formats…"
SEARCH_FORMATS_ALL = "all {count} formats"
SEARCH_FORMATS_SOME = "{some} of {count} formats"
FORMATS_HEAD = "Formats to look for"
FORMATS_HINT = (
    "What was searched already is not searched again: formats that are added later are looked for "
    "alone.")
FORMATS_ALL = "All"
FORMATS_NONE = "None"
FORMATS_USE = "Use these"
SEARCH_EVERYTHING = "everything"
SEARCH_MARKED = "the part of the tape in view"
SEARCH_SO_FAR = "In this job so far"
SEARCH_JUST = "Just found"
SEARCH_JUST_HINT = "a look now may save the rest of the search"
SEARCH_JUST_EMPTY = "Pictures appear here as they are found."
SEARCH_NO_SOURCE = "Open an image file at Intake first."
SEARCH_TEXTS = {
    "files": "each file of the folder, as it is: what it is and whether it is sound",
    "records": "what the file system lists, live and removed",
    "old-records": "folders that former file systems left",
    "kept-copies": "what device, backup or service still keeps",
    "signatures": "files known by their first bytes, by content alone",
    "stitching": "files in pieces, put together again",
}
SEARCH_STATES = {
    "done": "done", "stopped": "stopped, goes on from there", "running": "was interrupted",
    "narrowed": "done for what was chosen", "failed": "failed", "paused": "paused",
    "": "not begun", "searching": "running",
}

# Finds
FINDS_NARROW = "narrow: date, camera, format …"
FINDS_ORDERS = {
    "origin": "by origin", "taken": "day", "camera": "camera", "kind": "kind", "grade": "grade",
    "name": "name", "size": "size", "found": "as found",
}
FINDS_REMOVED = "removed only"
FINDS_MISSING = "missing only"
FINDS_MISSING_TIP = ("What a backup, an album or a phone has and no other source of this job, by "
                     "content; originals count for more than small copies")
FINDS_SIZE = "size"
FINDS_SMALLER = "−"
FINDS_LARGER = "+"
FINDS_ALL_IN = "all into the tray"
FINDS_NONE = "Nothing found yet"
FINDS_NONE_TEXT = "Begin a search; pictures appear here while it runs."
FINDS_NONE_DONE = "The search found nothing of these kinds on this source."
FINDS_NARROWED = "Nothing matches"
FINDS_NARROWED_TEXT = "Other finds are hidden by the words and grades above."
FINDS_CLEAR = "show all"
FINDS_NO_PICTURE = "no picture\nto show"
FINDS_TO_SEARCH = "Go to Search"
FULL_LOADING = "decoding …"
FULL_IN_TRAY = "in the tray"
FULL_CLIP_HINT = "drag along the strip or , . : move in the clip   arrows: next find   Esc: back"
FULL_AT = "{at} of {all}"
FULL_ROWS_HINT = "arrows: next find   Page Up, Page Down: rows   T: tray   Esc: back"
FULL_HINT = "arrows: next find   T: tray   + −: zoom   Esc: back"

# Dossier
DOSSIER_EMPTY = "Choose a find to read about it here."
DOSSIER_PARTNER = "one with {title}"
DOSSIER_NEIGHBOUR = {"dossierBefore": "before it: {title}", "dossierBehind": "behind it: {title}"}
DOSSIER_BESIDE = "Beside it on the tape"
DOSSIER_CHECKS = "Checks"
DOSSIER_INSIDE = "Lies inside another find; show it"
DOSSIER_FRAMES = "Decode every frame now"
DOSSIER_FRAMES_RUN = "decoding every frame …"
DOSSIER_EXTENTS = "Extents"
DOSSIER_PARTS = "Parts"
DOSSIER_SEAMS = "Seams"
DOSSIER_JOINED = "Put together from pieces; show the find that had only the first"
DOSSIER_INTO = "Put into the tray  T"
DOSSIER_OUT = "Take out of the tray  T"
DOSSIER_SOURCE_FACTS = {
    "size": "size", "sectors": "sectors", "path": "path", "hash": "hash", "opened": "opened",
}
OPENED_READ_ONLY = "read-only"
NOT_HASHED = "not made"

# Delivery
DELIVERY_WHAT = "What"
DELIVERY_TRAY_EMPTY = "The tray is empty"
DELIVERY_TRAY_HINT = (
    "Nothing is chosen for you. In Finds, press T on a picture to put it into the tray.")
DELIVERY_TO_FINDS = "Go to Finds"
DELIVERY_HOW = "How"
DELIVERY_HOW_HINT = "a bag (BagIt, SHA-256) with the files, their lists and a report"
DELIVERY_WHERE = "Where"
DELIVERY_CHOOSE = "Choose a folder…"
DELIVERY_ELSEWHERE = "Elsewhere…"
DELIVERY_NO_FOLDER = "No folder chosen yet."
DELIVERY_BUTTON = "Deliver {count}"
DELIVERY_STOP = "Stop"
DELIVERY_OPEN = "Open folder"
DELIVERY_HOLDS = "OK"
DELIVERY_NOT = "not OK"
DELIVERY_ALSO = "manifests with SHA-256, finds.json, finds.csv, report.txt"
DELIVERY_PROMISE = "written, read back and compared"
DELIVERY_ASK = "The client will ask about"
DELIVERY_ASK_NOTHING = "Nothing: all of it is whole and dated."
DELIVERY_NO_DATE = "{count} without a date of their own"
DELIVERY_NO_DATE_ONE = "1 without a date of its own"

# Activity and keys
IDLE = "Nothing is running"
LOG = "Log"
CLOSE = "Close"
LOG_TITLE = "What happened in this job"
KEYS_LINK = "Keys  F1"
KEYS_TITLE = "Keys"
KEYS = [
    ("Alt+1 … Alt+5", "go to a station"),
    ("Ctrl+O", "open an image file"),
    ("arrows, Home, End, Page keys", "move between finds"),
    ("Enter", "full view of the find"),
    ("Page Up,  Page Down", "in the full view of a database: its rows"),
    (",  .", "back and forward in a clip, a frame of most at a time"),
    ("Esc", "back"),
    ("T", "into the tray, or out of it"),
    ("Ctrl+F", "narrow the finds by words"),
    ("Ctrl+M", "only what is missing: what a shelf has and no other source of the job"),
    ("J  G  K", "in Mending: join the piece, let it go on by itself, keep what is there"),
    ("1 … 4,  left, right", "in Mending: look at a piece that may come next"),
    ("[  ]  B", "in Mending: cut earlier, cut later, as found and as joined"),
    ("Ctrl+Z,  Ctrl+Shift+Z", "in Mending: undo and redo"),
    ("M  Shift+M  H", "in Mending: mend it, mend all that wait, compare or join by hand"),
    ("O  C", "in Mending: other places, and other colours, for the rest of a picture"),
    ("+  −", "larger and smaller pictures; zoom in the full view and on the tape"),
    ("Ctrl+P", "pause or continue the search"),
    ("Ctrl+Shift+P", "pause or continue the copy"),
    ("Ctrl+D", "light or dark"),
    ("Ctrl++  Ctrl+−", "larger and smaller text"),
    ("Ctrl+Q", "close; whatever runs goes on from there next time"),
    ("F1", "this list"),
]


def device_next(device: Device) -> str:
    """What stands in the way of copying an attached device; nothing as a rule."""
    if not device.may_read:
        return "may not be read"
    if device.mounted:
        return "mounted for writing"
    return ""


def device_about(device: Device) -> str:
    """'31.9 GB, usb, vfat FERNBECK_1, write-protected'."""
    parts = [units.size(device.size), device.bus]
    parts += [f"{v.file_system} {v.label}".strip() for v in device.volumes if v.file_system]
    if device.write_protected:
        parts.append("write-protected")
    parts.append(device_next(device))
    return ", ".join(part for part in parts if part)


def copy_state(told: Copying | None, waiting: Waiting | None, ended: Copied | None,
               paused: bool, running: bool) -> str:
    """What a copy is doing, in a few words."""
    if waiting is not None:
        return COPY_STATES[str(waiting.reason)]
    if not running and ended is not None:
        return COPY_STATES[str(ended.ending)]
    if paused:
        return COPY_STATES["paused"]
    if told is None:
        return COPY_STATES["begins"]
    if told.phase == "hash":
        return COPY_STATES["hash"]
    return COPY_STATES["trouble" if told.troubled >= told.pending > 0 else "easy"]


def copy_rows(told: Copying) -> list[tuple[str, str]]:
    """(label, value) of how far a copy is; what is not known is said to be unknown."""
    easy = told.pending - told.troubled
    if easy <= 0:
        easy_text = COPY_EASY_DONE
    elif told.easy_seconds is None:
        easy_text = COPY_UNKNOWN
    else:
        easy_text = COPY_EASY.format(time=units.duration(told.easy_seconds))
    if told.troubled:
        troubled = COPY_TROUBLED.format(size=units.size(told.troubled))
    else:
        troubled = COPY_TROUBLED_OVER if told.unreadable else COPY_TROUBLED_NONE
    sectors = -(-told.unreadable // 512)
    lost = f"{units.size(told.unreadable)} ({units.count(sectors, 'sector')})"
    return [
        (COPY_ROWS["read"], units.size(told.read)),
        (COPY_ROWS["pending"], units.size(told.pending)),
        (COPY_ROWS["unreadable"], lost if told.unreadable else "nothing"),
        (COPY_ROWS["easy"], easy_text), (COPY_ROWS["troubled"], troubled)]


def slow_lines(slow: list[tuple[int, int, float]], most: int) -> list[tuple[str, str, str]]:
    """(stretch, speed, 'read') of the longest stretches that were read slowly."""
    longest = sorted(slow, key=lambda s: s[0] - s[1])[:most]
    return [(units.stretch(start, stop), units.speed(rate), COPY_READ_SLOWLY)
            for start, stop, rate in sorted(longest)]


def trouble_line(trouble: Trouble) -> tuple[str, str, str]:
    """(where, how often asked, what becomes of it)."""
    tries = COPY_TRIES_ONE if trouble.tries <= 1 else COPY_TRIES.format(tries=trouble.tries)
    where = f"byte {trouble.start:,}, {units.size(trouble.stop - trouble.start)}"
    return where, tries, COPY_LOST if trouble.lost else COPY_WAITS


def title(job_title: str | None) -> str:
    return f"{job_title} - {PROGRAM}" if job_title else PROGRAM


def sources_line(count: int) -> str:
    if count == 0:
        return "no source yet"
    return READ_ONLY_ONE if count == 1 else READ_ONLY_MANY.format(count=count)


def finds_figure(total: int) -> str:
    return units.count(total, "find") if total else "none yet"


def tray_figure(count: int) -> str:
    return f"{count:,} in the tray" if count else "tray empty"


def comparing(told: tuple[int, int]) -> str:
    """How far a comparison of the sources is."""
    return f"comparing, {told[0]:,} of {told[1]:,}" if told[1] else "comparing…"


def shown_of(shown: int, total: int) -> str:
    if shown == total:
        return units.count(total, "find")
    return f"{shown:,} of {total:,}"


def tray_line(count: int, size: int) -> str:
    return f"{units.count(count, 'find')} in the tray, {units.size(size)}"


def waiting(count: int) -> str:
    if count == 0:
        return "nothing waits"
    return f"{count:,} waiting"


def share_there(name: str, share: float) -> str:
    return f"{units.percent(share)} of {name} is there"
