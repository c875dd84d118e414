"""Where a step goes on that goes by entries and not by bytes: how many it has settled, which of
those are still open, as JSON that the job keeps."""

from __future__ import annotations

import json
import time
from collections.abc import Iterable
from typing import Any

from needlewright.core.search.plan import Plan

TELL_SECONDS = 1.0  # between two states
MAX_OPEN = 100_000


class Resuming:
    """Counts the entries of a step; begins where an earlier run of the same plan was interrupted.

    `facts`: what the step itself keeps beside the count.
    """

    def __init__(self, plan: Plan) -> None:
        self._key, self._told = plan.key, 0.0
        self.done, self._skip, self._open = 0, 0, set[int]()
        self.facts: dict[str, Any] = {}
        try:
            told = json.loads(plan.state) if plan.state else {}
            if told.get("plan") == self._key:
                self._skip = int(told["done"])
                self._open = {int(number) for number in told["open"]}
                self.facts = dict(told["facts"])
        except (ValueError, KeyError, TypeError, AttributeError):
            return  # what cannot be read means to begin anew

    @property
    def resumed(self) -> bool:
        """Whether an earlier run settled anything."""
        return self._skip > 0

    def next(self) -> tuple[int, bool]:
        """(number of the next entry, whether it was settled before)."""
        number = self.done
        self.done += 1
        return number, number < self._skip and number not in self._open

    def again(self, number: int) -> None:
        """The entry `number` was not settled after all."""
        self.done = min(self.done, number)

    def due(self) -> bool:
        """Whether the state is worth telling again."""
        return time.monotonic() - self._told > TELL_SECONDS

    def state(self, open_numbers: Iterable[int]) -> str:
        """What a later run needs to go on from here."""
        self._told = time.monotonic()
        still = sorted({*open_numbers, *(n for n in self._open if n >= self.done)})[:MAX_OPEN]
        done = max(self.done, self._skip) if self.done < self._skip else self.done
        return json.dumps({"plan": self._key, "done": done, "open": still, "facts": self.facts},
                          separators=(",", ":"))
