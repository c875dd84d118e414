"""The commands by their names: enough to tell which there are, without loading any of them."""

from __future__ import annotations

import argparse

from needlewright import __version__
from needlewright.wording import cli as words

COMMANDS = ("demo", "search", "deliver", "run", "sources", "forecast", "image", "join", "check",
            "mend", "finds", "tray", "rows", "standin", "put-back", "inside", "backups", "loss",
            "compare", "copy-job")


def overview() -> argparse.ArgumentParser:
    """Knows the commands by name, and nothing of what they take."""
    parser = argparse.ArgumentParser(prog="needlewright", description=words.ABOUT)
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    for name in COMMANDS:
        commands.add_parser(name, help=words.HELP[name.replace("-", "_")])
    return parser
