"""`python -m needlewright.standins.phone DESCRIPTION.json CONTROL`: runs the phone, headless.

DESCRIPTION: {"name", "stores": [{"label", "kind", "folder"}], "faults": {…}, "raw": {name: image}}.
Prints one line of JSON when it is ready: the address that it is reached at.
"""

from __future__ import annotations

import io
import json
import os
import sys
from pathlib import Path

from PIL import Image

from needlewright.core import processes
from needlewright.standins.control import serve_control
from needlewright.standins.phone.objects import shelves_of
from needlewright.standins.phone.raw import serve_when_granted
from needlewright.standins.phone.server import PhoneServer
from needlewright.standins.phone.state import PhoneFaults, State

SIDE = 160


def small(data: bytes) -> bytes:
    """A small picture of a photo; b"" of anything else."""
    try:
        with Image.open(io.BytesIO(data)) as picture:
            picture.thumbnail((SIDE, SIDE))
            out = io.BytesIO()
            picture.convert("RGB").save(out, "JPEG")
            return out.getvalue()
    except (OSError, ValueError):
        return b""


def made(description: Path, control: str) -> tuple[PhoneServer, State]:
    """The phone that is described, with the socket of its owner."""
    told = json.loads(description.read_text(encoding="utf-8"))
    faults = PhoneFaults(**told.get("faults", {}))
    shelves = shelves_of(told["stores"], faults.made_up, faults.size,
                         faults.twins)
    state = State(faults)
    serve_when_granted(told.get("raw", {}), Path(control).parent, state)
    serve_control(control, state, shelves.truth)
    return PhoneServer(shelves, state, told.get("name", "Reedbank F2"), small), state


def main(description: str, control: str) -> None:
    """Run it until whoever started it ends."""
    processes.end_with_parent(os.getppid())
    server, _ = made(Path(description), control)
    print(json.dumps({"address": f"ptpip://127.0.0.1:{server.port}"}), flush=True)
    server.serve()


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2])
