"""Rows of a damaged job file: what their values make of is a JobError, or is left out of a list.

SQLite sees damage of its pages, not of the values in them: changed bytes become a grade that does
not exist, or JSON that is none.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import Any, TypeVar

from needlewright.core.errors import JobError

ODD = (ValueError, TypeError, LookupError, AttributeError)
T = TypeVar("T")


@contextmanager
def whole_row() -> Iterator[None]:
    """As a decorator or around a block that reads the values of rows: JobError where they make no
    sense."""
    try:
        yield
    except ODD as error:
        raise JobError("job-row-damaged", reason=str(error)) from error


def readable(rows: Iterable[Any], make: Callable[[Any], T],
             damaged: Callable[[str], None]) -> list[T]:
    """What `make` gives for each row; those whose values make no sense are left out, and told to
    `damaged`."""
    found = []
    for row in rows:
        try:
            with whole_row():
                found.append(make(row))
        except JobError as error:
            damaged(str(error.values["reason"]))
    return found
