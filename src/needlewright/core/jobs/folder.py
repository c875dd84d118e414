"""The job folder on disk, and which media it must not lie on."""

from __future__ import annotations

import os
from pathlib import Path

DATABASE = "job.sqlite"
THUMBNAILS = "thumbnails"
STRIPS = "strips"
SHARD = 1000  # thumbnails to a folder

# File systems on which several machines may open the file: SQLite's WAL needs shared memory.
REMOTE = frozenset({
    "nfs", "nfs4", "cifs", "smb3", "smbfs", "9p", "afs", "ceph", "glusterfs", "fuse.sshfs",
    "fuse.glusterfs", "fuse.davfs2", "ncpfs", "lustre", "virtiofs", "vboxsf",
})


def file_system_of(path: Path) -> str:
    """Type of the file system that `path` lies on, as the kernel names it; "" if unknown."""
    target, best, kind = os.path.realpath(path), "", ""
    try:
        lines = Path("/proc/self/mounts").read_text(encoding="utf-8", errors="replace")
    except OSError:
        return ""
    for line in lines.splitlines():
        fields = line.split(" ")
        if len(fields) < 3:
            continue
        mount = fields[1].replace("\\040", " ")
        inside = target == mount or target.startswith(mount.rstrip("/") + "/")
        if inside and len(mount) >= len(best):
            best, kind = mount, fields[2]
    return kind


def journal_mode(folder: Path) -> str:
    """WAL on local file systems, a rollback journal elsewhere."""
    return "DELETE" if file_system_of(folder) in REMOTE else "WAL"


def thumbnail_path(folder: Path, find: int) -> Path:
    """Where the thumbnail of find number `find` is kept."""
    return folder / THUMBNAILS / f"{find // SHARD:04d}" / f"{find}.jpg"


def strip_path(folder: Path, find: int) -> Path:
    """Where the ten frames of find number `find`, a clip, are kept."""
    return folder / STRIPS / f"{find // SHARD:04d}" / f"{find}.jpg"
