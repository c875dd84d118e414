"""The simulated services as a command runs them, without a window or with one."""

from __future__ import annotations

import json
import signal
from collections.abc import Callable
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any

from needlewright.core.errors import NeedlewrightError
from needlewright.standins.album.content import PASSWORD as ALBUM_PASSWORD
from needlewright.standins.album.faults import AlbumFaults
from needlewright.standins.album.start import NAME as ALBUM
from needlewright.standins.album.start import running as album_running
from needlewright.standins.sync.faults import PASSWORD as SYNC_PASSWORD
from needlewright.standins.sync.faults import SyncFaults
from needlewright.standins.sync.start import running as sync_running

PASSWORDS = {"album": ALBUM_PASSWORD, "sync": SYNC_PASSWORD}


def made(what: str, faults: str | None) -> AbstractContextManager[Any]:
    """The service, to be entered; NeedlewrightError where its faults make no sense."""
    try:
        if what == "sync":
            return sync_running(SyncFaults.load(Path(faults)) if faults else SyncFaults())
        return album_running(AlbumFaults.load(Path(faults)) if faults else AlbumFaults())
    except (OSError, ValueError, TypeError) as error:
        raise NeedlewrightError("faults-wrong", path=faults, reason=str(error)) from error


def source_of(what: str, running: Any) -> str:
    """What it is opened by."""
    return str(running.address) if what == "sync" else f"album:{ALBUM}"


def run_service(what: str, faults: str | None, interrupt: Callable[[], Any]) -> int:
    """Run it without a window until it is interrupted."""
    service = made(what, faults)
    stop = interrupt()
    signal.signal(signal.SIGTERM, lambda *_: stop.set())  # it takes itself off the list
    with service as running:
        print(json.dumps({"source": source_of(what, running), "address": running.address,
                          "control": running.control}), flush=True)
        while not stop.wait(0.5):
            if running.process.poll() is not None:
                return 1
    return 0
