"""The kernel's table of what is mounted where (proc(5), mountinfo): its one reader."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

TABLE = Path("/proc/self/mountinfo")


@dataclass(frozen=True, slots=True)
class Mount:
    """One mount: where, of which type, from which device, with which options."""

    place: str
    kind: str
    device: str
    options: frozenset[str]


def mounts() -> Iterator[Mount]:
    """All mounts, in the order in which they were made; none where the kernel does not tell."""
    try:
        lines = TABLE.read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return
    for line in lines:
        left, _, right = line.partition(" - ")
        fields, behind = left.split(" "), right.split(" ")
        if len(fields) >= 6 and len(behind) >= 2:
            options = {*fields[5].split(","), *(behind[2].split(",") if len(behind) > 2 else ())}
            if "ro" in options:
                options.discard("rw")  # of the place and its file system the stricter holds
            yield Mount(_plain(fields[4]), behind[0], _plain(behind[1]), frozenset(options))


def mount_of(path: str | os.PathLike[str]) -> Mount | None:
    """The mount that `path` lies on; the last one where several stand at one place."""
    target, best = os.path.realpath(path), None
    for mount in mounts():
        inside = target == mount.place or target.startswith(mount.place.rstrip("/") + "/")
        if inside and (best is None or len(mount.place) >= len(best.place)):
            best = mount
    return best


def file_system_of(path: str | os.PathLike[str]) -> str:
    """Type of the file system that `path` lies on, as the kernel names it; "" if unknown."""
    mount = mount_of(path)
    return mount.kind if mount is not None else ""


def _plain(field: str) -> str:
    """A field without the kernel's escapes of blanks, tabs, line ends and backslashes."""
    for code, letter in (("\\040", " "), ("\\011", "\t"), ("\\012", "\n"), ("\\134", "\\")):
        field = field.replace(code, letter)
    return field
