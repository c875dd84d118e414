"""Where the program begins. Whoever only asks which commands there are waits for none of them."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from needlewright.commands import overview

ASKED = frozenset(("-h", "--help", "--version"))


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command, or the window; returns the exit status."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    if given and given[0] in ASKED:
        overview().parse_args(given[:1])
    from needlewright.cli.program import main as run

    return run(given)
