"""The command line's part about damaged jobs: what can be read of one becomes a new job."""

from __future__ import annotations

import argparse
from pathlib import Path

from needlewright.cli.registry import Command, register
from needlewright.cli.work import stoppable
from needlewright.core.names import one_line
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.wording import cli as words
from needlewright.wording import jobs as job_words


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--job", required=True, help=words.HELP["job_there"])
    parser.add_argument("--to", required=True, metavar="FOLDER", help=words.HELP["copy_job_to"])


def _run(options: argparse.Namespace, stop: StopSignal) -> int:
    from needlewright.core.jobs.anew import copy_job

    try:
        done = copy_job(Path(options.job), Path(options.to), stop)
    except Interrupted as error:
        raise KeyboardInterrupt from error
    print(job_words.copied(done.finds, done.known, one_line(str(done.folder)),
                          done.missed))
    return 0


register(Command("copy-job", _arguments, stoppable(_run)))
