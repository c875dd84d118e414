"""What went wrong, what is safe, what to do next: one sentence or two for every error code."""

from __future__ import annotations

import errno
import os
from typing import TYPE_CHECKING, Any

from needlewright.core.errors import FormatError, NeedlewrightError
from needlewright.core.names import one_line
from needlewright.wording import breaks, units

if TYPE_CHECKING:
    from collections.abc import Mapping

FULL = frozenset((errno.ENOSPC, errno.EDQUOT, errno.EFBIG))
SENTENCES = {
    "find-not-played": "Find {find} cannot be played: no clip or sound begins there any more.",
    "source-missing": "There is no file at {path}.",
    "phone-unseen": "{path} does not answer. Connect the phone, or bring it into the same network.",
    "phone-untrusted": "{path} does not let this computer in. Unlock the phone, and allow this "
                       "computer when it asks.",
    "phone-closed": "{path} hands nothing out: it is locked, or has not been told to share its "
                    "files. Unlock the phone and choose to share files or photos.",
    "phone-busy": "{path} speaks with another computer or program already, and with one at a time. "
                  "End that one.",
    "phone-usb-busy": "{path} is held by another program, most likely the desktop, which opens "
                      "phones by itself. Eject it in the file manager (or: gio mount -u), leave "
                      "it plugged in, and try again.",
    "phone-usb-denied": "{path} may not be opened by this user. A udev rule for it grants that "
                        "(the rule set of libmtp or libgphoto2 names most phones and cameras); "
                        "or run it once with sudo.",
    "phone-lost": "The connection to {path} was lost ({reason}). What was brought is kept.",
    "phone-refused": "{path} refuses: {reason}.",
    "phone-disk": "What {path} holds cannot be written here: {reason}. What was brought is kept.",
    "onto-no-phone": "{path} is no phone. Its address is phone:NAME, ptpip://HOST or usb:.",
    "onto-unsearched": "{path} was not searched for all removed files yet. New files would take "
                       "the place of removed ones that it may still hold: search it first.",
    "onto-undelivered": "{path} still holds removed files that were not delivered ({count:,}). New "
                        "files could take their place: deliver them first.",
    "onto-full": "{path} has no room for so much: {need_size} are wanted, {free_size} are free.",
    "onto-changed": "The source changed after find {find} was checked. Search it again first.",
    "onto-differs": "{path} is on the phone, but reads back otherwise than it was sent.",
    "onto-no-yes": "Nothing was put back. {count:,} files would be written to {path}, as new ones "
                   "in DCIM/Needlewright; --yes says that this is wanted.",
    "phone-unknown": "No phone is known by the name {name}.",
    "inside-no-shelf": "{path} is no phone, backup or album; there is nothing to look inside.",
    "names-unread": "The list of names {path} cannot be used: {reason}.",
    "names-unknown": "{path} does not offer {count:,} of the files that are named: {names}.",
    "thumbnails-there": "The folder {path} is not empty; give one that is, or a new one.",
    "backup-unknown": "{path} is no backup of a layout that is known here.",
    "backup-damaged-list": "What {path} holds cannot be told: its list or its facts are damaged.",
    "backups-no-place": "Name a place to look in, or a job whose sources are looked at.",
    "backups-none": "There is no backup in {path}.",
    "secret-wanted": "{path} is locked, and no {what} was given. Nothing was opened.",
    "secret-wrong": "That {what} does not open {path}. Nothing was opened.",
    "secret-unread": "No secret can be read from {path}: {reason}.",
    "shelf-lost": "{path} went away and did not come back. What was brought is kept.",
    "shelf-limited": "{path} is asked too often, and answers again in {seconds} s.",
    "service-silent": "{path} does not answer ({reason}). See that this computer reaches it.",
    "service-says": "{path} does not hand that out (answer {status}).",
    "service-not-json": "{path} answers with something that is no list: perhaps a page to sign in "
                        "on, or another service.",
    "service-elsewhere": "{path} points to another place. Nothing was asked there.",
    "service-endless": "{path} answers without an end. It was given up.",
    "service-certificate": "{path} cannot be trusted: its certificate is not good ({reason}). "
                           "Nothing was sent to it.",
    "no-display-standin": "There is no display for its window; give --headless.",
    "standin-extra": "The simulated folder needs the extra 'demo': install needlewright[demo].",
    "standin-no-control": "Name the running device too: --control PATH, as its first line of JSON "
                          "shows.",
    "standin-away": "No simulated device can be reached at {path} ({reason}).",
    "keyring-refused": "The desktop's keyring did not take the password: {reason}. It is kept in "
                       "memory alone.",
    "dav-no-user": "{path} wants to know who signs in: dav+https://NAME@HOST/PATH.",
    "secret-in-address": "A password does not belong into an address, where others can read it. "
                         "Leave it out; it is asked for, or comes from --secret-file.",
    "album-unknown": "No album is known by the name {name}.",
    "loss-no-date": "Find {find} has no date, so it does not tell when the loss was.",
    "shelf-no-bytes": "{path} hands out files; it is no medium that is copied or hashed as one.",
    "address-wrong": "'{path}' is no address that is understood here; they look like "
                     "ptpip://192.0.2.7, usb: or phone:NAME, and dav+https://NAME@HOST/PATH.",
    "faults-wrong": "{path} describes no faults: {reason}.",
    "source-denied": "{path} may not be read by this user; ask for read permission and try again.",
    "device-denied": "{path} may not be read by {user}. This grants it until it is unplugged: "
                     "sudo setfacl -m u:{user}:r {path}",
    "source-mounted": "{path} is mounted for writing at {mounts} and would change under the copy. "
                      "Unmount it first: sudo umount {mounts}",
    "copy-lost-patience": "{path} did not come back; the copy goes on when it is asked for again.",
    "stopped": "{path} was left when the work was stopped.",
    "source-directory": "{path} is a folder; choose an image file in it.",
    "folder-empty": "There are no files in {path}.",
    "steps-unfit": "{source} cannot be searched that way ({steps}): files are looked at by "
                   "the step files, phones by the step kept-copies, media by all others.",
    "source-not-a-file": "{path} is neither a file nor a drive.",
    "source-empty": "{path} is empty, so there is nothing to search.",
    "source-unopenable": "{path} cannot be opened: {reason}.",
    "source-range": "{path} cannot be read from {start_place} to {stop_place}: {reason}. "
                    "What was found so far is kept.",
    "source-gone": "{path} no longer answers. Connect it again; what was read is kept.",
    "source-unknown": "'{path}' is no source that can be opened.",
    "piece-missing": "{path} is missing between the other pieces of this image.",
    "nbd-unreachable": "{path} does not answer: {reason}.",
    "nbd-refused": "{path} is not served: {reason}.",
    "nbd-protocol": "{path} does not speak the network block device protocol as it should: "
                    "{reason}.",
    "source-shrank": "{path} became shorter while it was read, at {start_place}. "
                     "What was found so far is kept.",
    "source-shorter": "The source ends before find {find} does; it may have been exchanged.",
    "source-changed": "{path} was {was_size} when this job began and is {now_size} now; it is not "
                      "the same image. Begin a new job for it.",
    "source-none": "This job has no source yet; open an image file first.",
    "area-outside": "The area {start} to {stop} lies outside the source, which has {size} bytes.",
    "area-wrong": "'{text}' is no area; write START:END in bytes.",
    "job-missing": "There is no job at {path}.",
    "job-not-ours": "{path} holds other files and no Needlewright job; choose an empty or new "
                    "folder.",
    "job-not-a-folder": "{path} is not a folder.",
    "job-newer": "The job at {path} was written by a newer Needlewright (version {version} of the "
                 "job file, this one knows {known}); it was left untouched.",
    "job-read-only": "The job at {path} cannot be written; copy it to a place where you may "
                     "write.",
    "job-not-written": "The job at {path} could not be written: {reason}. What was saved before "
                       "is safe.",
    "job-at-work": "Another program is working on the job in {path}. Try again when it has ended, "
                   "or stop it; nothing was changed.",
    "job-damaged": "The job file at {path} cannot be read: {reason}.",
    "job-damaged-searched": "The job file at {path} is damaged ({reason}), so no search writes to "
                            "it any more. What can be read of it is listed and delivered; copy it "
                            "to a new job to search again.",
    "job-row-damaged": "The job file is damaged: an entry in it makes no sense ({reason}). Finds "
                       "that can be read are still listed and delivered.",
    "job-damaged-in-part": "Parts of the job file at {path} cannot be read ({reason}); what can be "
                           "read is shown, and can be copied to a new job.",
    "job-copy-taken": "There is a job in {path} already; choose an empty folder.",
    "job-copy-within": "{path} lies in the job that is to be copied; choose a folder outside of "
                       "it.",
    "job-in-source": "{path} lies in the folder that is to be looked at, and nothing may be "
                     "written there; choose a place outside of it.",
    "job-on-source": "{path} lies on the medium that is being recovered, and nothing may be "
                     "written there; choose another disk for it.",
    "source-elsewhere": "The medium cannot be opened by another process.",
    "backups-not-all": "{path} holds more than {count:,} files and folders; what lies behind those "
                       "was not looked at. Give a folder further in.",
    "reader-ended": "{path} was not opened: the process that reads it ended at once.",
    "source-silent": "{path} did not open within {seconds} seconds.",
    "other-medium": "{path} is another medium than the one that {image} was begun from; nothing "
                    "was read into it.",
    "map-missing": "{path} has no read map beside it, so there is nothing to compare it with.",
    "map-damaged": "The read map {path} is damaged and so is the one before it. The image is kept; "
                   "copy the medium again, and what agrees with its hashes need not be read anew.",
    "copy-locked": "{path} is being copied by another program; only one at a time may write it.",
    "image-not-written": "The image {path} could not be written: {reason}. What was copied before "
                         "is safe.",
    "image-not-ours": "{path} exists and has no read map, so it is no unfinished copy; it was left "
                      "untouched.",
    "folder-unknown": "No record names the folder {folder}.",
    "hand-on-shelf": "This is a file, not a medium: there are no other pieces to join to it.",
    "hand-no-way": "Files of this kind ({format}) cannot be joined by hand.",
    "hand-not-broken": "Nothing of this find is missing that could be joined to it.",
    "hand-no-begin": "Its beginning cannot be read, so there is nothing to join pieces to.",
    "hand-outside": "There is nothing at {at:,}: the medium ends before that, or no file can lie "
                    "there.",
    "hand-used": "The file uses what lies at {at:,} already.",
    "hand-refused": "What lies at {at:,} cannot be the next piece: the file does not go on with "
                    "it. Nothing was changed.",
    "hand-no-gain": "Checked as a whole, the file comes no farther than the find it was joined "
                    "from, so nothing was kept.",
    "hand-nothing-more": "The program found nothing that goes on from here.",
    "hand-no-find": "Say which find: its number stands in the list that join gives by itself.",
    "hand-no-offer": "There is no piece number {number} to take; call it without --take to see "
                     "what there is.",
    "hand-no-place": "\u201c{text}\u201d is no place. Write bytes, as 52428800 or 31.204 GB, or a "
                     "sector, as \u201csector 61000\u201d.",
    "hand-nothing": "Nothing has been joined yet, so there is nothing to keep.",
    "find-unknown": "This job has no find number {find}.",
    "nothing-narrowed": "Say which finds: by --ids, --grades, --kinds, --folder, --removed-only.",
    "nothing-chosen": "Nothing is chosen for delivery; put finds into the tray, or choose others.",
    "to-in-job": "{path} lies inside the job folder or around it; deliver somewhere else.",
    "to-on-source": "{path} lies on {source}, the medium being recovered; nothing is ever written "
                    "there. Deliver to another disk.",
    "to-not-a-folder": "{path} is a file, not a folder.",
    "to-unreadable": "{path} cannot be looked into.",
    "to-not-empty": "{path} is not empty ({items} inside); choose an empty or new folder.",
    "to-denied": "{path} may not be written to.",
    "to-no-space": "{path} has {free_size} free; this delivery needs {need_size}.",
    "to-too-large": "One file of {largest_size} is too large for this file system "
                    "({file_system}).",
    "to-full": "The disk with {path} became full. Nothing that looks complete was left there; "
               "make room and deliver again.",
    "to-busy": "Another delivery to {path} is running; wait for it, or choose another folder.",
    "nothing-readable": "None of the chosen finds could be read: {reason}.",
    "to-failed": "The delivery to {path} failed: {reason}. Nothing that looks complete was left "
                 "there.",
    "not-as-written": "{path} read back differently from what was written; do not trust this "
                      "disk.",
    "kind-unknown": "'{kind}' is no kind; choose from {known}.",
    "step-unknown": "'{step}' is no step; choose from {known}.",
    "grade-unknown": "'{grade}' is no grade; choose from {known}.",
    "demo-failed": "The demo could not be built: {reason}.",
    "rows-folder-there": "{path} is there already and was left as it is; choose a new folder for "
                         "the tables.",
    "list-there": "{path} is there already and was left as it is; choose another name for the "
                  "list.",
    "not-yet": "{what} is not part of this version yet.",
}

# Reasons that are ours; all others are the system's own words.
REASONS = {
    "answer-unasked": "an answer came that was not asked for",
    "connection-ended": "it ended the connection",
    "greeting-unknown": "it sent no fixed newstyle greeting",
    "reply-senseless": "it sent a reply that makes no sense",
    "replies-endless": "it never stops replying",
}
SIZES = {"free": "free_size", "need": "need_size", "largest": "largest_size", "was": "was_size",
         "now": "now_size"}


def reason(problem: Mapping[str, Any]) -> str:
    """What a logged problem (its code and values) means, as the end of another sentence."""
    if problem.get("code") == "format":
        return breaks.phrase(problem)
    return sentence(str(problem.get("code")), dict(problem)).rstrip(".")


def explain(error: BaseException) -> str:
    """The sentence for `error`; foreign errors are named as what they are."""
    if isinstance(error, FormatError):
        told = breaks.phrase(error.values)
        return f"{told[:1].upper()}{told[1:]}, at byte {error.offset:,}."
    if isinstance(error, NeedlewrightError):
        return sentence(error.code, error.values)
    if isinstance(error, OSError) and error.errno in FULL:
        where = f" at {error.filename}" if error.filename else ""
        return f"There is no room left on the disk{where}. What was saved before is safe."
    if isinstance(error, OSError) and error.filename and error.errno:
        path = one_line(str(error.filename))
        return f"{path} cannot be used: {os.strerror(error.errno).lower()}."
    text = str(error).strip() or type(error).__name__
    return f"Something unforeseen happened: {text}. What was saved before is safe."


def sentence(code: str, values: dict[str, Any]) -> str:
    """The sentence for an error code with its values."""
    # Paths may be anything, and a sentence stays in its line, whatever a terminal makes of it.
    filled = {name: one_line(told) if isinstance(told, str) else told
              for name, told in values.items()}
    for name, target in SIZES.items():
        if name in values:
            filled[target] = units.size(int(values[name]))
    for name in ("start", "stop"):
        if isinstance(values.get(name), int):
            filled[f"{name}_place"] = units.place(values[name])
    if "reason" in values:
        filled["reason"] = REASONS.get(str(values["reason"]), values["reason"])
    try:
        return SENTENCES[code].format(**filled)
    except (KeyError, IndexError):
        return f"{code.replace('-', ' ')}."
