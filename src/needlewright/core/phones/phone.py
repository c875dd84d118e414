"""A device from this side: the process that speaks with it, started when it is needed and ended
when it is silent. Raises SourceError with what a person must know.
"""

from __future__ import annotations

import base64
import contextlib
import json
import os
import selectors
import subprocess
import threading
import time
from collections import Counter
from collections.abc import Callable
from enum import StrEnum
from pathlib import Path
from typing import Any

from needlewright.core import kept_open, processes
from needlewright.core.errors import SourceError
from needlewright.core.phones import codes
from needlewright.core.phones.addresses import resolved
from needlewright.core.phones.datasets import Device, Store
from needlewright.core.phones.listing import Held, Listing
from needlewright.core.stopping import Interrupted, StopSignal

SILENT_SECONDS = 120.0  # without any word from the process
POLL_SECONDS = 0.1
KILLED_SECONDS = 5.0  # that a killed process is waited for
MOST_LINE = 1 << 26
OF_OBJECTS = frozenset(("fetch", "thumbnail", "put"))
STATES = frozenset((codes.ACCESS_DENIED, codes.STORE_NOT_AVAILABLE))


class State(StrEnum):
    """How far a device is ready: each is reached when those before it are."""

    UNSEEN = "unseen"  # nobody answers at its address
    BUSY = "busy"  # it speaks with another computer or program, and with one at a time
    UNTRUSTED = "untrusted"  # it does not let this computer in
    CLOSED = "closed"  # it is locked, or has not been allowed to hand out media
    READY = "ready"


#: Losses that a person can do something about.
NAMED_LOSSES = {"unseen": "phone-unseen", "usb-busy": "phone-usb-busy",
                "usb-denied": "phone-usb-denied", "busy": "phone-busy"}
OF_ERRORS = {"phone-unseen": State.UNSEEN, "phone-lost": State.UNSEEN, "phone-busy": State.BUSY,
             "phone-untrusted": State.UNTRUSTED, "phone-closed": State.CLOSED}
#: State -> the error that says so.
OF_STATES = {str(state): code for code, state in OF_ERRORS.items() if code != "phone-lost"}


class Phone:
    """The device at `spec`, spoken with one question after another."""

    def __init__(self, spec: str, stop: StopSignal | None = None) -> None:
        self.spec, self.stop = spec, stop or threading.Event()
        self.device: Device | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self.address = ""  # that it is spoken with at
        self._selector: selectors.BaseSelector | None = None
        self._rest = b""
        self._lock = threading.Lock()

    def state(self) -> tuple[State, list[Store]]:
        """How far it is ready, and its stores where it is."""
        try:
            try:
                told = self._asked({"do": "state"})
            except SourceError as error:
                if error.code != "phone-lost":
                    raise
                told = self._asked({"do": "state"})  # in a new session: the old one was over
            stores = [Store(**s) for s in told["stores"]]
        except SourceError as error:
            if error.code not in OF_ERRORS:
                raise
            return OF_ERRORS[error.code], []
        return (State.READY if stores else State.CLOSED), stores

    def listing(self, told: Callable[[int, int], None] = lambda done, offered: None) -> Listing:
        """Everything that it holds, with what is missing of the list."""
        found = Listing()

        def take(line: dict[str, Any]) -> bool:
            if "files" in line:
                found.files += [Held(*f) for f in line["files"]]
            elif "so_far" in line:
                told(int(line["so_far"]), int(line["offered"]))
            return "listed" in line

        done = self._asked({"do": "list"}, take)["listed"]
        found.stores = [Store(**s) for s in done["stores"]]
        found.offered, found.folders = int(done["offered"]), int(done["folders"])
        found.refused = Counter({int(c): int(n) for c, n in done["refused"]})
        found.missed = int(done["missed"])
        if not found.stores:
            raise SourceError("phone-closed", path=self.spec)
        return found

    def is_same(self) -> bool:
        """Whether what was listed last is still what it holds, in the session in which it was."""
        return self.is_open and bool(self._asked({"do": "same"})["same"])

    @property
    def is_open(self) -> bool:
        """Whether there is a session that nothing has ended."""
        return self._process is not None and self._process.poll() is None

    def fetch(self, held: Held, path: Path, told: Callable[[int], None] = lambda got: None,
              whole: bool = False) -> int:
        """Put the bytes of a file into the file at `path`, going on behind what is there of it;
        `whole`: never ask for a part of it.
        How many it has; SourceError where they cannot be had, those that came are left there."""
        with contextlib.suppress(OSError):
            if held.size is not None and path.stat().st_size > held.size:
                path.unlink()
        begin = path.stat().st_size if path.exists() else 0

        def take(line: dict[str, Any]) -> bool:
            if "got" in line:
                told(int(line["got"]))
            return "done" in line

        done = self._asked({"do": "fetch", "handle": held.handle, "size": held.size,
                            "begin": begin, "path": os.path.abspath(path), "whole": whole}, take)
        return int(done["done"])

    def thumbnail(self, held: Held) -> bytes:
        """The device's own small picture of a file; b"" where it has none."""
        return base64.b64decode(self._asked({"do": "thumbnail", "handle": held.handle})["data"])

    def put(self, path: Path, name: str, modified: str = "", form: int = codes.UNDEFINED,
            told: Callable[[int], None] = lambda got: None) -> tuple[str, str]:
        """Put the file at `path` onto it as a new one called `name`, dated `modified`
        (YYYYMMDDThhmmss), of the object format `form` (ISO 15740:2013, 11.2).
        (The name that it has there, the SHA-256 of what was read back)."""
        def take(line: dict[str, Any]) -> bool:
            if "got" in line:
                told(int(line["got"]))
            return "put" in line

        done = self._asked({"do": "put", "path": os.path.abspath(path), "name": name,
                            "modified": modified, "form": form}, take)
        return done["put"], done["sha256"]

    # the process

    def _asked(self, request: dict[str, Any],
               take: Callable[[dict[str, Any]], bool] = lambda line: True) -> dict[str, Any]:
        """The last line of the answer to `request`, the one for which `take` is true."""
        with self._lock:
            self._open()
            self._ask(request)
            while True:
                line = self._line()
                if "refused" in line:
                    raise self._refusal(line["refused"], request["do"])
                if "disk" in line:
                    raise SourceError("phone-disk", path=self.spec, reason=line["disk"])
                if take(line):
                    return line

    def _ask(self, request: dict[str, Any]) -> None:
        process = self._process
        assert process is not None and process.stdin is not None
        try:
            process.stdin.write(json.dumps(request).encode() + b"\n")
            process.stdin.flush()
        except OSError as error:
            self.close()
            raise SourceError("phone-lost", path=self.spec, reason="closed") from error

    def _open(self) -> None:
        if self.is_open:
            return
        self.close()
        self.address = resolved(self.spec)
        kept_open.let_go(self.address)  # many speak with one at a time
        self._process = processes.start_to_stay("needlewright.core.phones.child",
                                                 self.address, str(os.getpid()))
        assert self._process.stdout is not None
        os.set_blocking(self._process.stdout.fileno(), False)
        self._selector = selectors.DefaultSelector()
        self._selector.register(self._process.stdout, selectors.EVENT_READ)
        self._rest = b""
        line = self._line()
        if "refused" in line:
            self.close()
            if line["refused"] == "unwelcome":
                raise SourceError("phone-untrusted", path=self.spec)
            raise self._refusal(line["refused"], "")
        told = line["device"]
        self.device = Device(told["maker"], told["model"], told["version"], told["serial"],
                             int(told["extension"]), frozenset())

    def _refusal(self, code: int, asked: str) -> SourceError:
        """What a refusal means: of a locked device, or of the one object that was `asked` for."""
        if code in STATES and not (asked in OF_OBJECTS and self._still_offers()):
            self.close()  # what is locked now is another session when it is opened
            return SourceError("phone-closed", path=self.spec)
        return SourceError("phone-refused", path=self.spec, reason=codes.meaning(code))

    def _still_offers(self) -> bool:
        """Whether stores are still offered, in the session that there is."""
        self._ask({"do": "state"})
        return bool(self._line().get("stores"))

    def _line(self) -> dict[str, Any]:
        """The next line that the process says."""
        process, selector = self._process, self._selector
        assert process is not None and process.stdout is not None and selector is not None
        until = time.monotonic() + SILENT_SECONDS
        while b"\n" not in self._rest:
            if self.stop.is_set():
                self.close()
                raise Interrupted
            if selector.select(POLL_SECONDS):
                block = os.read(process.stdout.fileno(), 1 << 20)
                if not block or len(self._rest) > MOST_LINE:
                    self.close()
                    raise SourceError("phone-lost", path=self.spec, reason="closed")
                self._rest += block
                until = time.monotonic() + SILENT_SECONDS
            elif time.monotonic() > until:
                self.close()
                raise SourceError("phone-lost", path=self.spec, reason="silent")
        line, _, self._rest = self._rest.partition(b"\n")
        told: dict[str, Any] = json.loads(line)
        if "lost" in told:
            self.close()
            named = NAMED_LOSSES.get(told["lost"])
            if named is not None:
                raise SourceError(named, path=self.spec)
            raise SourceError("phone-lost", path=self.spec, reason=told["lost"])
        return told

    def close(self) -> None:
        """End the process; a later question starts another one."""
        process, self._process = self._process, None
        if self._selector is not None:
            self._selector.close()
            self._selector = None
        if process is not None:
            process.kill()
            try:
                process.wait(KILLED_SECONDS)
            except subprocess.TimeoutExpired:
                # It hangs in the kernel, which lets it go when it will; nobody waits for that.
                threading.Thread(target=process.wait, daemon=True).start()
            for stream in (process.stdin, process.stdout):
                if stream is not None:
                    with contextlib.suppress(OSError):
                        stream.close()
