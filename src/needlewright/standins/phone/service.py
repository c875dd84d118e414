"""The field phone as a command runs it: drawn once, known by its name while it runs."""

from __future__ import annotations

import contextlib
import json
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path

import platformdirs

from needlewright.core.phones.addresses import folder as known_folder
from needlewright.standins.phone.content import draw
from needlewright.standins.phone.raw import draw as draw_raw
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults

NAME = "field-phone"


@contextlib.contextmanager
def running(faults: PhoneFaults) -> Iterator[FieldPhone]:
    """The phone, running, in the list of known ones until it ends."""
    cache = Path(platformdirs.user_cache_dir("needlewright")) / "field phone"
    cache.mkdir(parents=True, exist_ok=True)
    stores = draw(cache)
    images = draw_raw(cache, Path(stores[0]["folder"]))
    with FieldPhone(stores, faults, raw=images) as phone:
        place = known_folder()
        place.mkdir(parents=True, exist_ok=True)
        entry = place / f"{NAME}.json"
        with tempfile.NamedTemporaryFile("w", dir=place, delete=False) as out:
            json.dump({"address": phone.address, "raw": phone.raw}, out)
        os.replace(out.name, entry)
        try:
            yield phone
        finally:
            with contextlib.suppress(OSError):
                if json.loads(entry.read_text())["address"] == phone.address:
                    entry.unlink()
