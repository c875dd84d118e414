"""Running work and the log in words."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from needlewright.wording import errors, finds, phones, units, volumes

if TYPE_CHECKING:
    from needlewright.core.delivery.bag import Delivered, Delivering
    from needlewright.core.imaging.events import Copied, Copying, Waiting
    from needlewright.core.imaging.verify import Verified, Verifying
    from needlewright.core.search.events import Progress

PHASES = {"write": "writing", "bag": "making the manifests", "verify": "reading back"}

LOG = {
    "joined-by-hand": "Find {find} was joined by hand, in {pieces} pieces.",
    "search-begins": "Search of {source} begins: {steps}.",
    "search-done": "{step} on {source}: done.",
    "search-stopped": "{step} on {source}: stopped; it goes on from there next time.",
    "kept-listed": "{listed}",
    "phone-waiting": "It went away ({state}); it is waited for, and what was brought is "
                     "kept.",
    "kept-missing": "{wanted:,} files of it are not in the job yet; {there:,} are, and stay where "
                    "they are.",
    "loss-set": "The day of the loss was set: {day}.",
    "phone-back": "It is back; it goes on.",
    "file-unread": "{path} was not looked at: {why}.",
    "range-unreadable": "Not readable from {start_place} to {stop_place}: {reason}.",
    "former-volume": "Traces of a {kind} volume with clusters of {bytes_size}: its files are "
                     "looked at.",
    "volume-in-file": "The file {path} holds a {kind} volume; its files are looked at too.",
    "volume-in-pieces": "The file {path} holds a {kind} volume, but in pieces; what is in it "
                        "is found without names.",
    "volume-unread": "The {kind} volume at {start_place} cannot be read: {why}.",
    "volume-locked": "The volume at {start_place} is encrypted ({kind}); without its key nothing "
                     "in it can be read.",
    "volume-boot-from-copy": "The beginning of the volume at {start_place} is damaged; a copy of "
                             "it was used.",
    "volume-fat-copies-differ": "The two allocation tables differ from {start_place} on; both are "
                                "used.",
    "volume-fat-unreadable": "A part of the allocation table at {start_place} cannot be read.",
    "volume-bitmap-missing": "The map of what is in use cannot be read at {start_place}.",
    "volume-chunks-elsewhere": "{count} stretches of this file system lie on other devices.",
    "volume-folder-damaged": "The folder {path} is damaged at {start_place}.",
    "volume-folder-encrypted": "Names and contents are encrypted at {start_place}.",
    "volume-folder-loop": "The folder {path} leads back into itself at {start_place}; it is not "
                          "followed again.",
    "volume-folder-unreadable": "A part of a folder at {start_place} cannot be read.",
    "volume-group-damaged": "A part of the volume's own records at {start_place} is damaged.",
    "volume-inode-missing": "{path} is listed, but its record is not there.",
    "volume-log-unreadable": "The log at {start_place} cannot be read.",
    "volume-node-wrong": "A record at {start_place} is another than it should be.",
    "volume-record-damaged": "Record {record} at {start_place} is damaged.",
    "volume-record-unreadable": "Records at {start_place} cannot be read.",
    "volume-tree-wrong": "A part of a tree of records at {start_place} is damaged.",
    "volume-chain-free": "The chain of {path} runs into free clusters.",
    "volume-chain-loop": "The chain of {path} runs in circles.",
    "volume-chain-outside": "The chain of {path} leaves the volume.",
    "volume-chain-short": "The chain of {path} is shorter than its size.",
    "volume-cluster-outside": "{path} is said to begin outside the volume.",
    "volume-partition-cut": "A partition goes on behind the end of the medium.",
    "volume-partition-outside": "A partition lies behind the end of the medium.",
    "volume-table-loop": "The partition table leads back into itself at {start_place}.",
    "volume-table-chain-broken": "The partition table ends early at {start_place}.",
    "volume-table-first-missing": "The partition table is gone; its copy at the end was used.",
    "volume-table-header-wrong": "The partition table at {start_place} is damaged.",
    "volume-table-entries-wrong": "Entries of the partition table at {start_place} are damaged.",
    "volume-table-unreadable": "The partition table at {start_place} cannot be read.",
    "decoders-unconfined": "This kernel does not offer {missing}, so the decoders of pictures and "
                           "clips are confined less than they could be.",
    "delivered": "Delivered {files} files, {bytes_size}, to {path}; read back and compared.",
    "put-back": "{files} files put onto {path} and read back alike; {failed} not.",
    "delivery-stopped": "The delivery to {path} was stopped; nothing there looks complete.",
    "copy-begins": "Copy of {source} to {image} begins, or goes on.",
    "copy-waits-gone": "{spec} no longer answers; the copy waits for it.",
    "copy-waits-hangs": "A read hangs; the copy waits until the drive lets go of it.",
    "copy-waits-other": "Another medium answers as {spec}; the copy waits for its own.",
    "copy-goes-on": "The medium is back as {spec}; the copy goes on.",
    "copy-done": "{image}: copied, {bytes_size} read, {unreadable_size} unreadable.",
    "copy-stopped": "{image}: copy stopped at {bytes_size}; it goes on from there next time.",
    "copy-full": "{image}: copy paused at {bytes_size}, before the disk is full.",
    "copy-time": "{image}: the time given is over, {bytes_size} were read.",
    "failed": "{text}",
    "job-made": "Job made.",
    "job-copied": "Copied from the damaged job in {from}: {finds} of {known} finds.",
    "source-added": "{source} opened read-only, {bytes_size}.",
}


def search_line(source: str, progress: Progress) -> str:
    """'signatures, stream card: 24.4 of 59.6 GB, 212 MB/s, 2 min 46 s left'."""
    step = finds.STEPS.get(progress.step, progress.step)
    if progress.waiting is not None:
        made = units.count(progress.solved or 0, "file")
        return f"{step}, {source}: {made} put together, {progress.waiting:,} in pieces still"
    if progress.away:
        return phones.waits_line(source, progress.away)
    text = f"{step}, {source}: {_how_far(progress)}"
    if progress.done >= progress.total:
        return f"{text}, last checks"
    if progress.bytes_per_second > 0 and progress.files is None:
        text += f", {units.speed(progress.bytes_per_second)}"
    if progress.seconds_left is not None:
        text += f", {units.duration(progress.seconds_left)} left"
    return text


def _how_far(progress: Progress) -> str:
    """'24.4 of 59.6 GB', or '3 of 30 files'."""
    if progress.files is not None:
        return f"{progress.files[0]:,} of {units.count(progress.files[1], 'file')}"
    return f"{units.size(progress.done)} of {units.size(progress.total)}"


def paused_line(source: str, progress: Progress | None) -> str:
    if progress is None:
        return f"{source}: paused"
    return f"{source}: paused at {_how_far(progress)}"


def copy_line(image: str, event: Copying) -> str:
    """'copy, drowned card.img: 24.4 of 31.9 GB, 41 MB/s, 3 min left, 11.2 MB troubled'."""
    if event.phase == "hash":
        return f"hash, {image}: {units.size(event.hashed)} of {units.size(event.size)}"
    text = f"copy, {image}: {units.size(event.read)} of {units.size(event.size)}"
    if event.bytes_per_second > 0 and event.pending > event.troubled:
        text += f", {units.speed(event.bytes_per_second)}"
    if event.easy_seconds is not None and event.pending > event.troubled:
        text += f", {units.duration(event.easy_seconds)} left"
    if event.troubled:
        text += f", {units.size(event.troubled)} troubled"
    if event.unreadable:
        text += f", {units.size(event.unreadable)} unreadable"
    return text


def copy_waits_line(image: str, event: Waiting) -> str:
    return log_line(f"copy-waits-{event.reason}", {"image": image, "spec": image})


def verify_line(image: str, event: Verifying) -> str:
    return f"verify, {image}: {units.size(event.done)} of {units.size(event.size)}"


def verified_line(event: Verified) -> str:
    """What comparing an image with its hashes found."""
    if event.stopped:
        return "Verifying was stopped; nothing differed so far."
    if event.differing:
        first, length = event.differing[0]
        more = f" and {len(event.differing) - 1} more" if len(event.differing) > 1 else ""
        return f"Differs in {units.stretch(first, first + length)}{more}."
    if event.whole is False:
        return "Its SHA-256 differs."
    text = "Read again: all of it agrees with its hashes."
    if event.unknown:
        text += f" {units.count(event.unknown, 'chunk')} had none yet."
    return text


def copied_line(event: Copied) -> str:
    """How a copy ended, in one sentence."""
    image = event.image.rsplit("/", 1)[-1]
    return log_line(f"copy-{event.ending}", {
        "image": image, "bytes": event.read, "unreadable": event.unreadable})


def delivery_line(event: Delivering) -> str:
    return f"delivery: {PHASES[event.phase]}, {units.percent(event.done / max(1, event.total))}"


def delivered_line(event: Delivered) -> str:
    if not event.finished:
        return "Stopped. Nothing that looks complete was left; deliver again to finish."
    text = (f"{units.count(event.files, 'file')}, {units.size(event.bytes)}: written, read back "
            "and compared.")
    if event.failed:
        text += (f" {units.count(event.failed, 'find')} could not be delivered; finds.csv and the "
                 "report say why.")
    if event.changed:
        text += (f" {units.count(event.changed, 'file')} changed on the source after the search,"
                 " and was checked again." if event.changed == 1 else
                 f" {event.changed:,} files changed on the source after the search, and were"
                 " checked again.")
    if event.shortened:
        text += f" {units.count(event.shortened, 'name')} had to be shortened."
    return text


def log_line(code: str, values: dict[str, Any]) -> str:
    """One log entry as a sentence."""
    filled = {**values}
    if "step" in values:
        filled["step"] = finds.STEPS.get(str(values["step"]), str(values["step"])).capitalize()
    if isinstance(values.get("steps"), list):
        filled["steps"] = ", ".join(finds.STEPS.get(s, s) for s in values["steps"])
    for name in ("start", "stop"):
        if isinstance(values.get(name), int):
            filled[f"{name}_place"] = units.place(values[name])
    for name in ("bytes", "unreadable"):
        if isinstance(values.get(name), int):
            filled[f"{name}_size"] = units.size(values[name])
    if isinstance(values.get("problem"), dict):
        filled["why"] = errors.reason(values["problem"])
    if code == "kept-listed":
        filled["listed"] = phones.listed_line(values)
    if "kind" in values:
        filled["kind"] = volumes.kind(str(values["kind"]))
    try:
        return LOG[code].format(**filled)
    except KeyError:
        return code.replace("-", " ") + "."


def clock(seconds: float) -> str:
    """When a log entry was made, by the local clock."""
    return f"{datetime.fromtimestamp(seconds):%Y-%m-%d %H:%M:%S}"
