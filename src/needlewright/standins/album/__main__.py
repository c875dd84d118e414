"""`python -m needlewright.standins.album DESCRIPTION.json CONTROL`: runs the album, headless.

DESCRIPTION: {"user", "password", "items": [{"told", "files"}], "faults": {…}}. Prints one line of
JSON when it is ready: the address that it is reached at. Its owner asks for the one-time code with
`code`, and puts it out of reach with `down` and `up`.
"""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path
from typing import Any

from needlewright.core import processes
from needlewright.standins.album.faults import AlbumFaults, Doorman
from needlewright.standins.album.server import Held, serve
from needlewright.standins.control import serve_control


class Owner:
    """What the owner sees and does."""

    def __init__(self, doorman: Doorman) -> None:
        self._doorman = doorman

    def act(self, wish: str) -> bool:
        if wish in ("down", "up"):
            self._doorman.faults.down = wish == "down"
        return wish in ("down", "up", "code", "state", "truth")

    def told(self) -> dict[str, Any]:
        door = self._doorman
        return {"code": door.code(), "down": door.faults.down, "requests": door.requests,
                "limited": door.limited, "expired": door.expired, "sent": door.sent}


def main(description: str, control: str) -> None:
    """Run it until whoever started it ends."""
    processes.end_with_parent(os.getppid())
    told = json.loads(Path(description).read_text(encoding="utf-8"))
    faults = AlbumFaults(**told.get("faults", {}))
    doorman = Doorman(faults, told["user"], told["password"])
    items = []
    for one in told["items"]:
        name, files = one["told"]["path"].rpartition("/")[2], one["files"]
        paths = {what: Path(file) for what, file in files.items()}
        if name in faults.reduced or name in faults.lost:
            one["told"]["original"] = None
            paths.pop("original", None)
        if name in faults.lost:
            one["told"]["reduced"] = None
            paths.pop("reduced", None)
        items.append(Held(one["told"], paths.get("original"), paths.get("reduced"),
                          paths.get("small")))
    truth = {item.told["path"]: item.told["original"]["sha256"] for item in items
             if item.told["original"]}
    server = serve(items, doorman)
    serve_control(control, Owner(doorman), lambda: truth)
    print(json.dumps({"address": f"http://127.0.0.1:{server.server_address[1]}"}), flush=True)
    server.serve_forever()


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2])
