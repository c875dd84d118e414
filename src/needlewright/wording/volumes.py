"""Volumes, and why files are still kept, in words."""

from __future__ import annotations

from needlewright.wording import units

KINDS = {
    "fat12": "FAT12", "fat16": "FAT16", "fat32": "FAT32", "exfat": "exFAT", "ntfs": "NTFS",
    "ext2": "ext2", "ext3": "ext3", "ext4": "ext4", "xfs": "XFS", "btrfs": "btrfs", "f2fs": "F2FS",
    "hfsplus": "HFS+", "luks1": "LUKS, encrypted", "luks2": "LUKS, encrypted",
    "ntfs-locked": "NTFS, encrypted", "looks-encrypted": "looks encrypted", "swap": "swap",
    "fat, formatted over": "former FAT", "exfat, formatted over": "former exFAT",
    "ntfs, formatted over": "former NTFS", "ext, formatted over": "former ext",
}
STATES = {"sound": "", "damaged": "damaged", "lost": "no table names it", "locked": "encrypted"}
LIMITS = {
    "xfs-names": "Names of removed files come from the log and from freed room in folders.",
    "xfs-sizes": "A removed file's size may be known only by where its content ends.",
    "btrfs-one-device": "Only what lies on this one of its devices can be read.",
    "hfs-removed": "Of removed files, only records that nothing was moved over come back.",
    "ntfs-shadow": "It keeps older states of its files (shadow storage). Their layout was never "
                   "published, so they are not read here.",
    "ntfs-names": "Some drivers take the name out of a removed file's record.",
}
KEPT = {
    "trash": "in the trash", "phone-trash": "in the phone's trash",
    "gallery-trash": "in a gallery's trash", "unfinished": "never finished by the phone",
    "hidden": "hidden from galleries, not removed", "version": "an older version",
    "service-trash": "among what was removed lately there",
}
KEPT_HEADS = {
    "trash": "Trash", "phone-trash": "Phone's trash", "gallery-trash": "Gallery's trash",
    "unfinished": "Unfinished on the phone", "hidden": "Hidden from galleries; nothing was removed",
    "version": "Older versions", "service-trash": "Removed lately, and still kept",
}


def kind(name: str) -> str:
    """A file system's name."""
    return KINDS.get(name, name or "unknown")


def title(kind_name: str, label: str, size: int) -> str:
    """'FAT32 "CARD", 63.9 GB'."""
    named = f"{kind(kind_name)} “{label}”" if label else kind(kind_name)
    return f"{named}, {units.size(size)}"


def line(kind_name: str, label: str, size: int, cluster: int, state: str,
         used: int | None) -> str:
    """What one line tells of a volume."""
    parts = [title(kind_name, label, size)]
    if cluster:
        parts.append(f"clusters of {cluster:,} bytes")
    if used is not None:
        parts.append(f"{units.size(used)} in use")
    if STATES.get(state):
        parts.append(STATES[state])
    return ", ".join(parts)


def kept_line(code: str, original: str | None, removed_at: str | None,
              days_left: int | None) -> str:
    """'In the trash since 12 May 2031; was DCIM/…; the device purges it in 3 days.'"""
    text = KEPT.get(code, code)
    text = text[:1].upper() + text[1:]
    if code == "version":
        return f"An older version, of the snapshot {original}." if original else f"{text}."
    if removed_at:
        text += f" since {units.moment(removed_at)}"
    if original:
        text += f"; was {original}"
    if days_left is not None:
        text += ("; the device would have removed it by now" if days_left < 0 else
                 f"; the device removes it in {units.count(days_left, 'day')}")
    return text + "."
