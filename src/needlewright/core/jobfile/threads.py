"""What was joined by hand so far, kept in the job: each find's threads, the undone ones as well."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.core.jobfile.database import Database

MAX_STEPS = 200  # of one find that can be undone


@dataclass(frozen=True, slots=True)
class Thread:
    """`runs`: (first cluster, how many) in file order; `end`: bytes of the last cluster that belong
    to the file, where it ends there; `what`: how it came from the one before."""

    runs: tuple[tuple[int, int], ...]
    seams: tuple[Seam, ...] = ()
    end: int | None = None
    what: str = ""

    @property
    def clusters(self) -> tuple[int, ...]:
        return tuple(n for first, count in self.runs for n in range(first, first + count))


@dataclass(frozen=True, slots=True)
class History:
    """The threads of a find, one after another, and which of them stands. `unit`, `base`: bytes of
    a cluster and the first byte of one."""

    unit: int
    base: int
    threads: tuple[Thread, ...]
    at: int = 0

    @property
    def now(self) -> Thread:
        return self.threads[self.at]

    def then(self, thread: Thread) -> History:
        """With one more; what was undone is forgotten."""
        threads = (*self.threads[: self.at + 1], thread)
        if len(threads) > MAX_STEPS:  # the first one, as found, stays
            threads = (threads[0], *threads[2:])
        return History(self.unit, self.base, threads, len(threads) - 1)

    def moved(self, by: int) -> History:
        at = max(0, min(len(self.threads) - 1, self.at + by))
        return History(self.unit, self.base, self.threads, at)


class Threads:
    """The histories of one job."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def of(self, number: int) -> History | None:
        """What was done by hand with a find; None where nothing was, or where it cannot be read."""
        row = self._database.row("SELECT history FROM threads WHERE find = ?", (number,))
        try:
            return None if row is None else _history_from(json.loads(row[0]))
        except (ValueError, KeyError, TypeError, AttributeError):
            return None

    def keep(self, number: int, history: History) -> None:
        told = json.dumps({
            "unit": history.unit, "base": history.base, "at": history.at,
            "threads": [_thread_as_json(t) for t in history.threads]})
        self._database.write(partial(
            self._database.run, "INSERT OR REPLACE INTO threads VALUES (?, ?)", (number, told)),
            soon=True)


def _thread_as_json(thread: Thread) -> dict[str, Any]:
    return {"runs": thread.runs, "end": thread.end, "what": thread.what, "seams": [
        [s.at, s.word, [[r.code, dict(r.values)] for r in s.reasons]] for s in thread.seams]}


def _history_from(told: dict[str, Any]) -> History:
    threads = tuple(_thread_from(t) for t in told["threads"])
    history = History(int(told["unit"]), int(told["base"]), threads, int(told["at"]))
    if history.unit <= 0 or not 0 <= history.at < len(threads):
        raise ValueError("history")
    return history


def _thread_from(told: dict[str, Any]) -> Thread:
    runs = tuple((int(first), int(count)) for first, count in told["runs"])
    if not runs or any(first < 0 or count <= 0 for first, count in runs):
        raise ValueError("runs")
    return Thread(runs, _seams_from(told["seams"]),
                  None if told["end"] is None else int(told["end"]), str(told["what"]))


def _seams_from(told: Sequence[Any]) -> tuple[Seam, ...]:
    return tuple(Seam(int(at), SeamWord(word), tuple(Reason(c, dict(v)) for c, v in reasons))
                 for at, word, reasons in told)


def runs_of(clusters: Sequence[int]) -> tuple[tuple[int, int], ...]:
    """Clusters in file order as (first, how many)."""
    out: list[tuple[int, int]] = []
    for number in clusters:
        if out and sum(out[-1]) == number:
            out[-1] = out[-1][0], out[-1][1] + 1
        else:
            out.append((number, 1))
    return tuple(out)
