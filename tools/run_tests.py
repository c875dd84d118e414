"""Runs all tests, class by class on one process more than there are cores, and ends with
'N passed, N failed' alone on a line. Before that, the share of tests in lines of code.

`python tools/run_tests.py [--measure] [--drawn] [--branches] [NAME ...]`, for example
`tests.core.test_search`.
Classes that take longest begin first, as `tests/times.json` has them: seconds of those that take
more than two; `--measure` writes that file anew. `--drawn`: the modules that draw examples.
`--branches`: tell which part of each package's branches is taken, and fail where it is less than it
was; with `--measure` that becomes what may not fall.
"""

from __future__ import annotations

import ast
import contextlib
import faulthandler
import io
import json
import os
import queue
import signal
import sys
import threading
import time
import traceback
import unittest
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
LEAST, MOST = 0.25, 0.40  # lines of tests to a line of code
TIMES = ROOT / "tests" / "times.json"
WORTH_S = 2.0  # seconds from which a class is told of by itself
MOST_S = 900.0  # after which a class is taken to have stopped for good


@dataclass(frozen=True)
class Outcome:
    name: str
    run: int
    failed: int
    skipped: int
    text: str
    seconds: float


def run_named(name: str, branches: bool = False) -> Outcome:
    """Run the tests of a module or a class; the text is empty where all is well. `branches`: note
    which are taken."""
    sys.path.insert(0, str(ROOT))
    measuring = None
    if branches:
        from tools.branches import begin
        measuring = begin(name)
    try:
        return outcome_of(name)
    finally:
        if measuring is not None:
            measuring.stop()
            measuring.save()


def outcome_of(name: str) -> Outcome:
    with contextlib.suppress(ImportError):
        from needlewright.core.checks.decoding import SPARES
        SPARES.any_use = True  # one pool of decoders for all tests of this process
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


def parts_of(module: str) -> list[str]:
    """The classes of `module` that have tests; the module itself where one of them may inherit its
    tests from another."""
    path = (ROOT / module.replace(".", "/")).with_suffix(".py")
    if not path.is_file():
        return [module]
    classes = [node for node in ast.parse(path.read_text(encoding="utf-8")).body
               if isinstance(node, ast.ClassDef)]
    tested = [node.name for node in classes if any(
        isinstance(one, ast.FunctionDef) and one.name.startswith("test") for one in node.body)]
    inherit = any(isinstance(base, ast.Name) and base.id.endswith("Test") and base.id in tested
                  for node in classes for base in node.bases)
    return [module] if inherit or not tested else [f"{module}.{name}" for name in tested]


def all_names() -> list[str]:
    """Every class with tests, what takes longest first."""
    times = json.loads(TIMES.read_text(encoding="utf-8")) if TIMES.exists() else {}
    modules = (".".join(path.relative_to(ROOT).with_suffix("").parts)
               for path in (ROOT / "tests").rglob("test_*.py"))
    names = [name for module in sorted(modules) for name in parts_of(module)]
    return sorted(names, key=lambda name: (-times.get(name, 0.0), name))


def drawn() -> list[str]:
    """The modules with tests that draw examples."""
    return sorted(".".join(path.relative_to(ROOT).with_suffix("").parts)
                  for path in (ROOT / "tests").rglob("test_*.py")
                  if "from hypothesis" in path.read_text(encoding="utf-8"))


def all_run(names: list[str], branches: bool) -> Iterator[Outcome]:
    """The outcome of each of `names`, as they come in."""
    waiting, done = queue.Queue[str](), queue.Queue[Outcome]()
    for name in names:
        waiting.put(name)
    # One more than there are cores: some tests wait, for a slow medium or a phone.
    for _ in range((os.cpu_count() or 1) + 1):
        threading.Thread(target=work_off, args=(waiting, done, branches), daemon=True).start()
    for _ in names:
        yield done.get()


def work_off(waiting: queue.Queue[str], done: queue.Queue[Outcome], branches: bool) -> None:
    """Run what waits in a process of its own; one that ends, or does not, costs one name only."""
    pool = None
    with contextlib.suppress(queue.Empty):
        while True:
            name = waiting.get_nowait()
            pool = pool or ProcessPoolExecutor(
                1, mp_context=get_context("spawn"), initializer=faulthandler.enable)
            try:
                outcome = pool.submit(run_named, name, branches).result(MOST_S)
            except Exception as error:
                outcome = Outcome(name, 1, 1, 0, f"{error!r}", MOST_S)
                end(pool, signal.SIGABRT)  # on which it says where it is
                pool = None
            done.put(outcome)
    if pool is not None:
        end(pool, signal.SIGKILL)  # what a test left running there must not keep the result


def end(pool: ProcessPoolExecutor, how: signal.Signals) -> None:
    for process in list((pool._processes or {}).values()):
        os.kill(process.pid or 0, how)
        process.join(10)
        process.kill()


def main(names: list[str], measure: bool, branches: bool) -> int:
    outcomes = []
    for outcome in all_run(names or all_names(), branches):
        outcomes.append(outcome)
        if outcome.failed or outcome.seconds >= WORTH_S:
            print(f"{outcome.name}: {outcome.run} run, {outcome.failed} failed, "
                  f"{outcome.seconds:.0f} s", flush=True)
        if outcome.text:
            print(outcome.text, flush=True)
    if measure:
        TIMES.write_text(json.dumps({
            o.name: round(o.seconds, 1) for o in sorted(outcomes, key=lambda o: o.name)
            if o.seconds >= WORTH_S}, indent=1) + "\n", encoding="utf-8")
    run, failed = sum(o.run for o in outcomes), sum(o.failed for o in outcomes)
    skipped = sum(o.skipped for o in outcomes)
    share = lines_in("tests") / lines_in("src")
    print(f"tests are {share:.1%} of the lines of code")
    if not names and not LEAST <= share <= MOST:
        print(f"they must be {LEAST:.0%} to {MOST:.0%}")
        failed += 1
        run += 1
    if branches:
        from tools.branches import report
        if not report(measure):
            failed += 1
            run += 1
    if skipped:
        print(f"{skipped} skipped")
    print(f"{run - failed - skipped} passed, {failed} failed", flush=True)
    return 1 if failed or not run else 0


if __name__ == "__main__":
    given = [one for one in sys.argv[1:] if not one.startswith("--")]
    sys.path.insert(0, str(ROOT))
    status = main(drawn() if "--drawn" in sys.argv else given, "--measure" in sys.argv,
                  "--branches" in sys.argv)
    sys.stdout.flush()
    os._exit(status)
