"""What is said of phones: how far they are ready, and what to do on them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from needlewright.wording import units

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from needlewright.core.jobfile.rows import FindRow

#: State -> (what is the case, what to do on the phone, why).
STATES = {
    "unseen": ("It does not answer", "Connect it, or bring it into the same network, and switch "
               "its sharing of pictures on.", "Without that there is nobody to ask."),
    "busy": ("It speaks with another computer or program", "End that connection: close the other "
             "program, or its app for remote control.", "It speaks with one at a time."),
    "untrusted": ("It does not know this computer", "Unlock it and allow this computer when it "
                  "asks.", "It hands nothing out to strangers."),
    "closed": ("It is locked, or keeps its pictures to itself", "Unlock it and choose to "
               "share files or photos.", "A locked phone shows empty shelves."),
    "limited": ("It asks to be asked later", "It has been asked too often; it goes on by itself.",
                ""),
    "off": ("It does not answer", "See that this computer reaches it.", ""),
    "pulled": ("Its drive is away", "Connect the drive again that it lies on.", ""),
    "plugged": ("Plugged in", "", ""),
    "ready": ("It hands out its files", "It is ready.", ""),
}
#: State -> why a search waits, in few words.
AWAY = {"unseen": "waits: it does not answer", "untrusted": "waits: it lets nobody in",
        "closed": "waits: it is locked", "busy": "waits: it speaks with another",
        "limited": "waits: it asks to be asked later", "off": "waits: it does not answer",
        "pulled": "waits: its drive is away"}
#: What must be so before its files are handed out, in order: the state in which it is not so yet,
#: as it is said before and after.
POINTS = (
    ("unseen", "It answers", "It answers"),
    ("untrusted", "It lets this computer in", "It lets this computer in"),
    ("closed", "It is unlocked and shares its files", "It is unlocked and shares its files"),
    ("listing", "It offers its stores", "It offers its stores: {stores}"),
)
ORDER = ("unseen", "untrusted", "closed", "ready")
DONE, OPEN = "\u2713", "\u25cb"
ADVICE_HEAD = "Before anything else"
ADVICE = ("Stop using the phone and switch it to flight mode: what it writes may lie over what was "
          "removed. Install nothing on it, and keep it charged. What it shows as recently removed "
          "is the first place to look.")
STILL_WAITING = "Still waiting; this turns by itself."
ASKING = "Asking the phone…"
TAKE_IN, LEAVE = "Take it in", "Leave it"
LOOK_AT = "Look at it"
STOP_LISTING = "Stop"
WHY_LISTED = ("Every object is counted, so that nothing is missing without a word. Nothing has "
              "been fetched yet.")


def head(spec: str, model: str) -> str:
    """'Reedbank F2, phone:field-phone'."""
    return f"{model}, {spec}" if model else spec


def points(state: str, stores: Sequence[str]) -> list[str]:
    """What must be so before files are handed out, each with whether it is."""
    reached = ORDER.index("untrusted" if state == "busy" else state) if state in (
        *ORDER, "busy") else 0
    lines = []
    for number, (_, before, after) in enumerate(POINTS):
        done = reached > number or state == "ready"
        lines.append(f"{DONE if done else OPEN}  " + (
            after.format(stores=", ".join(stores)) if done else before))
    return lines


def what_to_do(state: str) -> str:
    """What is to be done on the phone."""
    return STATES[state][1] if state in STATES else ASKING


def why_so(state: str) -> str:
    """Why, and that it is waited for."""
    if state not in STATES or state == "ready":
        return ""
    return f"{STATES[state][2]} {STILL_WAITING}"


def waits_line(source: str, state: str) -> str:
    """'field-phone is away: …' while a search waits."""
    return f"{source} is waited for. {what_to_do(state)}"


def waiting_line(spec: str, state: str) -> str:
    """'phone:field-phone does not know this computer: …; still waiting.'"""
    said, do, _ = STATES[state]
    return f"{spec}: {said[:1].lower()}{said[1:]}. On the phone: {do} Still waiting."


def phone_line(told: Mapping[str, Any]) -> str:
    """A known phone, for a list of sources."""
    said = STATES.get(told["state"], ("", "", ""))[0].lower()
    stores = f"; {', '.join(told['stores'])}" if told["stores"] else ""
    model = f"{told['model']}, " if told["model"] else ""
    raw = "".join(f"\n  raw storage, once it is granted on the phone: {address}  ({name})"
                  for name, address in (told.get("raw") or {}).items())
    return f"{told['path']}  {model}{said}{stores}{raw}"


def listed_line(values: Mapping[str, Any]) -> str:
    """How complete a list is."""
    text = (f"{units.count(int(values.get('files', 0)), 'file')} in "
            f"{units.count(int(values.get('folders', 0)), 'folder')} listed")
    refused, unlisted = int(values.get("refused", 0)), int(values.get("unlisted", 0))
    if unlisted:
        text += f"; {units.count(unlisted, 'folder')} could not be listed"
    if refused:
        return f"{text}; {refused:,} of {int(values['offered']):,} objects refused."
    if values.get("lacking"):
        return (f"{text}; of {int(values['lacking']):,} of them the content is not to be had, or "
                "not to be trusted.")
    if values.get("complete") == 1 and not unlisted:
        return f"{text}; complete: all {int(values.get('offered', 0)):,} objects are listed."
    return f"{text}; not complete." if values.get("complete") == 0 else f"{text}."


STANDIN_TITLE = "Field phone (simulated)"
STANDIN_HEAD = "The survey's field phone, simulated. It is known as phone:{name}."
STANDIN_ASKS = "A computer asks to be trusted."
WISHES = {"unlock": "Unlock", "lock": "Lock", "trust": "Trust the computer",
          "allow": "Share files", "grant": "Grant raw storage", "refuse": "Share nothing",
          "plug": "Plug the cable in", "pull": "Pull the cable"}


def phone_screen(told: Mapping[str, Any]) -> str:
    """What the phone shows of itself."""
    if not told["plugged"]:
        return "The cable is out."
    lines = ["Locked." if told["locked"] else "Unlocked.",
             "It trusts this computer." if told["trusted"] else "It trusts no computer.",
             "Files are shared." if told["allowed"] else "No files are shared."]
    return " ".join(lines)


def state_line(spec: str, state: str) -> str:
    """'phone:field-phone: it does not know this computer.'"""
    said = STATES[state][0]
    return f"{spec}: {said[:1].lower()}{said[1:]}."


def brought_line(rows: Sequence[FindRow]) -> str:
    """What was brought of a phone, in one line."""
    removed = sum(1 for row in rows if row.removed)
    here = sum(1 for row in rows if row.grade != "gone")
    text = f"{units.count(here, 'file')} brought, {removed:,} of them removed and still kept"
    refused = len(rows) - here - sum(1 for row in rows if (row.name or "") == ".nomedia")
    return f"{text}; {refused:,} refused" if refused else text


COPY_RAW = "Copy: {name}"


def raw_line(known: bool, granted: bool) -> str:
    """Whether the raw storage is handed out, and what that is good for; "" where a device has
    none that could be."""
    if not known:
        return ""
    if granted:
        return f"{DONE}  It hands out its raw storage, to be copied and searched like a drive"
    return (f"{OPEN}  For its raw storage, where removed photos may still lie: a higher right, "
            "granted on the phone")


# -- putting back

PUT_BACK_HEAD = "Or put the tray back onto a phone"
PUT_BACK_ONTO = "Put back onto {name}…"
PUT_BACK_YES, PUT_BACK_NO, PUT_BACK_STOP = "Yes, write to the phone", "Not now", "Stop"


def put_line(number: int, name: str) -> str:
    """Where a find is on the phone now."""
    return f"find {number:,}: DCIM/Needlewright/{name}"


def not_put_line(number: int, reason: str) -> str:
    """Why a find is not there."""
    return f"find {number:,} was not put back: {reason}"


def put_back_line(put: int, failed: int, spec: str, finished: bool = True) -> str:
    """The outcome in one line."""
    text = f"{units.count(put, 'file')} put onto {spec} and read back alike"
    text = f"{text}; {failed:,} not" if failed else text
    return text if finished else f"{text}; stopped before the others"


def putting_line(done: int, total: int) -> str:
    """How far it is."""
    return f"putting back: {units.size(done)} of {units.size(total)}"


def put_back_question(count: int, size: int, spec: str) -> tuple[str, str]:
    """(what is asked, what it means) before anything is put onto a phone."""
    return (f"Put {units.count(count, 'file')} ({units.size(size)}) onto {spec}?",
            "They become new files in a folder of their own, DCIM/Needlewright. Nothing that is "
            "there is changed or replaced. Each is read back and compared.")
