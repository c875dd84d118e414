"""`python -m benchmarks.agreement [--files N] [KIND ...]`: do our readers say what drivers say?

As root. A volume with 20,000 files, long names of many scripts, folders 40 deep, hard links and
sparse files is written through a driver (ext4, xfs, btrfs: the kernel's; ntfs: ntfs-3g; exfat:
exfat-fuse), mounted again read-only, and walked. Compared for every file: path, size, time of
change and content by its hash; and extents with what FIEMAP says, where the driver knows it.
"""

from __future__ import annotations

import argparse
import array
import fcntl
import hashlib
import os
import random
import struct
import tempfile
from pathlib import Path

from benchmarks.records import mounted, run
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.volumes.base import Entry
from needlewright.core.volumes.codings import UnpackedSource
from needlewright.core.volumes.finding import find_volumes, open_volume

FIEMAP = 0xC020660B
HOLES = 0x800 | 0x200  # unwritten, and inline: nothing lies plainly there
NAMES = ("Sichtung {i:05d} – Erlenbogen bei Hochwasser, früh.jpg", "observación {i:05d} ñandú.txt",
         "カワウソ {i:05d} 夜明け.mp4", "выдра {i:05d} у плотины.dat", "BF_{i:05d}.JPG")
KINDS = {"ext4": (["mkfs.ext4", "-F", "-q"], ["mount"]),
         "xfs": (["mkfs.xfs", "-q", "-f"], ["mount"]), "btrfs": (["mkfs.btrfs", "-q"], ["mount"]),
         "ntfs": (["mkfs.ntfs", "-F", "-Q"], ["ntfs-3g"]),
         "exfat": (["mkfs.exfat", "-c", "4K"], ["mount.exfat-fuse"])}


def fill(root: Path, files: int, links: bool, holes: bool) -> None:
    chance = random.Random(20310512)
    for index in range(files):
        folder = root / f"part {index // 500:03d}"
        if index % 500 == 0:
            folder.mkdir()
        path = folder / NAMES[index % len(NAMES)].format(i=index)
        path.write_bytes(chance.randbytes(chance.choice((10, 300, 3000, 9000))))
        if links and index % 50 == 0:
            os.link(path, folder / f"link {index:05d}")
        if holes and index % 100 == 0:
            with path.open("r+b") as out:
                out.truncate(200_000)
                out.seek(120_000)
                out.write(b"otter" * 900)
    deep = root
    for level in range(40):
        deep = deep / f"level {level}"
    deep.mkdir(parents=True)
    (deep / "the last one.txt").write_bytes(b"found")


def fiemap(path: Path) -> list[tuple[int, int]] | None:
    """(byte on the device, length) of what lies plainly; None where the driver does not tell."""
    head = struct.pack("<QQIIII", 0, 1 << 62, 1, 0, 512, 0)
    block = array.array("B", head + bytes(512 * 56))
    try:
        with path.open("rb") as file:
            fcntl.ioctl(file, FIEMAP, block)
    except OSError:
        return None
    count = struct.unpack_from("<I", block, 20)[0]
    found: list[tuple[int, int]] = []
    for index in range(count):
        _, place, length, flags = struct.unpack_from("<QQQ16xI", block, 32 + 56 * index)
        if flags & (HOLES | 0x8):  # or encoded
            return None if flags & 0x208 else found
        if found and found[-1][0] + found[-1][1] == place:
            found[-1] = (found[-1][0], found[-1][1] + length)
        else:
            found.append((place, length))
    return found


def agree(kind: str, files: int) -> tuple[int, list[str]]:
    """(files compared, what differs)."""
    with tempfile.TemporaryDirectory() as scratch:
        image = Path(scratch) / "volume.img"
        with image.open("wb") as out:
            out.truncate(2 << 30)
        form, mount = KINDS[kind]
        run(*form, str(image))
        with mounted(mount, image) as root:
            fill(root, files, links=kind != "exfat", holes=kind != "exfat")
        wrong: list[str] = []
        with ImageFile(image) as source:
            reader = open_volume(source, find_volumes(source).volumes[0])
            ours = {entry.path: entry for entry in reader.live()}
            with mounted([*mount, "-o", "ro"], image) as root:
                theirs = {str(p.relative_to(root)): p for p in root.rglob("*")
                          if p.is_file() and p.name != "lost+found"}
                wrong += [f"only theirs: {p}" for p in sorted(set(theirs) - set(ours))[:5]]
                wrong += [f"only ours: {p}" for p in sorted(set(ours) - set(theirs))[:5]]
                for path in sorted(set(ours) & set(theirs)):
                    wrong += compare(source, ours[path], theirs[path], kind)
        return len(theirs), wrong


def compare(source: ImageFile, entry: Entry, path: Path, kind: str) -> list[str]:
    told, wrong = path.stat(), []
    if entry.size != told.st_size:
        wrong.append(f"{entry.path}: size {entry.size}, {told.st_size}")
    stamp = entry.times.modified
    if kind != "exfat" and (stamp is None or stamp.seconds != int(told.st_mtime)):
        wrong.append(f"{entry.path}: changed {stamp}, {told.st_mtime}")
    if entry.data is not None:
        data = entry.data[: entry.size]
    else:
        file = UnpackedSource(source, 0, entry.coded) if entry.coded else PiecedSource(
            source, entry.extents)
        data = file.read_at(0, entry.size)
    if hashlib.sha256(data).digest() != hashlib.sha256(path.read_bytes()).digest():
        wrong.append(f"{entry.path}: content")
    plain = fiemap(path) if kind in ("ext4", "xfs") else None
    if plain is not None and entry.data is None:
        mine = [(o, n) for o, n in entry.extents if o is not None]
        if [o for o, _ in mine] != [o for o, _ in plain][: len(mine)]:
            wrong.append(f"{entry.path}: extents {mine[:3]}, {plain[:3]}")
    return wrong


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=20_000)
    parser.add_argument("kinds", nargs="*", default=list(KINDS))
    options = parser.parse_args()
    for kind in options.kinds:
        count, wrong = agree(kind, options.files)
        print(f"{kind}: {count:,} files compared, {len(wrong)} differ", *wrong[:8], sep="\n    ",
              flush=True)


if __name__ == "__main__":
    main()
