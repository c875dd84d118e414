"""Volumes that are encrypted as a whole: recognised and named, never read.

LUKS: LUKS1 on-disk format 1.2.3 and LUKS2 1.1.2 (big-endian). Encrypted NTFS: its boot sector names
itself. Others have no mark; a volume of a table without any that is random throughout is told to
look encrypted (see finding).
"""

from __future__ import annotations

import struct

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.base import FileSystem, Mark, Reader, VolumeFacts, VolumeState
from needlewright.core.volumes.registry import register

LUKS = b"LUKS\xba\xbe"
NTFS_LOCKED = b"-FVE-FS-"


def probe_luks(volume: Source) -> VolumeFacts | None:
    """Facts of a LUKS container, by its header."""
    try:
        head = volume.read_at(0, 512)
    except SourceError:
        return None
    if head[:6] != LUKS:
        return None
    version = struct.unpack_from(">H", head, 6)[0]
    label = head[24:72].split(b"\0")[0].decode("utf-8", "replace") if version == 2 else ""
    uuid = head[168:208].split(b"\0")[0].decode("ascii", "replace")
    return VolumeFacts(f"luks{version}", volume.size, 0, label, uuid, VolumeState.LOCKED)


def probe_ntfs(volume: Source) -> VolumeFacts | None:
    """Facts of an encrypted NTFS volume, by its boot sector."""
    try:
        head = volume.read_at(0, 512)
    except SourceError:
        return None
    if head[3:11] != NTFS_LOCKED:
        return None
    return VolumeFacts("ntfs-locked", volume.size, 0, state=VolumeState.LOCKED)


def refuse(volume: Source) -> Reader:
    raise FormatError("encrypted", offset=0)


register(FileSystem("luks", probe_luks, refuse, (Mark(LUKS, 0, lambda source, where: where),)))
register(FileSystem("ntfs-locked", probe_ntfs, refuse, (
    Mark(NTFS_LOCKED, 3, lambda source, where: where),)))
