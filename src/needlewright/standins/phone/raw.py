"""The phone's raw storage: images of what its stores lie on, handed out as network block devices
once its owner has granted the higher right.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import threading
from pathlib import Path
from urllib.parse import quote

from needlewright.demo.fat32 import Fat32Volume
from needlewright.standins.faults import Faults
from needlewright.standins.phone.content import FIRST, photo_bytes, taken
from needlewright.standins.phone.state import State
from needlewright.standins.reader import Reader

CARD_BYTES, INNER_BYTES = 96 << 20, 64 << 20
SECTORS = 2  # of a cluster
ON_CARD, REMOVED = 6, 4
INNER_REMOVED = ("FP_0303.jpg", "FP_0306.jpg")


def draw(place: Path, inner: Path) -> dict[str, str]:
    """Images of the card (FAT32) and, where there are tools to make it, of the inner storage
    (ext4); their paths by name. Both hold photos that were removed."""
    images = {"card": str(_card(place / "card.img"))}
    made = _inner(place / "inner.img", inner)
    if made is not None:
        images["inner storage"] = str(made)
    return images


def _card(path: Path) -> Path:
    with path.open("wb") as out:
        volume = Fat32Volume(out, CARD_BYTES, SECTORS, "FIELDCARD", FIRST)
        dcim = volume.make_folder(volume.root, "DCIM", FIRST)
        folder = volume.make_folder(dcim, "200FERNB", FIRST)
        for number in range(ON_CARD + REMOVED):
            when = taken(60 + number)
            entry = volume.write_file(folder, f"FP_{number + 101:04}.JPG",
                                      photo_bytes(60 + number), when)
            if number >= ON_CARD:
                volume.remove(entry)
        volume.finish()
    return path


def _inner(path: Path, folder: Path) -> Path | None:
    """An ext4 volume with what the inner storage holds, some of it removed; None without tools."""
    places = f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"
    tools = [shutil.which(tool, path=places) for tool in ("mke2fs", "debugfs")]
    if None in tools:
        return None
    path.unlink(missing_ok=True)
    make, change = (str(tool) for tool in tools)
    try:
        subprocess.run([make, "-q", "-t", "ext4", "-b", "4096", "-L", "fieldphone", "-d",
                        str(folder), str(path), str(INNER_BYTES // 4096)], check=True,
                       capture_output=True)
        for name in INNER_REMOVED:
            subprocess.run([change, "-w", "-R", f"rm /DCIM/Camera/{name}", str(path)], check=True,
                           capture_output=True)
    except (subprocess.SubprocessError, OSError):
        return None
    return path


def addresses(images: dict[str, str], folder: Path) -> dict[str, str]:
    """What each is reached by, once the right is granted."""
    return {name: f"nbd+unix:///{quote(name)}?socket={quote(str(_socket(name, folder)))}"
            for name in images}


def _socket(name: str, folder: Path) -> Path:
    return folder / f"raw {name}.sock".replace(" ", "-")


def serve_when_granted(images: dict[str, str], folder: Path, state: State) -> None:
    """Hand the images out while the owner grants it."""
    def changed() -> None:
        for name, image in images.items():
            place = _socket(name, folder)
            if state.granted and not place.exists():
                reader = Reader(Path(image), Faults(name), None)
                threading.Thread(target=reader.serve, args=(str(place),), daemon=True).start()
            elif not state.granted:
                with contextlib.suppress(OSError):
                    place.unlink()

    state.on_change.append(changed)
