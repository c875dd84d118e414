"""Runs all tests, module by module on as many processes as there are cores, and ends with
'N passed, N failed' alone on a line. Before that, the share of tests in lines of code.

`python tools/run_tests.py [MODULE ...]`, for example `tests.core.test_search`.
"""

from __future__ import annotations

import io
import os
import sys
import time
import traceback
import unittest
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
LEAST, MOST = 0.25, 0.40  # lines of tests to a line of code
#: Modules that take longest begin first, so that no process waits for one at the end.
LONG = ("tests.mending.test_clips", "tests.core.test_streams_joined", "tests.test_cards",
        "tests.core.test_formats", "tests.imaging.test_copier", "tests.test_cli",
        "tests.core.test_stitching", "tests.test_cli_wrong", "tests.mending.test_streams",
        "tests.mending.test_jpeg_mending", "tests.databases.test_rows")


@dataclass(frozen=True)
class Outcome:
    module: str
    run: int
    failed: int
    skipped: int
    text: str
    seconds: float


def run_module(name: str) -> Outcome:
    """Run one module's tests; the text is empty where all is well."""
    sys.path.insert(0, str(ROOT))
    began = time.monotonic()
    out = io.StringIO()
    try:
        suite = unittest.defaultTestLoader.loadTestsFromName(name)
    except Exception:  # a module that cannot even be loaded is a failure like any other
        return Outcome(name, 1, 1, 0, traceback.format_exc(), time.monotonic() - began)
    result = unittest.TextTestRunner(out, verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return Outcome(name, result.testsRun, failed, len(result.skipped),
                   out.getvalue() if failed else "", time.monotonic() - began)


def lines_in(folder: str) -> int:
    """Lines of Python below `folder` that are neither blank nor comments."""
    return sum(1 for path in (ROOT / folder).rglob("*.py")
               for line in path.read_text(encoding="utf-8").splitlines()
               if line.strip() and not line.strip().startswith("#"))


def main(names: list[str]) -> int:
    modules = names or sorted(
        (".".join(path.relative_to(ROOT).with_suffix("").parts)
         for path in (ROOT / "tests").rglob("test_*.py")),
        key=lambda name: (name not in LONG, name))
    outcomes = []
    pool = ProcessPoolExecutor(os.cpu_count() or 1, mp_context=get_context("spawn"))
    waiting = {pool.submit(run_module, name): name for name in modules}
    for done in as_completed(waiting):
        try:
            outcome = done.result()
        except Exception as error:  # its process ended: so is that
            outcome = Outcome(waiting[done], 1, 1, 0, f"{error!r}", 0.0)
        outcomes.append(outcome)
        print(f"{outcome.module}: {outcome.run} run, {outcome.failed} failed, "
              f"{outcome.seconds:.0f} s", flush=True)
        if outcome.text:
            print(outcome.text, flush=True)
    for process in list((pool._processes or {}).values()):
        process.kill()  # what a test left running there must not keep the result
    run, failed = sum(o.run for o in outcomes), sum(o.failed for o in outcomes)
    skipped = sum(o.skipped for o in outcomes)
    share = lines_in("tests") / lines_in("src")
    print(f"tests are {share:.1%} of the lines of code")
    if not names and not LEAST <= share <= MOST:
        print(f"they must be {LEAST:.0%} to {MOST:.0%}")
        failed += 1
        run += 1
    if skipped:
        print(f"{skipped} skipped")
    print(f"{run - failed - skipped} passed, {failed} failed", flush=True)
    return 1 if failed or not run else 0


if __name__ == "__main__":
    status = main(sys.argv[1:])
    sys.stdout.flush()
    os._exit(status)
