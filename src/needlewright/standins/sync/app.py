"""wsgidav on a folder, with what is wrong with it, and with older versions of some files.

Versions: RFC 3253, 3.7 (the report DAV:version-tree). They lie in a folder of their own, by the
path of the file and the day of the version.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from email.utils import formatdate
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote
from xml.sax.saxutils import escape

from wsgidav.wsgidav_app import WsgiDAVApp

from needlewright.standins.sync.faults import PASSWORD, TOP, USER, SyncFaults

VERSIONS = "/.versions/"


class Broken(Exception):
    """The connection breaks."""


class SyncApp:
    """The WSGI application: wsgidav on `top`; `versions`: where older versions lie."""

    def __init__(self, top: Path, versions: Path, faults: SyncFaults) -> None:
        self.faults, self._versions = faults, versions
        self.requests = self.limited = self.sent = 0
        users = {"*": True if faults.open else {USER: {"password": PASSWORD}}}
        self._dav = WsgiDAVApp({
            "provider_mapping": {TOP: {"root": str(top), "readonly": True},
                                 VERSIONS.rstrip("/"): {"root": str(versions), "readonly": True}},
            "simple_dc": {"user_mapping": users}, "verbose": 0, "logging": {"enable": False},
            "dir_browser": {"enable": False}, "lock_storage": False, "property_manager": False,
            "http_authenticator": {"accept_basic": not faults.digest,
                                   "accept_digest": faults.digest,
                                   "default_to_digest": faults.digest}})

    def __call__(self, environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        self.requests += 1
        faults = self.faults
        if faults.down:
            raise Broken
        if faults.limits and self.requests % faults.limits == 0:
            self.limited += 1
            start("429 Too Many Requests", [("Retry-After", f"{faults.retry:g}"),
                                            ("Content-Length", "0")])
            return []
        if faults.html:
            start("200 OK", [("Content-Type", "text/html")])
            return [b"<html><body>Please sign in</body></html>"]
        if faults.versions and environ["REQUEST_METHOD"] == "REPORT":
            return self._report(unquote(environ["PATH_INFO"]), start)

        def started(status: str, headers: list[tuple[str, str]], *more: Any) -> Any:
            if faults.versions and environ["REQUEST_METHOD"] == "OPTIONS":
                headers = [(k, f"{v},version-control" if k.lower() == "dav" else v)
                           for k, v in headers]
            return start(status, headers, *more)

        return self._sent(self._dav(environ, started), environ["REQUEST_METHOD"] == "GET")

    def _sent(self, parts: Iterable[bytes], is_content: bool) -> Iterator[bytes]:
        drops = self.faults.drops
        try:
            for part in parts:
                if is_content and drops and len(part) >= drops[0]:
                    yield part[: drops.pop(0)]
                    raise Broken
                if is_content and drops:
                    drops[0] -= len(part)
                self.sent += len(part)
                yield part
        finally:
            close = getattr(parts, "close", None)
            if close is not None:
                close()

    def _report(self, path: str, start: Callable[..., Any]) -> Iterable[bytes]:
        path = path.removeprefix(TOP)
        folder = self._versions / path.strip("/")
        if ".." in path.split("/") or not folder.is_dir():
            start("403 Forbidden", [("Content-Length", "0")])
            return []
        told = "".join(self._told(path, file) for file in sorted(folder.iterdir()))
        body = (f'<?xml version="1.0" encoding="utf-8"?><multistatus xmlns="DAV:">{told}'
                "</multistatus>").encode()
        start("207 Multi-Status", [("Content-Type", "application/xml; charset=utf-8"),
                                   ("Content-Length", str(len(body)))])
        return [body]

    def _told(self, path: str, file: Path) -> str:
        status = file.stat()
        href = escape(quote(f"{VERSIONS}{path.strip('/')}/{file.name}"))
        return (f"<response><href>{href}</href><propstat><prop><version-name>{escape(file.stem)}"
                f"</version-name><getcontentlength>{status.st_size}</getcontentlength>"
                f"<getlastmodified>{formatdate(status.st_mtime, usegmt=True)}</getlastmodified>"
                "</prop><status>HTTP/1.1 200 OK</status></propstat></response>")


class Owner:
    """What the owner sees and does."""

    def __init__(self, app: SyncApp) -> None:
        self._app = app

    def act(self, wish: str) -> bool:
        if wish in ("down", "up"):
            self._app.faults.down = wish == "down"
            time.sleep(0)
        return wish in ("down", "up", "state", "truth")

    def told(self) -> dict[str, Any]:
        return {"down": self._app.faults.down, "requests": self._app.requests,
                "limited": self._app.limited, "sent": self._app.sent}
