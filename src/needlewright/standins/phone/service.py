"""The field phone as a command runs it: drawn once, known by its name while it runs."""

from __future__ import annotations

import contextlib
import itertools
import json
import os
import socket
import tempfile
from collections.abc import Iterator
from pathlib import Path

import platformdirs

from needlewright.core.phones.addresses import ADDRESS
from needlewright.core.phones.addresses import folder as known_folder
from needlewright.standins.phone.content import draw
from needlewright.standins.phone.raw import draw as draw_raw
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults

NAME = "field-phone"


def free_name(place: Path) -> str:
    """NAME, or with a number where another phone of that name is running."""
    for number in itertools.count(1):
        name = NAME if number == 1 else f"{NAME}-{number}"
        try:
            hit = ADDRESS.fullmatch(json.loads((place / f"{name}.json").read_text())["address"])
            with socket.create_connection((hit[1], int(hit[2])), timeout=1):  # type: ignore[index]
                continue
        except (OSError, ValueError, KeyError, TypeError):
            return name  # none, or one that ended without taking itself off
    raise AssertionError


@contextlib.contextmanager
def running(faults: PhoneFaults) -> Iterator[FieldPhone]:
    """The phone, running, in the list of known ones until it ends."""
    cache = Path(platformdirs.user_cache_dir("needlewright")) / "field phone"
    cache.mkdir(parents=True, exist_ok=True)
    with contextlib.ExitStack() as held:
        # A place of its own: names hold the day on which they are purged, and several may run.
        drawn = Path(held.enter_context(tempfile.TemporaryDirectory(dir=cache)))
        stores = draw(drawn)
        images = draw_raw(drawn, Path(stores[0]["folder"]))
        phone = held.enter_context(FieldPhone(stores, faults, raw=images))
        place = known_folder()
        place.mkdir(parents=True, exist_ok=True)
        phone.known_as = free_name(place)
        entry = place / f"{phone.known_as}.json"
        with tempfile.NamedTemporaryFile("w", dir=place, delete=False) as out:
            json.dump({"address": phone.address, "raw": phone.raw}, out)
        os.replace(out.name, entry)
        try:
            yield phone
        finally:
            with contextlib.suppress(OSError):
                if json.loads(entry.read_text())["address"] == phone.address:
                    entry.unlink()
