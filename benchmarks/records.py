"""`python -m benchmarks.records [--files N] [--keep DIR] [KIND ...]`: reading all records of a
volume with 100,000 files, against `find` with a `stat` of each over the same tree, mounted.

As root. The volumes are made by mkfs and filled through drivers: ext4 by the kernel, NTFS by
ntfs-3g, exFAT by exfat-fuse where it is there, FAT32 by mtools (and listed by `mdir`, since this
may run where no kernel mounts it). All is in the page cache. A tenth of the files is removed again.
"""

from __future__ import annotations

import argparse
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

FOLDER_FILES = 1000
CONTENT = b"Otter holt 7: fresh spraint.\n"


def fill(root: Path, files: int) -> None:
    """`files` small files in folders of a thousand; then every tenth is removed again."""
    for index in range(files):
        folder = root / f"DCIM/{100 + index // FOLDER_FILES}BRKFD"
        if index % FOLDER_FILES == 0:
            folder.mkdir(parents=True, exist_ok=True)
        (folder / f"Sighting at Alder bend {index:06d}.txt").write_bytes(CONTENT)
    for index in range(0, files, 10):
        (root / f"DCIM/{100 + index // FOLDER_FILES}BRKFD"
         / f"Sighting at Alder bend {index:06d}.txt").unlink()


def run(*command: str) -> None:
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


@contextmanager
def mounted(mount: list[str], image: Path) -> Iterator[Path]:
    """The volume's files, through its driver; by a loop device, which some drivers insist on."""
    loop = subprocess.run(["losetup", "-f", "--show", str(image)], check=True,
                          capture_output=True, text=True).stdout.strip()
    try:
        with tempfile.TemporaryDirectory() as point:
            run(*mount, loop, point)
            try:
                yield Path(point)
            finally:
                run("umount", point)
    finally:
        run("losetup", "-d", loop)


def through(mount: list[str], image: Path, files: int) -> None:
    with mounted(mount, image) as point:
        fill(point, files)


def make(kind: str, image: Path, files: int) -> None:
    sizes = {"ext4": 900 << 20, "ntfs": 600 << 20, "exfat": 900 << 20, "fat32": 700 << 20}
    with image.open("wb") as out:
        out.truncate(max(64 << 20, sizes[kind] * files // 100_000))
    if kind == "ext4":
        run("mkfs.ext4", "-F", "-q", "-b", "1024", "-N", str(files * 5 // 4), str(image))
        through(["mount"], image, files)
    elif kind == "ntfs":
        run("mkfs.ntfs", "-F", "-Q", str(image))
        through(["ntfs-3g"], image, files)
    elif kind == "exfat":
        run("mkfs.exfat", "-c", "4K", str(image))
        through(["mount.exfat-fuse"], image, files)
    else:
        run("mkfs.vfat", "-F", "32", "-s", "2", str(image))
        with tempfile.TemporaryDirectory() as tree:
            fill(Path(tree), files)
            run("mcopy", "-s", "-Q", "-i", str(image), f"{tree}/DCIM", "::")


def walked(kind: str, image: Path) -> float:
    """Seconds that the plain way takes: find with a stat of each file."""
    if kind == "fat32":
        began = time.monotonic()
        run("mdir", "-/", "-i", str(image), "::")
        return time.monotonic() - began
    mounts = {"ext4": ["mount", "-o", "ro"], "ntfs": ["ntfs-3g", "-o", "ro"],
              "exfat": ["mount.exfat-fuse", "-o", "ro"]}
    with mounted(mounts[kind], image) as point:
        began = time.monotonic()
        run("find", str(point), "-type", "f", "-printf", "%s %T@ %p\\n")
        return time.monotonic() - began


def read(image: Path) -> tuple[int, int, float]:
    """(live files, removed ones, seconds) of our reader."""
    from needlewright.core.sources.files import ImageFile
    from needlewright.core.volumes.finding import find_volumes, open_volume

    with ImageFile(image) as source:
        began = time.monotonic()
        reader = open_volume(source, find_volumes(source).volumes[0])
        live = sum(1 for _ in reader.live())
        removed = sum(1 for _ in reader.removed())
        return live, removed, time.monotonic() - began


def child(image: Path) -> str:
    """Read in a process of its own; what it told, and its peak above the bare imports."""
    code = ("import resource,sys; from pathlib import Path; "
            "from needlewright.core.sources.files import ImageFile; "
            "from needlewright.core.volumes.finding import find_volumes; "
            "from needlewright.core.volumes.registry import file_systems; file_systems(); "
            "base=resource.getrusage(resource.RUSAGE_SELF).ru_maxrss; "
            "from benchmarks.records import read; told=read(Path(sys.argv[1])); "
            "peak=resource.getrusage(resource.RUSAGE_SELF).ru_maxrss; "
            "print(*told, (peak-base)//1024)")
    return subprocess.run([sys.executable, "-c", code, str(image)], check=True,
                          capture_output=True, text=True).stdout


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=100_000)
    parser.add_argument("--keep", type=Path)
    parser.add_argument("kinds", nargs="*", default=["fat32", "exfat", "ntfs", "ext4"])
    options = parser.parse_args()
    folder = options.keep or Path(tempfile.mkdtemp())
    folder.mkdir(parents=True, exist_ok=True)
    needs: dict[str, Callable[[], str | None]] = {
        "exfat": lambda: shutil.which("mount.exfat-fuse"), "ntfs": lambda: shutil.which("ntfs-3g")}
    for kind in options.kinds:
        if kind in needs and needs[kind]() is None:
            print(f"{kind}: left out, its driver is not here")
            continue
        image = folder / f"{kind}-{options.files}.img"
        if not image.exists():
            make(kind, image, options.files)
        image.read_bytes() if image.stat().st_size < 1 << 28 else None
        plain = walked(kind, image)
        live, removed, seconds, memory = child(image).split()
        files = int(live) + int(removed)
        print(f"{kind}: {live} live, {removed} removed in {float(seconds):.2f} s "
              f"({files / float(seconds):,.0f} files/s); the plain way {plain:.2f} s "
              f"(ratio {float(seconds) / plain:.1f}); {memory} MiB above the base", flush=True)
    if options.keep is None:
        shutil.rmtree(folder)
    print(f"peak of this process {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MiB")


if __name__ == "__main__":
    main()
