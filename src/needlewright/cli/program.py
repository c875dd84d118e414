"""The command line: the same core without the window.

Results go to standard output, progress and failures to standard error. Exit status 0 on success,
1 on a failure with one clear line, 2 on wrong arguments.
"""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence
from pathlib import Path

from needlewright import __version__
from needlewright.cli import registry
from needlewright.cli.command_phones import displayed
from needlewright.commands import COMMANDS
from needlewright.core.errors import NeedlewrightError
from needlewright.core.stopping import Interrupted
from needlewright.wording import cli as words
from needlewright.wording import errors

WRONG_ARGUMENTS = frozenset(("find-unknown", "folder-unknown", "nothing-narrowed",
                              "hand-no-find", "hand-no-offer", "hand-no-place", "steps-unfit",
                              "address-wrong", "onto-no-phone", "inside-no-shelf",
                              "secret-in-address", "backups-no-place", "standin-no-control"))


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit status."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    if not given or (given[0] not in COMMANDS and not given[0].startswith("-")):
        return _window(given)
    options = _parser().parse_args(given)
    try:
        status = int(options.action(options))
        sys.stdout.flush()
        return status
    except BrokenPipeError:
        # Whoever read it has seen enough; what is still buffered must not complain at the end.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 1
    except NeedlewrightError as error:
        more = f" {words.SECRET_HINT}" if error.code == "secret-wanted" else ""
        print(f"needlewright: {errors.explain(error)}{more}", file=sys.stderr)
        return 2 if error.code in WRONG_ARGUMENTS else 1
    except (KeyboardInterrupt, Interrupted):
        print("needlewright: interrupted; what was saved is safe.", file=sys.stderr)
    except OSError as error:
        print(f"needlewright: {errors.explain(error)}", file=sys.stderr)
    return 1


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="needlewright", description=words.ABOUT)
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    known = registry.known()
    for name in COMMANDS:
        command = known[name]
        one = commands.add_parser(name, help=words.HELP[name.replace("-", "_")], **command.more)
        command.arguments(one)
        one.set_defaults(action=command.run)
    return parser


def _window(given: Sequence[str]) -> int:
    unknown = bool(given) and not Path(given[0]).is_dir()
    if len(given) > 1 or unknown:
        what = f"'{given[0]}' is neither a command nor a job folder. " if unknown else ""
        print(f"needlewright: {what}Give one job folder, or a command (see --help).",
              file=sys.stderr)
        return 2
    if not displayed():
        print("needlewright: there is no display to open a window on; see --help for what works "
              "without one.", file=sys.stderr)
        return 1
    from needlewright.app.main import run_window

    return run_window(given[0] if given else None)


if __name__ == "__main__":
    sys.exit(main())
