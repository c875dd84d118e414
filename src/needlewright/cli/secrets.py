"""The command line's part about secrets: from a file, or asked for without an echo."""

from __future__ import annotations

import argparse
import contextlib
import getpass
import re
import sys
from collections.abc import Iterable

from needlewright.core import secrets
from needlewright.core.errors import NeedlewrightError
from needlewright.core.shelves.wire import PACE
from needlewright.core.sources.registry import whole_name
from needlewright.wording import cli as words
from needlewright.wording import shelves as shelf_words

SPEED = re.compile(r"(\d{1,9}(?:\.\d{1,3})?)([kKmM]?)")
FACTORS = {"": 1.0, "k": 1e3, "m": 1e6}


def add_option(parser: argparse.ArgumentParser) -> None:
    """Add `--secret-file`, and how fast a service may be asked."""
    parser.add_argument("--secret-file", metavar="FILE", help=words.HELP["secret_file"])
    parser.add_argument("--at-most", metavar="SPEED", type=_speed, help=words.HELP["at_most"])


def _speed(text: str) -> float:
    match = SPEED.fullmatch(text.strip())
    if match is None or not float(match[1]):
        raise argparse.ArgumentTypeError(f"'{text}' is no speed, as 500k or 2.5M (bytes a second)")
    return float(match[1]) * FACTORS[match[2].lower()]


def use(options: argparse.Namespace, specs: Iterable[str]) -> None:
    """Have what opens `specs` taken from the file that is given, or asked for."""
    if options.at_most:
        PACE.most = options.at_most
    if options.secret_file:
        secret = secrets.read_file(options.secret_file)
        for spec in specs:
            with contextlib.suppress(NeedlewrightError):
                secrets.keep(whole_name(spec), secret)
    elif sys.stdin.isatty() and sys.stderr.isatty():
        secrets.asked_by(_ask)


def _ask(spec: str, what: str, wrong: bool) -> str | None:
    try:
        return getpass.getpass(shelf_words.ask(spec, what, wrong) + " ", sys.stderr) or None
    except EOFError:
        return None


def use_for_backups(options: argparse.Namespace) -> None:
    """… for whatever backup is met: a file of secrets is tried once on each, and nobody is asked,
    since there may be many."""
    if options.secret_file:
        secrets.keep_for_all(secrets.read_file(options.secret_file))
