"""The album's HTTP service (`docs/formats/album-service.md`)."""

from __future__ import annotations

import hashlib
import json
import time
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

from needlewright.standins.album.faults import Doorman

BLOCK = 1 << 16
MADE_UP = b"A made-up item of the survey's album.\n"


@dataclass(frozen=True, slots=True)
class Held:
    """An item. `told`: as pages tell of it; the files may be None."""

    told: dict[str, Any]
    original: Path | None
    reduced: Path | None
    small: Path | None


def serve(items: list[Held], doorman: Doorman) -> ThreadingHTTPServer:
    """A server on a free port of this computer, to be run with `serve_forever`."""
    made_up = doorman.faults.made_up
    digest = hashlib.sha256(MADE_UP).hexdigest()

    def told(number: int) -> dict[str, Any]:
        if number < len(items):
            return items[number].told
        made = number - len(items)
        return {"id": f"m{made}", "path": f"Made up/{made // 1000:03}/item-{made:06}.txt",
                "created": 1_936_000_000 + made, "modified": 1_936_000_000 + made,
                "state": "present", "original": {"size": len(MADE_UP), "sha256": digest},
                "reduced": None}

    by_id = {item.told["id"]: item for item in items}

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def log_message(self, *_: Any) -> None:
            """Nothing is said on the way."""

        def do_POST(self) -> None:
            if self._stopped():
                return
            size = min(1 << 20, int(self.headers.get("Content-Length", "0")))
            try:
                said = json.loads(self.rfile.read(size))
            except ValueError:
                said = {}
            match self.path:
                case "/session" if said.get("name") == doorman.user and (
                        said.get("password") == doorman.password):
                    if doorman.faults.no_code:
                        self._json(200, doorman.session())
                    else:
                        self._json(202, {"code_wanted": True, "ticket": doorman.ticket()})
                case "/session/code" if doorman.is_code(str(said.get("ticket")),
                                                        str(said.get("code"))):
                    self._json(200, doorman.session())
                case "/session/renew" if doorman.renewed(str(said.get("renewal"))):
                    self._json(200, doorman.session())
                case _:
                    self._json(401, {"error": "not let in"})

        def do_GET(self) -> None:
            if self._stopped():
                return
            url = urlsplit(self.path)
            if url.path == "/":
                self._json(200, {"service": "album", "version": 1})
            elif not doorman.may(self.headers.get("Authorization", "")):
                self._json(401, {"error": "session"})
            elif url.path == "/items":
                self._page(parse_qs(url.query))
            else:
                self._content(url.path.split("/"))

        def _stopped(self) -> bool:
            if doorman.faults.down:
                self.close_connection = True
                return True
            if doorman.is_limited():
                self._body(429, b"{}", "application/json",
                           {"Retry-After": f"{doorman.faults.retry:g}"})
                return True
            return False

        def _page(self, asked: dict[str, list[str]]) -> None:
            if doorman.faults.html:
                self._body(200, b"<html><body>Please sign in</body></html>", "text/html", {})
                return
            if doorman.faults.endless:
                self._endless()
                return
            begin = int(asked.get("cursor", ["0"])[0])
            limit = min(1000, int(asked.get("limit", ["100"])[0]))
            total = len(items) + made_up
            stop = min(total, begin + limit)
            after = str(stop) if stop < total else None
            if doorman.faults.loops:
                after = "0"
            self._json(200, {"items": [told(n) for n in range(begin, stop)], "next": after,
                             "total": total})

        def _endless(self) -> None:
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            self.end_headers()
            self.close_connection = True
            self.wfile.write(b'{"items": [')
            while True:
                self.wfile.write(b'"' + b"x" * BLOCK + b'",')

        def _content(self, parts: list[str]) -> None:
            what = parts[3] if len(parts) == 4 and parts[1] == "items" else ""
            item = by_id.get(parts[2]) if what else None
            if doorman.faults.elsewhere and what == "original":
                self._body(302, b"", "text/plain", {"Location": doorman.faults.elsewhere})
                return
            if what == "original" and parts[2].startswith("m"):
                self._bytes(MADE_UP, "")
                return
            file = None if item is None else {
                "original": item.original, "reduced": item.reduced, "small": item.small}.get(what)
            if file is None:
                self._json(404, {"error": "there is none"})
                return
            self._bytes(file.read_bytes(), parts[2])

        def _bytes(self, data: bytes, number: str) -> None:
            if number and by_id[number].told["path"].rpartition("/")[2] in doorman.faults.wrong:
                data = data[:-1] + bytes([data[-1] ^ 1])
            begin, status, headers = 0, 200, dict[str, str]()
            wanted = self.headers.get("Range", "")
            if wanted.startswith("bytes=") and not doorman.faults.no_ranges:
                begin = int(wanted[6:].split("-")[0])
                if begin >= len(data):
                    self._body(416, b"", "text/plain", {"Content-Range": f"bytes */{len(data)}"})
                    return
                status = 206
                headers["Content-Range"] = f"bytes {begin}-{len(data) - 1}/{len(data)}"
            self._head(status, len(data) - begin, "application/octet-stream", headers)
            for at in range(begin, len(data), BLOCK):
                block = data[at : at + BLOCK]
                goes = doorman.goes(len(block))
                self.wfile.write(block[:goes])
                if goes < len(block):
                    self.wfile.flush()
                    self.close_connection = True
                    return

        def _json(self, status: int, told: dict[str, Any]) -> None:
            self._body(status, json.dumps(told).encode(), "application/json", {})

        def _body(self, status: int, data: bytes, kind: str, headers: dict[str, str]) -> None:
            self._head(status, len(data), kind, headers)
            self.wfile.write(data)

        def _head(self, status: int, size: int, kind: str, headers: dict[str, str]) -> None:
            self.send_response(status)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(size))
            for name, value in headers.items():
                self.send_header(name, value)
            self.end_headers()

        def handle(self) -> None:
            try:
                super().handle()
            except (ConnectionError, TimeoutError):
                time.sleep(0)  # whoever asked has gone

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    return server
