"""Writes to volumes through what writes them in the world: mtools, kernel drivers, FUSE drivers."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

MIB = 1 << 20
TIMEOUT = 120


class DriverError(Exception):
    """The driver refused, for want of room or otherwise; nothing is wrong with us."""


def run(*command: str, data: bytes | None = None, **more: str) -> None:
    done = subprocess.run(command, input=data, capture_output=True, timeout=TIMEOUT,
                          env={**os.environ, **more})
    if done.returncode:
        raise DriverError(f"{command[0]}: {done.stderr.decode('utf-8', 'replace')[-300:]}")


class Driver(ABC):
    """An open volume. Paths are relative, with "/"."""

    @abstractmethod
    def write(self, path: str, data: bytes) -> None:
        """Write a new file, or over one that is there."""

    @abstractmethod
    def append(self, path: str, data: bytes) -> None: ...

    @abstractmethod
    def remove(self, path: str) -> None: ...

    @abstractmethod
    def remove_folder(self, path: str) -> None: ...

    @abstractmethod
    def rename(self, path: str, name: str) -> None:
        """Give a file another name in its folder."""

    @abstractmethod
    def make_folder(self, path: str) -> None: ...

    def settle(self) -> None:
        """What was written so far is on the medium."""
        return

    def close(self) -> None:
        """Everything is on the medium, and nothing is mounted."""
        return


class Mtools(Driver):
    """FAT by mtools, which opens the volume for each command."""

    def __init__(self, image: Path, offset: int) -> None:
        self._spec = f"{image}@@{offset}"

    def _run(self, tool: str, *arguments: str, data: bytes | None = None) -> None:
        run(tool, "-i", self._spec, *arguments, data=data, MTOOLS_SKIP_CHECK="1",
            LC_ALL="C.UTF-8", MTOOLSRC="/dev/null")

    def write(self, path: str, data: bytes) -> None:
        with tempfile.NamedTemporaryFile() as file:
            file.write(data)
            file.flush()
            self._run("mcopy", "-o", "-D", "o", file.name, f"::/{path}")

    def append(self, path: str, data: bytes) -> None:
        raise DriverError("mtools does not append")

    def remove(self, path: str) -> None:
        self._run("mdel", f"::/{_plain(path)}")

    def remove_folder(self, path: str) -> None:
        self._run("mdeltree", f"::/{_plain(path)}")

    def rename(self, path: str, name: str) -> None:
        folder = path.rpartition("/")[0]
        self._run("mren", f"::/{_plain(path)}", f"::/{folder}/{name}" if folder else f"::/{name}")

    def make_folder(self, path: str) -> None:
        self._run("mmd", f"::/{path}")


def _plain(path: str) -> str:
    """A path whose brackets are no pattern."""
    return "".join(f"\\{c}" if c in "[]?*" else c for c in path)


class Mounted(Driver):
    """A volume mounted by `mount(image, point)`."""

    def __init__(self, mount: Callable[[Path], None]) -> None:
        self._point = Path(tempfile.mkdtemp(prefix="needlewright-card-"))
        try:
            mount(self._point)
        except BaseException:
            self._point.rmdir()
            raise

    def _at(self, path: str) -> Path:
        return self._point / path

    def write(self, path: str, data: bytes) -> None:
        self._tried(lambda: self._at(path).write_bytes(data))
        self.settle()

    def append(self, path: str, data: bytes) -> None:
        def put() -> None:
            with self._at(path).open("ab") as out:
                out.write(data)
        self._tried(put)
        self.settle()

    def remove(self, path: str) -> None:
        self._tried(lambda: self._at(path).unlink())

    def remove_folder(self, path: str) -> None:
        self._tried(lambda: shutil.rmtree(self._at(path)))

    def rename(self, path: str, name: str) -> None:
        self._tried(lambda: self._at(path).rename(self._at(path).with_name(name)))

    def make_folder(self, path: str) -> None:
        self._tried(lambda: self._at(path).mkdir(parents=True, exist_ok=True))

    @staticmethod
    def _tried(act: Callable[[], object]) -> None:
        try:
            act()
        except OSError as error:
            raise DriverError(str(error)) from error

    def settle(self) -> None:
        folder = os.open(self._point, os.O_RDONLY)
        try:
            os.fsync(folder)
        except OSError:
            pass  # FUSE drivers of some kinds have nothing to say here
        finally:
            os.close(folder)
        os.sync()

    def close(self) -> None:
        os.sync()
        for _ in range(20):
            if subprocess.run(["umount", self._point], capture_output=True).returncode == 0:
                break
            if not os.path.ismount(self._point):
                break
            subprocess.run(["sleep", "0.2"])
        self._point.rmdir()


@dataclass(frozen=True)
class Kind:
    """A file system as cards are made with it. `least`, `most`: MiB; `units`: bytes of a cluster;
    `tools`: programs that must be there; `weight`: how often it is drawn."""

    name: str
    least: int
    most: int
    units: tuple[int, ...]
    tools: tuple[str, ...]
    weight: int
    root: bool = True

    @property
    def there(self) -> bool:
        """Whether this machine can write it."""
        mounts = os.geteuid() == 0 and os.path.exists("/dev/loop-control")
        found = all(shutil.which(t) or shutil.which(t, path="/usr/sbin:/sbin") for t in self.tools)
        return found and (mounts or not self.root)


KINDS = {k.name: k for k in (
    Kind("fat12", 1, 8, (512, 1024, 2048), ("mkfs.vfat", "mcopy"), 2, root=False),
    Kind("fat16", 20, 60, (1024, 2048, 4096), ("mkfs.vfat", "mcopy"), 4, root=False),
    Kind("fat32", 40, 128, (512, 1024, 2048, 4096), ("mkfs.vfat", "mcopy"), 10, root=False),
    Kind("exfat", 16, 128, (4096, 8192, 32768), ("mkfs.exfat", "mount.exfat-fuse"), 9),
    Kind("ntfs", 16, 96, (512, 1024, 4096, 8192), ("mkntfs", "ntfs-3g"), 9),
    Kind("ext2", 16, 64, (1024, 2048, 4096), ("mkfs.ext4",), 2),
    Kind("ext3", 16, 96, (1024, 2048, 4096), ("mkfs.ext4",), 6),
    Kind("ext4", 16, 256, (1024, 2048, 4096), ("mkfs.ext4",), 9),
    Kind("xfs", 320, 340, (4096, 1024), ("mkfs.xfs",), 2),
    Kind("btrfs", 120, 160, (4096,), ("mkfs.btrfs",), 2),
)}


def make(kind: str, image: Path, offset: int, size: int, unit: int, label: str,
         sector: int) -> None:
    """Format `size` bytes of the image from `offset` on."""
    with tempfile.TemporaryDirectory() as folder:
        part = Path(folder) / "part.img"
        with part.open("wb") as out:
            out.truncate(size)
        _format(kind, part, unit, label, sector)
        run("dd", f"if={part}", f"of={image}", "bs=1M", f"seek={offset}", "oflag=seek_bytes",
            "conv=notrunc,sparse", "status=none")


def _format(kind: str, part: Path, unit: int, label: str, sector: int) -> None:
    if kind.startswith("fat"):
        run("mkfs.vfat", "-F", kind[3:], "-s", str(max(1, unit // sector)), "-S", str(sector),
            "-n", label[:11].upper(), str(part))
    elif kind == "exfat":
        run("mkfs.exfat", "-c", str(unit), "-L", label[:11], str(part))
    elif kind == "ntfs":
        run("mkntfs", "-F", "-Q", "-q", "-c", str(unit), "-L", label, str(part))
    elif kind.startswith("ext"):
        run(f"mkfs.{kind}", "-q", "-F", "-b", str(unit), "-L", label[:16], str(part))
    elif kind == "xfs":
        run("mkfs.xfs", "-q", "-f", "-b", f"size={unit}", "-L", label[:12], str(part))
    else:
        run("mkfs.btrfs", "-q", "-f", "-L", label, str(part))


def open_volume(kind: str, image: Path, offset: int, size: int) -> Driver:
    """A driver for the volume at `offset`."""
    if kind.startswith("fat"):
        return Mtools(image, offset)
    loop = f"loop,offset={offset},sizelimit={size}"
    if kind in ("ntfs", "exfat"):
        return _Looped(kind, image, offset, size)
    driver = {"ext2": "ext2", "ext3": "ext3"}.get(kind, kind)
    return Mounted(lambda point: run("mount", "-t", driver, "-o", loop, str(image), str(point)))


class _Looped(Mounted):
    """FUSE drivers of NTFS and exFAT, over a loop device."""

    def __init__(self, kind: str, image: Path, offset: int, size: int) -> None:
        done = subprocess.run(
            ["losetup", "--find", "--show", f"--offset={offset}", f"--sizelimit={size}",
             str(image)], capture_output=True, text=True)
        if done.returncode:
            raise DriverError(done.stderr)
        self._device = done.stdout.strip()
        command = ("ntfs-3g",) if kind == "ntfs" else ("mount.exfat-fuse",)
        try:
            super().__init__(lambda point: run(*command, self._device, str(point)))
        except BaseException:
            run("losetup", "--detach", self._device)
            raise

    def close(self) -> None:
        super().close()
        run("losetup", "--detach", self._device)
