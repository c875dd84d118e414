"""The command that opens the demo job, or takes the whole tour without a display."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from needlewright.cli.command_phones import displayed
from needlewright.cli.registry import Command, register
from needlewright.wording import cli as words


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--headless", metavar="DIR", help=words.HELP["headless"])


def _demo(options: argparse.Namespace) -> int:
    if options.headless is None:
        if not displayed():
            print("needlewright: there is no display; give --headless DIR for the tour without "
                  "one.", file=sys.stderr)
            return 1
        from needlewright.app.main import run_window

        return run_window(None, demo=True)
    from needlewright.app.tour import take_tour

    return take_tour(Path(options.headless))


register(Command("demo", _arguments, _demo))
