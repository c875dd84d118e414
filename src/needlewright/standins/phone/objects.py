"""What the phone holds: the files of folders, one for each store, and as many made-up ones as are
wanted."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Collection
from dataclasses import dataclass, field
from pathlib import Path

FOLDER, UNDEFINED = 0x3001, 0x3000
FORMATS = {".jpg": 0x3801, ".jpeg": 0x3801, ".png": 0x380B, ".mp4": 0xB982, ".mov": 0x300D,
           ".avi": 0x300A, ".wav": 0x3008, ".mp3": 0x3009, ".heic": 0x3800}
FIXED, REMOVABLE = 3, 4
BLOCK = 1 << 20


@dataclass(slots=True)
class Object:
    """A file, or a folder. `file`: where its bytes are, `data`: these themselves; None: they follow
    from its name."""

    handle: int
    store: int
    parent: int
    name: str
    form: int
    size: int = 0
    created: str = ""
    modified: str = ""
    file: Path | None = None
    data: bytes | None = None

    @property
    def is_folder(self) -> bool:
        return self.form == FOLDER

    def read(self, begin: int, length: int) -> bytes:
        """Up to `length` bytes from `begin` on."""
        length = max(0, min(length, self.size - begin))
        if self.data is not None:
            return self.data[begin : begin + length]
        if self.file is not None:
            with open(self.file, "rb") as opened:
                opened.seek(begin)
                return opened.read(length)
        seed = hashlib.sha256(f"{self.handle} {self.name}".encode()).digest()
        first = begin // 32
        block = seed * (length // 32 + 2)
        return block[begin - 32 * first : begin - 32 * first + length]


@dataclass(slots=True)
class Shelves:
    """All objects by handle; `stores`: number -> (label, kind)."""

    stores: dict[int, tuple[str, int]] = field(default_factory=dict)
    objects: dict[int, Object] = field(default_factory=dict)

    def add(self, one: Object) -> Object:
        self.objects[one.handle] = one
        return one

    def next_handle(self) -> int:
        return 0x100 + len(self.objects)

    def within(self, store: int, parent: int) -> list[int]:
        """Handles: `parent` 0: everything, 0xFFFFFFFF: what lies in no folder."""
        every = (o for o in self.objects.values() if store in (0xFFFFFFFF, o.store))
        if parent == 0:
            return [o.handle for o in every]
        wanted = 0 if parent == 0xFFFFFFFF else parent
        return [o.handle for o in every if o.parent == wanted]

    def truth(self) -> dict[str, str]:
        """Path of each file, with its store, -> SHA-256 (hex)."""
        found = {}
        for one in self.objects.values():
            if not one.is_folder:
                digest = hashlib.sha256()
                for at in range(0, one.size, BLOCK):
                    digest.update(one.read(at, BLOCK))
                found[f"{one.handle}:{self.path(one)}"] = digest.hexdigest()
        return found

    def path(self, one: Object) -> str:
        parts = [one.name]
        above = one.parent
        while above:
            parts.append(self.objects[above].name)
            above = self.objects[above].parent
        return "/".join((self.stores[one.store][0], *reversed(parts)))


def shelves_of(stores: list[dict[str, str]], made_up: int = 0, size: int = 0,
               twins: Collection[str] = ()) -> Shelves:
    """The stores described: {"label", "kind": "inner" or "card", "folder"}; `made_up` files more of
    `size` bytes on the first one, in folders of 1,000. `twins`: names of which there is a second
    one in the same folder, with other bytes."""
    shelves = Shelves()
    for number, told in enumerate(stores, 1):
        store = 0x1_0001 if number == 1 else number << 16 | 1
        shelves.stores[store] = told["label"], REMOVABLE if told["kind"] == "card" else FIXED
        if told.get("folder"):
            _add_folder(shelves, store, Path(told["folder"]), 0)
    for one in [o for o in shelves.objects.values() if o.name in twins]:
        shelves.add(Object(shelves.next_handle(), one.store, one.parent, one.name, one.form,
                           one.size + 1, one.created, one.modified))
    store = next(iter(shelves.stores))
    parent = 0
    for number in range(made_up):
        if number % 1000 == 0:
            parent = shelves.add(Object(shelves.next_handle(), store, 0,
                                        f"BATCH_{number // 1000:03}", FOLDER)).handle
        shelves.add(Object(shelves.next_handle(), store, parent, f"BF_{number:05}.JPG", 0x3801,
                           size, "20310512T105947", "20310512T105947"))
    return shelves


def _add_folder(shelves: Shelves, store: int, folder: Path, parent: int) -> None:
    for path in sorted(folder.iterdir()):
        status = path.stat()
        date = time.strftime("%Y%m%dT%H%M%S", time.gmtime(status.st_mtime))
        name = os.fsencode(path.name).decode("utf-8", "replace")
        if path.is_dir():
            one = shelves.add(Object(
                shelves.next_handle(), store, parent, name, FOLDER, 0, date, date))
            _add_folder(shelves, store, path, one.handle)
        else:
            form = FORMATS.get(path.suffix.lower(), UNDEFINED)
            shelves.add(Object(shelves.next_handle(), store, parent, name, form,
                               status.st_size, date, date, path))
