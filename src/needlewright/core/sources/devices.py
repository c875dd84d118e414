"""Block devices that are attached, as `lsblk --json` (util-linux) tells of them."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from needlewright.core import processes
from needlewright.core.sources.mounts import mounts

COLUMNS = ("NAME,PATH,SIZE,TYPE,MODEL,SERIAL,TRAN,RM,RO,MOUNTPOINTS,FSTYPE,LABEL,PHY-SEC,LOG-SEC,"
           "FSVER")
WHOLE = frozenset({"disk", "loop", "rom", "raid0", "raid1", "raid5", "raid6", "raid10"})
LSBLK_SECONDS = 10.0
MAX_DEPTH = 8


@dataclass(frozen=True, slots=True)
class Volume:
    """A partition or what lies on it; `mounts`: where, `writing`: mounted so that it changes."""

    path: str
    size: int
    file_system: str
    label: str
    mounts: tuple[str, ...]
    writing: bool


@dataclass(frozen=True, slots=True)
class Device:
    """A whole device; sizes in bytes. `may_read`: this user may; `group`: who may otherwise."""

    path: str
    name: str
    size: int
    kind: str
    model: str
    serial: str
    bus: str
    removable: bool
    write_protected: bool
    sector: int
    block: int
    volumes: tuple[Volume, ...]
    may_read: bool
    group: str

    @property
    def mounted(self) -> tuple[Volume, ...]:
        """The volumes that may change under a copy."""
        return tuple(v for v in self.volumes if v.writing)


def list_devices() -> list[Device]:
    """All whole devices of some size, by path; empty where lsblk is not there or fails."""
    if shutil.which("lsblk") is None:
        return []
    try:
        done = subprocess.run(
            ["lsblk", "--json", "--bytes", "--output", COLUMNS], capture_output=True,
            env=processes.environment(), timeout=LSBLK_SECONDS, check=True)
        listed = json.loads(done.stdout)["blockdevices"]
    except (subprocess.SubprocessError, OSError, ValueError, KeyError):
        return []
    return devices_from(listed, _mount_options())


def mounted_for_writing(spec: str) -> list[str]:
    """Where the device at `spec`, or a part of it, is mounted so that it changes."""
    path = os.path.realpath(spec)
    for device in list_devices():
        for volume in device.mounted:
            if path == device.path or path == volume.path:
                return [mount for v in device.mounted for mount in v.mounts
                        if path in (device.path, v.path)]
    return []


def devices_from(listed: list[dict[str, Any]], options: dict[str, str]) -> list[Device]:
    """The devices in lsblk's list; `options`: mount options by mount point."""
    found = []
    for item in listed:
        size = int(item.get("size") or 0)
        package = item.get("type") == "loop" and item.get("fstype") == "squashfs"
        if item.get("type") not in WHOLE or size == 0 or package:
            continue
        path = str(item.get("path") or "/dev/" + str(item["name"]))
        found.append(Device(
            path, str(item["name"]), size, str(item["type"]), _text(item, "model"),
            _text(item, "serial"), _text(item, "tran"), bool(item.get("rm")),
            bool(item.get("ro")), int(item.get("log-sec") or 512),
            int(item.get("phy-sec") or 512), tuple(_volumes(item, options, 0)),
            os.access(path, os.R_OK), _group_of(path)))
    return sorted(found, key=lambda device: device.path)


def _text(item: dict[str, Any], name: str) -> str:
    return str(item.get(name) or "").strip()


def _volumes(item: dict[str, Any], options: dict[str, str], depth: int) -> Iterator[Volume]:
    mounts = tuple(str(m) for m in item.get("mountpoints") or () if m)
    if item.get("fstype") or mounts:
        writing = any("rw" in options.get(m, "rw").split(",") for m in mounts)
        yield Volume(str(item.get("path") or ""), int(item.get("size") or 0),
                     _text(item, "fstype"), _text(item, "label"), mounts, writing)
    if depth < MAX_DEPTH:
        for child in item.get("children") or ():
            yield from _volumes(child, options, depth + 1)


def _mount_options() -> dict[str, str]:
    """Options by mount point, from the kernel's own table."""
    return {mount.place: ",".join(sorted(mount.options)) for mount in mounts()}


def _group_of(path: str) -> str:
    import grp

    try:
        return grp.getgrgid(os.stat(path).st_gid).gr_name
    except (OSError, KeyError):
        return ""
