"""Passwords and one-time codes, for as long as the program runs.

They are in this module's memory and nowhere else: no job, log, cache, command line, variable of the
environment or child process gets one. Whoever needs one asks `wanted`; what shows a person a
question is given by the window or the command line.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from needlewright.core.errors import NeedlewrightError, SourceError

PASSWORD, CODE = "password", "code"
MOST_BYTES = 1 << 16  # of a file of secrets


@dataclass(frozen=True, slots=True, repr=False)
class Secret:
    """What opens a source; None for what is not known."""

    password: str | None = None
    code: str | None = None

    def __repr__(self) -> str:
        return "Secret(…)"  # a traceback or a log must not tell it

    def of(self, what: str) -> str | None:
        return self.password if what == PASSWORD else self.code


_known: dict[str, Secret] = {}
_for_all: list[Secret] = []
_quiet = threading.local()
_lock = threading.Lock()
_askers: list[Callable[[str, str, bool], str | None]] = []


def asked_by(ask: Callable[[str, str, bool], str | None]) -> None:
    """Have `ask(spec, PASSWORD or CODE, whether one was wrong)` called where one is wanted; it
    gives None where a person has none."""
    _askers[:] = [ask]


def keep(spec: str, secret: Secret) -> None:
    """Remember what opens `spec`; what is None in it stays as it was."""
    with _lock:
        old = _known.get(spec, Secret())
        _known[spec] = replace(old, password=old.password if secret.password is None
                               else secret.password,
                               code=old.code if secret.code is None else secret.code)


def keep_for_all(secret: Secret) -> None:
    """Remember what may open any source: tried once on each of which nothing else is known."""
    _for_all[:] = [secret]


@contextlib.contextmanager
def nobody_asked() -> Iterator[None]:
    """Within it, in this thread, no person is asked: what is locked stays so."""
    before = getattr(_quiet, "on", False)
    _quiet.on = True
    try:
        yield
    finally:
        _quiet.on = before


def forget(spec: str, what: str = "") -> None:
    """Forget what opens `spec`: PASSWORD, CODE (which is good for one time), or all."""
    with _lock:
        old = _known.pop(spec, None)
        if old is not None and what:
            _known[spec] = replace(old, password=None) if what == PASSWORD else replace(
                old, code=None)


def wanted(spec: str, what: str = PASSWORD, wrong: bool = False) -> str:
    """What opens `spec`; a person is asked where it is not known, or `wrong`. SourceError
    "secret-wanted" or "secret-wrong" where nobody tells it."""
    if wrong:
        forget(spec, what)
    with _lock:
        known = _known.get(spec, Secret()).of(what)
    if known is None and not wrong and _for_all:
        known = _for_all[0].of(what)
    if known is None and _askers and not getattr(_quiet, "on", False):
        known = _askers[0](spec, what, wrong)
        if known is not None:
            keep(spec, Secret(known) if what == PASSWORD else Secret(code=known))
    if known is None:
        raise SourceError("secret-wrong" if wrong else "secret-wanted", path=spec, what=what)
    return known


def read_file(path: str) -> Secret:
    """The password on the first line of a file, a one-time code on the second. NeedlewrightError
    where there is none."""
    try:
        with Path(path).open("rb") as file:
            lines = file.read(MOST_BYTES).decode("utf-8").splitlines()
    except OSError as error:
        raise NeedlewrightError("secret-unread", path=path,
                                reason=error.strerror or str(error)) from error
    except UnicodeDecodeError as error:
        raise NeedlewrightError("secret-unread", path=path, reason="it is no text") from error
    if not lines or not lines[0]:
        raise NeedlewrightError("secret-unread", path=path, reason="its first line is empty")
    return Secret(lines[0], lines[1].strip() or None if len(lines) > 1 else None)
