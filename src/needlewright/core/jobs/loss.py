"""When the loss was, as far as it is known: a day, or behind a certain photo."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import date

from needlewright.core.errors import NeedlewrightError
from needlewright.core.jobfile.store import Job

KEY = "loss"  # among the facts of a job


@dataclass(frozen=True, slots=True)
class Loss:
    """`day`: YYYY-MM-DD, "" where it is unknown; `after`: the number of the find that was still
    there."""

    day: str = ""
    after: int | None = None

    @property
    def known(self) -> bool:
        return bool(self.day)


UNKNOWN = Loss()


def day_of(text: str) -> str:
    """A day as YYYY-MM-DD; ValueError where it is none."""
    return date.fromisoformat(text.strip()).isoformat()


def loss_of(job: Job) -> Loss:
    """What the job knows; UNKNOWN where it knows nothing."""
    try:
        told = json.loads(job.meta(KEY) or "{}")
        return Loss(day_of(told["day"]), told.get("after"))
    except (ValueError, KeyError, TypeError):
        return UNKNOWN


def set_loss(job: Job, loss: Loss) -> None:
    """Keep it in the job."""
    job.set_meta(KEY, json.dumps({"day": loss.day, "after": loss.after} if loss.known else {}))
    job.log("loss-set", {"day": loss.day})


def after_find(job: Job, number: int) -> Loss:
    """The loss was behind the photo `number`: its day is the earliest that it can have been.
    NeedlewrightError where there is none of that number, or it has no date."""
    rows = job.rows([number])
    if not rows:
        raise NeedlewrightError("find-unknown", find=number)
    told = rows[0].taken or rows[0].modified
    if not told:
        raise NeedlewrightError("loss-no-date", find=number)
    return Loss(told[:10], number)
