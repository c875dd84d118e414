"""The process that speaks with one device, so that nothing a device does hangs or harms the rest.

`python -m needlewright.core.phones.child ADDRESS`: requests are lines of JSON on standard input,
answers lines of JSON on standard output; the bytes of objects go into files. The first line tells
what the device is, or why it cannot be spoken with.

    {"do": "state"}                        -> {"stores": [...]}
    {"do": "list"}      -> {"so_far", "offered"} …, {"files": [[…]]} …, {"listed"}
    {"do": "same"}      -> {"same": whether what was listed last is still what there is}
    {"do": "fetch", "handle", "size", "begin", "path", "whole"}  -> {"got"} …, {"done"}
    {"do": "thumbnail", "handle"}          -> {"data"}
    {"do": "put", "name", "path", "modified"} -> {"got"} …, {"put": name, "sha256"}  read back
Whatever cannot be had is answered by {"refused": code} or {"lost": why}; after the latter it ends.
"""

from __future__ import annotations

import base64
import dataclasses
import json
import os
import sys
import time
from io import RawIOBase
from typing import Any

from needlewright.core import processes
from needlewright.core.errors import FormatError
from needlewright.core.phones.addresses import link_to
from needlewright.core.phones.datasets import Item
from needlewright.core.phones.link import Lost, Unwelcome
from needlewright.core.phones.listing import Listing, is_same, listing_of
from needlewright.core.phones.putting import Place
from needlewright.core.phones.session import Refused, Session, understood

TELL_SECONDS = 0.2
BATCH = 500  # files of one line


class _All:
    """Writes all that it is given: a full disk may take a part of it."""

    def __init__(self, out: RawIOBase) -> None:
        self._out = out

    def write(self, data: memoryview) -> None:
        rest = memoryview(data)
        while rest:
            rest = rest[self._out.write(rest) or 0 :]


class Child:
    """Serves one session."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._told = 0.0
        self._place: Place | None = None
        self._listed: Listing | None = None

    def serve(self, request: dict[str, Any]) -> None:
        {"state": self._state, "list": self._list, "same": self._same, "fetch": self._fetch,
         "thumbnail": self._thumbnail, "put": self._put}[request["do"]](request)

    def _state(self, request: dict[str, Any]) -> None:
        _say({"stores": [dataclasses.asdict(s) for s in self._session.stores()]})

    def _list(self, request: dict[str, Any]) -> None:
        found = listing_of(self._session, lambda done, offered: self._progress(
            {"so_far": done, "offered": offered}))
        for at in range(0, len(found.files), BATCH):
            _say({"files": [dataclasses.astuple(f) for f in found.files[at : at + BATCH]]})
        _say({"listed": {
            "stores": [dataclasses.asdict(s) for s in found.stores], "offered": found.offered,
            "folders": found.folders, "refused": sorted(found.refused.items()),
            "missed": found.missed}})
        self._listed = found

    def _same(self, request: dict[str, Any]) -> None:
        listed = self._listed
        _say({"same": listed is not None and is_same(self._session, listed)})

    def _fetch(self, request: dict[str, Any]) -> None:
        item = Item(int(request["handle"]), size=request["size"])
        got = begin = int(request["begin"])

        def told(part: memoryview) -> None:
            nonlocal got
            got += len(part)
            self._progress({"got": got})

        with open(request["path"], "r+b" if begin else "wb", buffering=0) as out:
            out.seek(begin)
            out.truncate()
            size = self._session.fetch(item, begin, _All(out), told,
                                       bool(request.get("whole")))
        _say({"done": size})

    def _thumbnail(self, request: dict[str, Any]) -> None:
        data = self._session.thumbnail(int(request["handle"]))
        _say({"data": base64.b64encode(data).decode()})

    def _put(self, request: dict[str, Any]) -> None:
        if self._place is None:
            self._place = Place(self._session)
        with open(request["path"], "rb") as file:
            put = self._place.put(request["name"], int(request["form"]), file, request["modified"],
                                  lambda got: self._progress({"got": got}))
        _say({"put": put.name, "sha256": put.sha256})

    def _progress(self, words: dict[str, Any]) -> None:
        if time.monotonic() - self._told > TELL_SECONDS:
            self._told = time.monotonic()
            _say(words)


def main(address: str, parent: int) -> None:
    """Serve requests until standard input ends, or the device is lost."""
    processes.end_with_parent(parent)
    try:
        session = Session(link_to(address))
    except Unwelcome:
        _say({"refused": "unwelcome"})
        return
    except Refused as error:
        _say({"refused": error.code})
        return
    except (Lost, FormatError) as error:
        _say({"lost": _why(error)})
        return
    _say({"device": {**dataclasses.asdict(session.device), "operations": []}})
    child = Child(session)
    try:
        for line in sys.stdin:
            try:
                child.serve(json.loads(line))
            except Refused as error:
                _say({"refused": error.code})
            except OSError as error:
                _say({"disk": os.strerror(error.errno or 0)})
        session.close()
    except (Lost, FormatError) as error:
        _say({"lost": _why(error)})


def _why(error: Lost | FormatError) -> str:
    return error.why if isinstance(error, Lost) else understood(error).why


def _say(words: dict[str, Any]) -> None:
    sys.stdout.write(json.dumps(words) + "\n")
    sys.stdout.flush()


if __name__ == "__main__":
    try:
        main(sys.argv[1], int(sys.argv[2]))
    except BrokenPipeError:  # whoever asked has gone
        os._exit(1)
