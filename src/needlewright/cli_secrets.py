"""The command line's part about secrets: from a file, or asked for without an echo."""

from __future__ import annotations

import argparse
import contextlib
import getpass
import sys
from collections.abc import Iterable

from needlewright.core import secrets
from needlewright.core.errors import NeedlewrightError
from needlewright.core.sources.registry import whole_name
from needlewright.wording import cli as words
from needlewright.wording import shelves as shelf_words


def add_option(parser: argparse.ArgumentParser) -> None:
    """Add `--secret-file`."""
    parser.add_argument("--secret-file", metavar="FILE", help=words.HELP["secret_file"])


def use(options: argparse.Namespace, specs: Iterable[str]) -> None:
    """Have what opens `specs` taken from the file that is given, or asked for."""
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
