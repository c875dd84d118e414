"""Processes of our own that the program starts: the one place that knows how.

A child must not import what lies in the folder the user happened to start us in, nor what an
environment variable points to: it runs isolated (`-I`), with the few variables that it needs.
"""

from __future__ import annotations

import ctypes
import os
import signal
import subprocess
import sys
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import IO

PR_SET_PDEATHSIG = 1
_STARTER = ThreadPoolExecutor(1, "starter")  # lives as long as the program

#: What a child may know of the environment; nothing of Python's own, no library paths.
WANTED = frozenset((
    "PATH", "HOME", "USER", "LOGNAME", "LANG", "LANGUAGE", "TZ", "TMPDIR", "XDG_CACHE_HOME",
    "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR", "SOURCE_DATE_EPOCH"))
#: … and by their beginnings: locale, and what keeps numeric libraries to this processor.
WANTED_BEGINNINGS = ("LC_", "NUMBA_", "OPENBLAS_", "NEEDLEWRIGHT_")


def environment(more: Mapping[str, str] | None = None) -> dict[str, str]:
    """The environment of a child; `more` is added."""
    kept = {name: value for name, value in os.environ.items()
            if name in WANTED or name.startswith(WANTED_BEGINNINGS)}
    return {**kept, **(more or {})}


def command(module: str, *arguments: str) -> list[str]:
    """The command that runs one of our modules in a process of its own."""
    return [sys.executable, "-I", "-m", module, *arguments]


def end_with_parent(parent: int) -> None:
    """In a child: have it killed when the process `parent`, which started it, ends (prctl(2))."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
    if os.getppid() != parent:  # it ended before we asked
        os._exit(1)


def start(
    module: str, *arguments: str, stdin: int | IO[bytes] | None = subprocess.PIPE,
    stdout: int | IO[bytes] | None = subprocess.PIPE, stderr: int | IO[bytes] | None = None,
    pass_fds: Sequence[int] = (), more: Mapping[str, str] | None = None,
) -> subprocess.Popen[bytes]:
    """Start one of our modules, isolated."""
    return subprocess.Popen(
        command(module, *arguments), stdin=stdin, stdout=stdout, stderr=stderr,
        pass_fds=tuple(pass_fds), env=environment(more))


def start_to_stay(module: str, *arguments: str, stderr: int | None = None,
                  more: Mapping[str, str] | None = None) -> subprocess.Popen[bytes]:
    """Start one that stays when the thread ends that wants it: the kernel ends a child with the
    very thread that started it (prctl(2), PR_SET_PDEATHSIG)."""
    return _STARTER.submit(
        partial(start, module, *arguments, stderr=stderr, more=more)).result()
