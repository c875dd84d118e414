"""Draws a card and its history from a seed, and lets it happen."""

from __future__ import annotations

import hashlib
import random
import subprocess
from dataclasses import dataclass, field
from pathlib import Path

from tests.cards import contents, drivers
from tests.cards.drivers import KINDS, MIB, Driver, DriverError

FOLDERS = ("DCIM/104BRKFD", "DCIM/105BRKFD", "NOTES", "Otter holt 7", "été/Fernbeck",
           "выдры", "カワウソ", "deep/er/and/deeper", "UPPER", "a.b.c", "MISC")
STEMS = ("BF_{n:04d}", "IMG-{n}", "dawn at Reedmouth weir {n}", "Sichtung – Fäßchen {n}",
         "наблюдение {n}", "カワウソ{n}", "otter🦦{n}", "a{n}", "Very long name of a recording "
         "that somebody made at Alder bend one morning in May, number {n}", "week.{n}.final",
         "Ω{n}", "CLIP{n:03d}", "note ({n})", "מצפה {n}")


@dataclass(frozen=True)
class Gone:
    """A file that was there once. `where`: what took it away."""

    path: str
    sha256: str
    size: int
    data: bytes
    where: str


@dataclass
class Card:
    """A finished card. `live`: path -> content; `gone`: in the order in which they went;
    `ever`: hashes of everything that ever stood on it as a whole, with what it is."""

    seed: int
    kind: str
    image: Path
    offset: int
    unit: int
    table: str
    live: dict[str, bytes] = field(default_factory=dict)
    gone: list[Gone] = field(default_factory=list)
    ever: dict[str, str] = field(default_factory=dict)
    refused: int = 0

    def __str__(self) -> str:
        return (f"seed {self.seed}: {self.kind}, clusters of {self.unit}, "
                f"{self.image.stat().st_size // MIB} MiB, table {self.table}, "
                f"{len(self.live)} live, {len(self.gone)} gone")


def kinds_here() -> list[str]:
    """The kinds of card that this machine can write."""
    return [name for name, kind in KINDS.items() if kind.there]


def make(seed: int, folder: Path, kinds: list[str] | None = None, most: int = 110) -> Card:
    """Draw and write the card of `seed` into `folder`: at most so many things happen to it."""
    rng = random.Random(f"needlewright card {seed}")
    names = kinds or list(KINDS)
    name = rng.choices(names, [KINDS[n].weight for n in names])[0]
    kind = KINDS[name]
    unit = rng.choice(kind.units)
    size = rng.randrange(kind.least, kind.most + 1) * MIB
    if name == "fat12":
        size = min(size, 4000 * unit // MIB * MIB or MIB)
    if name == "fat16":
        size = min(size, 64_000 * unit // MIB * MIB)
    if name == "fat32":
        size = max(size, 67_000 * unit // MIB * MIB + 2 * MIB)
    table = rng.choice(("none", "mbr", "mbr", "gpt")) if kind.root or name != "fat12" else "none"
    offset = 0 if table == "none" else rng.choice((1, 2, 4)) * MIB
    image = folder / f"card-{seed}.img"
    with image.open("wb") as out:
        out.truncate(offset + size + (2 * MIB if table == "gpt" else 0))
    if table != "none":
        _partition(image, table, name, offset, size)
    sector = 4096 if name in ("fat32", "fat16") and unit >= 4096 and rng.random() < 0.2 else 512
    drivers.make(name, image, offset, size, unit, f"FERN{seed % 1000}", sector)
    card = Card(seed, name, image, offset, unit, table)
    driver = drivers.open_volume(name, image, offset, size)
    try:
        _happen(card, driver, rng, size, most)
    finally:
        driver.close()
    return card


def _partition(image: Path, table: str, name: str, offset: int, size: int) -> None:
    kinds = {"mbr": {"exfat": "7", "ntfs": "7"}.get(name, "c" if name.startswith("fat") else "83"),
             "gpt": "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7" if name in ("exfat", "ntfs") or
             name.startswith("fat") else "0FC63DAF-8483-4772-8E79-3D69D8477DE4"}
    script = f"label: {'dos' if table == 'mbr' else 'gpt'}\n"
    script += f"start={offset // 512}, size={size // 512}, type={kinds[table]}\n"
    subprocess.run(["sfdisk", "--quiet", "--no-reread", "--no-tell-kernel", str(image)],
                   input=script.encode(), capture_output=True, check=True)


def _happen(card: Card, driver: Driver, rng: random.Random, size: int, most: int) -> None:
    folders = [""]
    room = size * rng.uniform(0.3, 0.9) * (0.5 if card.kind in ("xfs", "btrfs") else 1)
    for number in range(1, min(most, rng.randrange(31, 111))):
        act = rng.choices(("write", "remove", "overwrite", "rename", "folder", "clear", "append"),
                          (60, 26, 5, 4, 8, 1, 3))[0]
        try:
            if act == "folder" and len(folders) < 9:
                wanted = rng.choice(FOLDERS)
                if wanted not in folders:
                    for depth in range(1, wanted.count("/") + 2):
                        upper = "/".join(wanted.split("/")[:depth])
                        if upper not in folders:
                            driver.make_folder(upper)
                            folders.append(upper)
            elif act == "clear" and len(folders) > 1:
                _clear(card, driver, rng, folders)
            elif act == "write" or not card.live:
                _write(card, driver, rng, folders, number, room)
            else:
                _change(card, driver, rng, act, number)
        except DriverError:
            card.refused += 1
    driver.settle()


def _write(card: Card, driver: Driver, rng: random.Random, folders: list[str], number: int,
           room: float) -> None:
    extension, data = contents.file(rng)
    stem = rng.choice(STEMS).format(n=number)
    folder = rng.choice(folders)
    path = f"{folder}/{stem}.{extension}" if folder else f"{stem}.{extension}"
    if sum(map(len, card.live.values())) + len(data) > room or path in card.live:
        return
    if card.kind.startswith("fat") and any(ord(c) > 0xFFFF for c in path):
        return  # mtools writes what is outside the basic plane in a way of its own
    try:
        driver.write(path, data)
    except DriverError:
        card.gone.append(_gone(path, data, "refused"))  # a part of it may stand
        _remove_half(driver, path)
        raise
    card.live[path] = data
    card.ever[_sha(data)] = extension


def _remove_half(driver: Driver, path: str) -> None:
    try:
        driver.remove(path)
    except DriverError:
        return


def _change(card: Card, driver: Driver, rng: random.Random, act: str, number: int) -> None:
    path = rng.choice(sorted(card.live))
    data = card.live[path]
    if act == "remove":
        driver.remove(path)
        card.gone.append(_gone(path, card.live.pop(path), "removed"))
    elif act == "overwrite":
        extension, new = contents.file(rng)
        try:
            driver.write(path, new)
        except DriverError:
            del card.live[path]  # cleared already, and no room for the new one: who knows
            raise
        card.gone.append(_gone(path, data, "overwritten"))
        card.live[path] = new
        card.ever[_sha(new)] = extension
    elif act == "append":
        more = rng.randbytes(rng.randrange(1, 60_000))
        driver.append(path, more)
        card.live[path] = data + more
        card.ever[_sha(data + more)] = "appended"
    elif act == "rename":
        name = f"renamed {number}.{path.rsplit('.', 1)[-1]}"
        driver.rename(path, name)
        folder = path.rpartition("/")[0]
        card.live[f"{folder}/{name}" if folder else name] = card.live.pop(path)


def _clear(card: Card, driver: Driver, rng: random.Random, folders: list[str]) -> None:
    chosen = rng.choice(folders[1:])
    driver.remove_folder(chosen)
    inside = [p for p in card.live if p.startswith(chosen + "/")]
    for path in inside:
        card.gone.append(_gone(path, card.live.pop(path), "folder"))
    folders[:] = [f for f in folders if f != chosen and not f.startswith(chosen + "/")]


def _gone(path: str, data: bytes, where: str) -> Gone:
    return Gone(path, _sha(data), len(data), data, where)


def _sha(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()
