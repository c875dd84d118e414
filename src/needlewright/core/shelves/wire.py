"""Speaking HTTP with a service that nobody vouches for: bounds, deadlines, and errors of our own.

HTTP: RFC 9110 (ranges: section 14; Retry-After: 10.2.3; 429: RFC 6585, section 4). One connection
at a time. Nothing is followed to another place: credentials and requests stay where a person sent
them. Variables of the environment and files of the home folder decide nothing.
"""

from __future__ import annotations

import contextlib
import json
import re
import ssl
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from email.utils import parsedate_to_datetime
from typing import Any

import httpx

from needlewright.core.errors import SourceError
from needlewright.core.stopping import Interrupted, StopSignal

CONNECT_SECONDS, SILENT_SECONDS, WHOLE_SECONDS = 10.0, 20.0, 60.0
MOST_ANSWER = 32 << 20  # bytes of a page of a list
MOST_WAIT = 3600.0  # seconds of a Retry-After that is believed
LIMITED = (429, 503)
PAUSE = 0.1  # seconds before a lost request is made again; twice as long each time
MOST_LIMITED = 20  # times that one request is told to come later
SECONDS = re.compile(r"\d{1,9}(\.\d{1,9})?")  # of a Retry-After; fractions are not the standard's


@dataclass(slots=True)
class Pace:
    """How fast may be fetched, bytes a second; None: as fast as it goes."""

    most: float | None = None
    _until: float = field(default=0.0)

    def spent(self, count: int, stop: StopSignal) -> None:
        """Wait for as long as `count` bytes take."""
        if self.most is None:
            return
        now = time.monotonic()
        self._until = max(self._until, now) + count / self.most
        wait(self._until - now, stop)


PACE = Pace()  # of the whole program


def wait(seconds: float, stop: StopSignal) -> None:
    """Interrupted where it is to stop meanwhile."""
    until = time.monotonic() + seconds
    while (left := until - time.monotonic()) > 0:
        if stop.is_set():
            raise Interrupted
        time.sleep(min(0.1, left))


@dataclass(frozen=True, slots=True)
class Answer:
    """A whole answer. `headers`: by names in small letters."""

    status: int
    headers: Mapping[str, str]
    body: bytes

    def json(self, path: str) -> dict[str, Any]:
        """An object of JSON; SourceError where it is none."""
        if "json" not in self.headers.get("content-type", ""):
            raise SourceError("service-not-json", path=path)
        try:
            told = json.loads(self.body)
        except (ValueError, RecursionError) as error:
            raise SourceError("service-not-json", path=path) from error
        if not isinstance(told, dict):
            raise SourceError("service-not-json", path=path)
        return told


class Wire:
    """A service at `base`, an address of http or https. `name`: what it is called in errors."""

    def __init__(self, base: str, name: str) -> None:
        self.base, self.name = base.rstrip("/"), name
        self.limited_until = 0.0  # by the monotonic clock
        try:
            self._origin = _origin(httpx.URL(self.base))
            self._client = httpx.Client(
                verify=ssl.create_default_context(), follow_redirects=False, trust_env=False,
                limits=httpx.Limits(max_connections=1, max_keepalive_connections=1),
                timeout=httpx.Timeout(SILENT_SECONDS, connect=CONNECT_SECONDS),
                headers={"User-Agent": "Needlewright",
                         "Accept-Encoding": "identity"})
        except (httpx.InvalidURL, ValueError) as error:
            raise SourceError("address-wrong", path=base) from error

    def close(self) -> None:
        self._client.close()

    def sign_in(self, auth: httpx.Auth) -> None:
        """From now on, with these credentials."""
        self._client.auth = auth

    def url(self, path: str) -> str:
        """The address of what the service calls `path`; SourceError where that lies elsewhere."""
        try:
            url = httpx.URL(self.base + "/").join(path) if "://" in path else (
                httpx.URL(self.base + path))
        except (httpx.InvalidURL, ValueError) as error:
            raise SourceError("service-elsewhere", path=self.name) from error
        if _origin(url) != self._origin:
            raise SourceError("service-elsewhere", path=self.name)
        return str(url)

    def ask(self, method: str, path: str, stop: StopSignal, *,
            headers: Mapping[str, str] | None = None, body: Any = None,
            content: bytes | None = None, most: int = MOST_ANSWER) -> Answer:
        """The whole answer to a request. SourceError "shelf-lost" where none comes, "shelf-limited"
        where it is to be asked later."""
        begun = time.monotonic()
        with self._sent(method, path, headers, body, content) as answer:
            parts, have = [], 0
            for block in self._blocks(answer):
                parts.append(block)
                have += len(block)
                if stop.is_set():
                    raise Interrupted
                if have > most:
                    raise SourceError("service-endless", path=self.name)
                if time.monotonic() - begun > WHOLE_SECONDS:  # it never ends, drop by drop
                    raise SourceError("service-endless", path=self.name)
            return Answer(answer.status_code, _headers(answer), b"".join(parts))

    def fetch(self, path: str, begin: int, stop: StopSignal,
              headers: Mapping[str, str] | None = None) -> Iterator[bytes]:
        """The content of `path` from byte `begin` on, in blocks. SourceError "service-says" for any
        status but success."""
        wanted = {**(headers or {}), **({"Range": f"bytes={begin}-"} if begin else {})}
        with self._sent("GET", path, wanted, None, None) as answer:
            passed = 0
            if answer.status_code == 206:
                if _begins(answer.headers.get("content-range", "")) != begin:
                    raise SourceError("shelf-lost", path=self.name, reason="wrong-range")
            elif answer.status_code == 416 and begin:
                return  # there is no more of it
            elif answer.status_code == 200:
                passed = begin  # it knows no ranges: what is there already is passed over
            else:
                raise SourceError("service-says", path=self.name, status=answer.status_code,
                                  reason=str(answer.status_code))
            for block in self._blocks(answer):
                if stop.is_set():
                    raise Interrupted
                PACE.spent(len(block), stop)
                skip = min(passed, len(block))
                passed -= skip
                if len(block) > skip:
                    yield block[skip:]

    def _blocks(self, answer: httpx.Response) -> Iterator[bytes]:
        """What comes of an answer; it is told apart whether all of it came."""
        told = answer.headers.get("content-length", "")
        have = 0
        try:
            for block in answer.iter_raw():  # as it comes: what is there is kept when it breaks
                have += len(block)
                yield block
        except (httpx.HTTPError, ssl.SSLError) as error:
            raise self._lost(error) from error
        if told.isdigit() and have < int(told):
            raise SourceError("shelf-lost", path=self.name, reason="cut-short", state="off")

    @contextlib.contextmanager
    def _sent(self, method: str, path: str, headers: Mapping[str, str] | None, body: Any,
              content: bytes | None) -> Iterator[httpx.Response]:
        left = self.limited_until - time.monotonic()
        if left > 0:
            raise SourceError("shelf-limited", path=self.name, seconds=round(left),
                              state="limited")
        url = self.url(path)
        try:
            with self._client.stream(method, url, headers=dict(headers or {}), json=body,
                                     content=content) as answer:
                if answer.status_code in LIMITED:
                    self._limit(answer)
                if answer.is_redirect:
                    raise SourceError("service-elsewhere", path=self.name)
                yield answer
        except (httpx.HTTPError, httpx.InvalidURL, ssl.SSLError, ValueError) as error:
            raise self._lost(error) from error

    def _limit(self, answer: httpx.Response) -> None:
        told = answer.headers.get("retry-after", "").strip()
        seconds = 5.0
        if SECONDS.fullmatch(told):
            seconds = float(told)
        else:
            with contextlib.suppress(ValueError, TypeError):
                seconds = parsedate_to_datetime(told).timestamp() - time.time()
        seconds = min(MOST_WAIT, max(0.5, seconds))
        self.limited_until = time.monotonic() + seconds
        raise SourceError("shelf-limited", path=self.name, seconds=round(seconds),
                          state="limited")

    def _lost(self, error: Exception) -> SourceError:
        cause: BaseException | None = error
        while cause is not None:
            if isinstance(cause, ssl.SSLCertVerificationError):
                return SourceError("service-certificate", path=self.name,
                                   reason=cause.verify_message)
            cause = cause.__cause__ or cause.__context__
        return SourceError("shelf-lost", path=self.name, reason=type(error).__name__,
                           state="off")

    def patiently(self, stop: StopSignal, left: float = MOST_WAIT) -> None:
        """Wait until it may be asked again."""
        wait(min(left, max(0.0, self.limited_until - time.monotonic())), stop)


def _origin(url: httpx.URL) -> tuple[str, str, int | None]:
    if url.scheme not in ("http", "https") or not url.host:
        raise ValueError(str(url))
    return url.scheme, url.host.lower(), url.port


def _begins(told: str) -> int:
    """The first byte of a Content-Range; -1 where it is none."""
    unit, _, spans = told.partition(" ")
    first = spans.split("-")[0]
    return int(first) if unit == "bytes" and first.isdigit() else -1


def _headers(answer: httpx.Response) -> dict[str, str]:
    return {name.lower(): value for name, value in answer.headers.items()}
