"""Synchronised folders as shelves: `dav+http(s)://[user@]host[:port]/path` (RFC 4918).

The tree is asked for folder by folder: many servers refuse to tell all of it at once. Where a
server keeps versions (RFC 3253, 3.7), older ones stand beside the file.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from urllib.parse import quote, unquote, urlsplit

import httpx

from needlewright.core import secrets
from needlewright.core.errors import SourceError
from needlewright.core.shelves.dav.multistatus import FIND, VERSIONS, Resource, resources_in
from needlewright.core.shelves.item_shelf import MOST_DEPTH, MOST_ITEMS, Item, opened
from needlewright.core.shelves.service_shelf import ServiceShelf
from needlewright.core.shelves.wire import MOST_LIMITED, PAUSE, Answer, Wire, wait
from needlewright.core.sources.registry import Opener, register

SCHEMES = ("dav+http://", "dav+https://")
MOST_VERSIONED = 5000  # files whose older versions are asked for
MANY, CHANGED = 207, 412
TRIES = 4
XML = {"Content-Type": 'application/xml; charset="utf-8"'}
HOST = re.compile(r"[\w.-]+|[0-9a-fA-F:.]+")


class DavShelf(ServiceShelf):
    """What a synchronised folder holds."""

    kind = "sync"

    def __init__(self, spec: str) -> None:
        super().__init__(spec, short_name(spec))
        parts = urlsplit(spec.removeprefix("dav+"))
        host = f"[{parts.hostname}]" if ":" in (parts.hostname or "") else parts.hostname
        port = f":{parts.port}" if parts.port else ""
        self._user = unquote(parts.username or "")
        self._top = unquote(parts.path).rstrip("/")
        self.wire = Wire(f"{parts.scheme}://{host}{port}", self.name)
        self._signed_in = False

    # speaking

    def _ask(self, method: str, path: str, headers: dict[str, str] | None = None,
             content: bytes | None = None) -> Answer:
        """An answer, however often the connection breaks or it is to be asked later; signed in
        where that is wanted."""
        tries, limited, wrong = 0, 0, False
        while True:
            try:
                answer = self.wire.ask(method, path, self.stop, headers=headers, content=content)
            except SourceError as error:
                if error.code == "shelf-limited" and limited < MOST_LIMITED:
                    limited += 1
                    self.wire.patiently(self.stop)
                elif error.code != "shelf-lost" or tries >= TRIES:
                    raise
                else:
                    tries += 1
                    wait(PAUSE * 2 ** tries, self.stop)
                continue
            if answer.status != 401:
                return answer
            self._sign_in(answer.headers.get("www-authenticate", ""), wrong)
            wrong = True

    def _sign_in(self, asked: str, wrong: bool) -> None:
        if not self._user:
            raise SourceError("dav-no-user", path=self.spec)
        password = secrets.wanted(self.spec, secrets.PASSWORD, wrong)
        digest = asked.lower().startswith("digest") or "digest " in asked.lower()
        self.wire.sign_in(httpx.DigestAuth(self._user, password) if digest
                          else httpx.BasicAuth(self._user, password))

    def _told_of(self, answer: Answer) -> list[Resource]:
        if answer.status != MANY:
            raise SourceError("service-says", path=self.name, status=answer.status,
                              reason=str(answer.status))
        return list(resources_in(answer.body, self.name))

    # listing

    def listed(self, told: Callable[[int, int], None]) -> Iterator[Sequence[Item]]:
        line, seen, done = [(self._top, 0)], {self._top}, 0
        versions = MOST_VERSIONED if self._keeps_versions() else 0
        while line and done < MOST_ITEMS:
            folder, depth = line.pop()
            answer = self._ask("PROPFIND", quote(f"{folder}/"), {"Depth": "1", **XML}, FIND)
            if folder != self._top and answer.status in (403, 404):
                continue  # one folder that is not to be seen does not hide the others
            page: list[Item] = []
            inner: list[tuple[str, int]] = []
            for one in sorted(self._told_of(answer), key=lambda resource: resource.path):
                if one.path == folder or not one.path.startswith(f"{folder}/"):
                    continue  # the folder itself, and what was not asked for
                if one.is_folder:
                    if one.path not in seen and depth < MOST_DEPTH:
                        seen.add(one.path)
                        inner.append((one.path, depth + 1))
                    continue
                page.append(self._item(one))
                if versions > 0:
                    versions -= 1
                    page += self._versions(one)
            line += reversed(inner)
            done += len(page)
            told(done, done + len(line))
            yield page

    def _item(self, one: Resource, older: str = "", path: str = "") -> Item:
        more = {"older": older} if older else {}
        inside = (path or one.path)[len(self._top) :].lstrip("/")
        # What servers call created is the day on which it was uploaded.
        return Item(inside, one.size, (one.href, one.etag), None, one.modified, dict(more))

    def _keeps_versions(self) -> bool:
        answer = self._ask("OPTIONS", quote(f"{self._top}/"))
        return "version-control" in answer.headers.get("dav", "").lower()

    def _versions(self, one: Resource) -> Iterator[Item]:
        answer = self._ask("REPORT", one.href, {"Depth": "0", **XML}, VERSIONS)
        if answer.status != MANY:
            return  # this file is under no control
        for version in resources_in(answer.body, self.name):
            when = version.modified or version.version
            if version.path != one.path and when and version.modified != one.modified:
                yield self._item(version, when[:10], one.path)

    # contents

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        href, etag = item.handle
        headers = {"If-Match": etag} if begin and etag and not etag.startswith("W/") else {}
        try:
            yield from self.wire.fetch(href, begin, self.stop, headers)
        except SourceError as error:
            status = error.values.get("status")
            if status == CHANGED:  # another file by now: begun anew
                raise SourceError("shelf-lost", path=self.name, reason="wrong-length") from error
            if status != 401 or self._signed_in:
                raise
            self._signed_in = True
            self.answers()
            yield from self.wire.fetch(href, begin, self.stop, headers)

    def answers(self) -> None:
        self._ask("OPTIONS", quote(f"{self._top}/"))


def short_name(spec: str) -> str:
    """What to call a synchronised folder: its last folder, or its host."""
    parts = urlsplit(spec.removeprefix("dav+"))
    return unquote(parts.path).rstrip("/").rpartition("/")[2] or parts.hostname or spec


def checked(spec: str) -> str:
    """`spec` as it is kept; SourceError where it is no address, or holds a password."""
    try:
        parts = urlsplit(spec.removeprefix("dav+"))
        port = parts.port
    except ValueError as error:
        raise SourceError("address-wrong", path=spec) from error
    if parts.password is not None:
        raise SourceError("secret-in-address")
    if not parts.hostname or not HOST.fullmatch(parts.hostname) or port == 0 or parts.query or (
            parts.fragment):
        raise SourceError("address-wrong", path=spec)
    return spec.rstrip("/")


register(Opener("dav", lambda spec: spec.startswith(SCHEMES), checked,
                lambda spec, direct: opened(checked(spec), DavShelf), short_name,
                by_scheme=True))
