"""What is wrong with the album, and how it is just now."""

from __future__ import annotations

import hashlib
import hmac
import json
import secrets
import struct
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

STEP_SECONDS, DIGITS = 30, 6  # RFC 6238, 4.1; RFC 4226, 5.3


@dataclass
class AlbumFaults:
    """`slow`: bytes a second. `drops`: bytes of contents after which the connection breaks, once
    each, from the last time on. `limits`: every so many requests are answered with 429, `retry`
    seconds. `expires`: requests after which a session ends. `no_renewal`: an expired session is
    begun anew with password and code. `html`: pages of a list come as HTML. `endless`: a page never
    ends. `loops`: pages lead in circles. `no_ranges`: it does not know ranges. `wrong`: names whose
    content is another than its hash says. `elsewhere`: contents are answered with another place.
    `reduced`: names of which there is no original any more. `lost`: names of which there is
    nothing. `made_up`: so many items more, of a few bytes each. `no_code`: no one-time code is
    wanted. `down`: it answers nothing until it is told otherwise.
    """

    slow: float = 0.0
    drops: list[int] = field(default_factory=list)
    limits: int = 0
    retry: float = 1.0
    expires: int = 0
    no_renewal: bool = False
    html: bool = False
    endless: bool = False
    loops: bool = False
    no_ranges: bool = False
    wrong: list[str] = field(default_factory=list)
    elsewhere: str = ""
    reduced: list[str] = field(default_factory=list)
    lost: list[str] = field(default_factory=list)
    made_up: int = 0
    no_code: bool = False
    down: bool = False

    @staticmethod
    def load(path: Path) -> AlbumFaults:
        return AlbumFaults(**json.loads(path.read_text(encoding="utf-8")))


def code_at(key: bytes, seconds: float) -> str:
    """The one-time code of a moment (RFC 6238 with HMAC-SHA-1)."""
    digest = hmac.new(key, struct.pack(">Q", int(seconds) // STEP_SECONDS), hashlib.sha1).digest()
    at = digest[-1] & 15
    number = struct.unpack_from(">I", digest, at)[0] & 0x7FFFFFFF
    return f"{number % 10 ** DIGITS:0{DIGITS}}"


class Doorman:
    """Who may come in."""

    def __init__(self, faults: AlbumFaults, user: str, password: str) -> None:
        self.faults, self.user, self.password = faults, user, password
        self.key = secrets.token_bytes(20)
        self._tickets: set[str] = set()
        self._sessions: dict[str, int] = {}  # requests that are left, -1: no end
        self._renewals: set[str] = set()
        self._lock = threading.Lock()
        self.requests = self.limited = self.sent = self.expired = 0

    def code(self) -> str:
        return code_at(self.key, time.time())

    def ticket(self) -> str:
        ticket = secrets.token_hex(16)
        self._tickets.add(ticket)
        return ticket

    def is_code(self, ticket: str, code: str) -> bool:
        now = time.time()
        good = {code_at(self.key, now + shift) for shift in (-STEP_SECONDS, 0, STEP_SECONDS)}
        return ticket in self._tickets and code in good

    def session(self) -> dict[str, Any]:
        """A new one, as it is told of."""
        token, renewal = secrets.token_urlsafe(24), secrets.token_urlsafe(24)
        with self._lock:
            self._sessions[token] = self.faults.expires or -1
            if not self.faults.no_renewal:
                self._renewals.add(renewal)
        return {"token": token, "renewal": "" if self.faults.no_renewal else renewal}

    def renewed(self, renewal: str) -> bool:
        with self._lock:
            there = renewal in self._renewals
            self._renewals.discard(renewal)
        return there

    def may(self, header: str) -> bool:
        """Whether a request with this header is let in."""
        token = header.removeprefix("Bearer ")
        with self._lock:
            left = self._sessions.get(token)
            if left is None:
                return False
            if left == 0:
                del self._sessions[token]
                self.expired += 1
                return False
            self._sessions[token] = left - 1 if left > 0 else left
            return True

    def is_limited(self) -> bool:
        """Whether this request comes too soon."""
        with self._lock:
            self.requests += 1
            limited = bool(self.faults.limits) and self.requests % self.faults.limits == 0
            self.limited += limited
        return limited

    def goes(self, count: int) -> int:
        """How many of `count` bytes get through before the connection breaks."""
        if self.faults.slow:
            time.sleep(count / self.faults.slow)
        with self._lock:
            drops = self.faults.drops
            if drops and count >= drops[0]:
                return drops.pop(0)
            if drops:
                drops[0] -= count
            self.sent += count
        return count
