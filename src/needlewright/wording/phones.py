"""What is said of phones: how far they are ready, and what to do on them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from needlewright.wording import units

#: State -> (what is the case, what to do on the phone, why).
STATES = {
    "unseen": ("It does not answer", "Connect it, or bring it into the same network, and switch "
               "its sharing of pictures on.", "Without that there is nobody to ask."),
    "untrusted": ("It does not know this computer", "Unlock it and allow this computer when it "
                  "asks.", "It hands nothing out to strangers."),
    "closed": ("It is locked, or keeps its pictures to itself", "Unlock it and choose to "
               "share files or photos.", "A locked phone shows empty shelves."),
    "ready": ("It hands out its files", "", ""),
}
#: State -> the error that says so.
CODES = {"unseen": "phone-unseen", "untrusted": "phone-untrusted", "closed": "phone-closed"}
POINTS = (("unseen", "It answers"), ("untrusted", "It trusts this computer"),
          ("closed", "Unlocked, and allowed to share files"), ("ready", "Stores offered"))
ADVICE = ("Stop using the phone, and put it into flight mode: what it writes may lie over what was "
          "removed. Keep it charged. Look first at what it shows as recently removed.")
STILL_WAITING = "still waiting; this turns by itself"
HEAD, ADDRESS, ADDRESS_HINT = "A phone or a camera", "Address", "ptpip://192.0.2.7 or phone:NAME"
ADD, OPEN, CANCEL = "Phone or camera…", "Take it in", "Cancel"
LISTING = "Listing what it holds: {done:,} of {offered:,} objects"


def waiting_line(spec: str, state: str) -> str:
    """'phone:field-phone does not know this computer: …; still waiting.'"""
    said, do, _ = STATES[state]
    return f"{spec}: {said[:1].lower()}{said[1:]}. On the phone: {do} Still waiting."


def phone_line(told: Mapping[str, Any]) -> str:
    """A known phone, for a list of sources."""
    said = STATES.get(told["state"], ("", "", ""))[0].lower()
    stores = f"; {', '.join(told['stores'])}" if told["stores"] else ""
    model = f"{told['model']}, " if told["model"] else ""
    return f"{told['path']}  {model}{said}{stores}"


def listed_line(values: Mapping[str, Any]) -> str:
    """How complete a list is."""
    text = (f"{units.count(int(values.get('files', 0)), 'file')} in "
            f"{units.count(int(values.get('folders', 0)), 'folder')} listed")
    refused, unlisted = int(values.get("refused", 0)), int(values.get("unlisted", 0))
    if unlisted:
        text += f"; {units.count(unlisted, 'folder')} could not be listed"
    if refused:
        return f"{text}; {refused:,} of {int(values['offered']):,} objects refused."
    return f"{text}; complete: all {int(values.get('offered', 0)):,} objects are accounted for."


STANDIN_TITLE = "Field phone (simulated)"
STANDIN_HEAD = "The survey's field phone, simulated. It is known as phone:{name}."
STANDIN_ASKS = "A computer asks to be trusted."
WISHES = {"unlock": "Unlock", "lock": "Lock", "trust": "Trust the computer",
          "allow": "Share files", "refuse": "Share nothing", "plug": "Plug the cable in",
          "pull": "Pull the cable"}


def phone_screen(told: Mapping[str, Any]) -> str:
    """What the phone shows of itself."""
    if not told["plugged"]:
        return "The cable is out."
    lines = ["Locked." if told["locked"] else "Unlocked.",
             "It trusts this computer." if told["trusted"] else "It trusts no computer.",
             "Files are shared." if told["allowed"] else "No files are shared."]
    return " ".join(lines)
