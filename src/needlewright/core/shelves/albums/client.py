"""An album service from this side: signing in, pages, contents (`docs/formats/album-service.md`).

Sessions expire: then the service's own renewal is tried, and only after that the password and a
one-time code (RFC 6238, which a person reads off a device) are wanted again. Both are in memory
alone.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from needlewright.core import secrets
from needlewright.core.errors import SourceError
from needlewright.core.shelves.item_shelf import MOST_ITEMS, Item
from needlewright.core.shelves.wire import MOST_LIMITED, PAUSE, Answer, Wire, wait
from needlewright.core.stopping import StopSignal
from needlewright.core.volumes.stamps import zulu

PAGE_ITEMS = 500
TRIES = 4  # for one page
MOST_TOKEN, MOST_NUMBER = 8192, 256  # letters of a token, of an item's number
HASH = re.compile("[0-9a-fA-F]{64}")
NUMBER = re.compile(rf"[\w.~-]{{1,{MOST_NUMBER}}}")
PRINTED = re.compile(r"[\x21-\x7e]+")


@dataclass(slots=True, repr=False)
class _Session:
    """`token`: what lets requests in; `renewal`: what begins the next session."""

    token: str = ""
    renewal: str = ""


_SESSIONS: dict[tuple[str, str, str], _Session] = {}


class AlbumClient:
    """Speaks with the service at `address` as `user`; `spec`: what its secrets are kept under."""

    def __init__(self, address: str, user: str, spec: str, name: str) -> None:
        self.wire = Wire(address, name)
        self._user, self._spec, self._name = user, spec, name
        # As long as the program runs: nobody reads a code off a device for every look.
        self._session = _SESSIONS.setdefault((spec, address, user), _Session())

    def close(self) -> None:
        self.wire.close()

    def sign_in(self, stop: StopSignal) -> None:
        """Begin a session, if there is none. SourceError "secret-wanted" and "secret-wrong"."""
        if self._session.token:
            return
        if self._session.renewal:
            renewal, self._session.renewal = self._session.renewal, ""
            answer = self.wire.ask("POST", "/session/renew", stop, body={"renewal": renewal})
            if answer.status == 200:
                self._take(answer)
                return
        wrong = False
        while not self._session.token:
            password = secrets.wanted(self._spec, secrets.PASSWORD, wrong)
            answer = self.wire.ask("POST", "/session", stop,
                                   body={"name": self._user, "password": password})
            if answer.status in (401, 403):
                wrong = True
                continue
            told = self._well(answer)
            if told.get("code_wanted"):
                self._with_code(str(told.get("ticket", ""))[:MOST_TOKEN], stop)
            else:
                self._take(answer)

    def _with_code(self, ticket: str, stop: StopSignal) -> None:
        wrong = False
        while True:
            code = secrets.wanted(self._spec, secrets.CODE, wrong)
            answer = self.wire.ask("POST", "/session/code", stop,
                                   body={"ticket": ticket, "code": code})
            secrets.forget(self._spec, secrets.CODE)  # it is good for one time
            if answer.status in (401, 403):
                wrong = True
                continue
            self._take(answer)
            return

    def _well(self, answer: Answer) -> dict[str, Any]:
        if answer.status not in (200, 202):
            raise SourceError("service-says", path=self._name, status=answer.status,
                              reason=str(answer.status))
        return answer.json(self._name)

    def _take(self, answer: Answer) -> None:
        told = self._well(answer)
        token, renewal = told.get("token"), told.get("renewal", "")
        if not isinstance(token, str) or not PRINTED.fullmatch(token) or len(token) > MOST_TOKEN:
            raise SourceError("service-not-json", path=self._name)
        self._session.token = token
        self._session.renewal = (
            renewal if isinstance(renewal, str) and len(renewal) <= MOST_TOKEN else "")

    def _headers(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self._session.token}"}

    def pages(self, stop: StopSignal, told: Callable[[int, int], None]) -> Iterator[list[Item]]:
        """All items page by page. SourceError "service-endless" where pages lead in circles."""
        cursor, seen, done = "", set[str](), 0
        while done < MOST_ITEMS:
            page = self._page(cursor, stop)
            items = page.get("items")
            if not isinstance(items, list):
                raise SourceError("service-not-json", path=self._name)
            found = [item for one in items if (item := _item(one)) is not None]
            done += len(items)
            total = page.get("total")
            told(done, total if isinstance(total, int) and total >= done else done)
            yield found
            after = page.get("next")
            if after is None:
                return
            if not isinstance(after, str) or after in seen or not items or len(after) > MOST_TOKEN:
                raise SourceError("service-endless", path=self._name)
            seen.add(after)
            cursor = after

    def _page(self, cursor: str, stop: StopSignal) -> dict[str, Any]:
        """One page, however often the session ends and the service is busy meanwhile."""
        tries = limited = 0
        while True:
            try:
                self.sign_in(stop)
                path = f"/items?limit={PAGE_ITEMS}" + (f"&cursor={_quoted(cursor)}" if cursor
                                                       else "")
                answer = self.wire.ask("GET", path, stop, headers=self._headers())
            except SourceError as error:
                if error.code == "shelf-limited" and limited < MOST_LIMITED:
                    limited += 1
                    self.wire.patiently(stop)
                elif error.code != "shelf-lost" or tries >= TRIES:
                    raise
                else:
                    tries += 1
                    wait(PAUSE * 2 ** tries, stop)
                continue
            if answer.status == 401 and tries < TRIES:
                tries += 1
                self._session.token = ""
                continue
            return self._well(answer)

    def content(self, handle: tuple[str, str], begin: int, stop: StopSignal) -> Iterator[bytes]:
        """(number, "original" or "reduced") of an item from byte `begin` on."""
        for again in (True, False):
            self.sign_in(stop)
            at = begin
            try:
                for block in self.wire.fetch(f"/items/{handle[0]}/{handle[1]}", at, stop,
                                             self._headers()):
                    begin += len(block)
                    yield block
                return
            except SourceError as error:
                if error.values.get("status") != 401 or not again:
                    raise
                self._session.token = ""

    def small(self, number: str, stop: StopSignal) -> bytes:
        """The service's own small picture; b"" where it has none."""
        self.sign_in(stop)
        answer = self.wire.ask("GET", f"/items/{number}/small", stop, headers=self._headers(),
                               most=4 << 20)
        return answer.body if answer.status == 200 else b""


def _quoted(text: str) -> str:
    from urllib.parse import quote

    return quote(text, safe="")


def _item(told: object) -> Item | None:
    """An item as the service tells of it; None where that makes no sense."""
    if not isinstance(told, dict):
        return None
    number, path = told.get("id"), told.get("path")
    if not isinstance(number, str) or not isinstance(path, str) or not NUMBER.fullmatch(number):
        return None
    original, reduced = _copy(told.get("original")), _copy(told.get("reduced"))
    size, digest = original or reduced or (None, "")
    more: dict[str, Any] = {}
    if original is None and reduced is None:
        more["problem"] = "album-no-content"
    elif original is None:
        more["reduced"] = True
    if digest:
        more["sha256"] = digest
    state = told.get("state")
    if state == "removed":
        more |= {"removed": True, "removed_at": _time(told.get("removed")),
                 "purge_at": _time(told.get("kept_until"))}
    if state == "shared":
        more["shared_by"] = str(told.get("shared_by", ""))[:200]
    return Item(path, size, (number, "original" if original else "reduced"),
                _time(told.get("created")), _time(told.get("modified")), more)


def _copy(told: object) -> tuple[int | None, str] | None:
    """(bytes, SHA-256 or "") of a copy that is there."""
    if not isinstance(told, dict):
        return None
    size, digest = told.get("size"), told.get("sha256")
    return (size if isinstance(size, int) and not isinstance(size, bool) and size >= 0 else None,
            digest.lower() if isinstance(digest, str) and HASH.fullmatch(digest) else "")


def _time(told: object) -> str | None:
    return zulu(told) if isinstance(told, int) else None
