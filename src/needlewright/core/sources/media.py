"""Which physical media a path lies on, by the kernel's own tables (sysfs, mountinfo)."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from needlewright.core.sources.mounts import mount_of

MAX_LAYERS = 8  # a file system on LVM on LUKS on RAID on partitions is five


def disks_under(path: str | os.PathLike[str]) -> frozenset[str]:
    """Names of the disks that hold `path`: the device itself, or what its file system lies on.

    A path that does not exist yet counts as its nearest existing parent. Empty where the kernel
    does not tell (memory file systems, network shares).
    """
    target = Path(path).absolute()
    while not target.exists() and target != target.parent:
        target = target.parent
    status = os.stat(target)
    if stat.S_ISBLK(status.st_mode):
        return _disks(status.st_rdev)
    return _disks(status.st_dev) or _disks_of_mount(target)


def _disks(device: int) -> frozenset[str]:
    node = Path(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}")
    return _down(node.resolve(), MAX_LAYERS) if node.exists() else frozenset()


def _down(node: Path, layers: int) -> frozenset[str]:
    """From a partition to its disk, and from a mapped device to what it maps."""
    slaves = node / "slaves"
    below = sorted(slaves.iterdir()) if slaves.is_dir() else []
    if below and layers > 0:
        found: frozenset[str] = frozenset()
        for slave in below:
            found |= _down(slave.resolve(), layers - 1)
        return found
    disk = node.parent if (node / "partition").exists() else node
    return frozenset({disk.name})


def _disks_of_mount(path: Path) -> frozenset[str]:
    """For file systems with numbers of their own (btrfs): the device named when it was mounted."""
    mount = mount_of(path)
    if mount is None:
        return frozenset()
    try:
        status = os.stat(mount.device)
    except OSError:
        return frozenset()
    return _disks(status.st_rdev) if stat.S_ISBLK(status.st_mode) else frozenset()


def shares_medium(source_path: str, other: str | os.PathLike[str]) -> bool:
    """Whether writing to `other` would write onto the source, a device, or into it, a folder."""
    try:
        if os.path.isdir(source_path):
            inside = Path(os.path.realpath(other))
            return inside.is_relative_to(os.path.realpath(source_path))
        if not stat.S_ISBLK(os.stat(source_path).st_mode):
            return False
        return bool(disks_under(source_path) & disks_under(other))
    except OSError:
        return False
