"""The job folder on disk, and which media it must not lie on."""

from __future__ import annotations

from pathlib import Path

from needlewright.core.sources.mounts import file_system_of

DATABASE = "job.sqlite"
THUMBNAILS = "thumbnails"
STRIPS = "strips"
SHARD = 1000  # thumbnails to a folder

# File systems on which several machines may open the file: SQLite's WAL needs shared memory.
REMOTE = frozenset({
    "nfs", "nfs4", "cifs", "smb3", "smbfs", "9p", "afs", "ceph", "glusterfs", "fuse.sshfs",
    "fuse.glusterfs", "fuse.davfs2", "ncpfs", "lustre", "virtiofs", "vboxsf",
})


def journal_mode(folder: Path) -> str:
    """WAL on local file systems, a rollback journal elsewhere."""
    return "DELETE" if file_system_of(folder) in REMOTE else "WAL"


def thumbnail_path(folder: Path, find: int) -> Path:
    """Where the thumbnail of find number `find` is kept."""
    return folder / THUMBNAILS / f"{find // SHARD:04d}" / f"{find}.jpg"


def strip_path(folder: Path, find: int) -> Path:
    """Where the ten frames of find number `find`, a clip, are kept."""
    return folder / STRIPS / f"{find // SHARD:04d}" / f"{find}.jpg"
