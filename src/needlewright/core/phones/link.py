"""The way to a device: one operation after another, with its data. A module `link_*` each."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass

Take = Callable[[memoryview], None]


class Lost(Exception):
    """The connection is of no use any more: it broke, went silent, or said what it must not. The
    session is over; a new one may be opened."""

    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why


class Unwelcome(Exception):
    """The device does not let us in: nobody has trusted this computer yet, or it is busy."""


@dataclass(frozen=True, slots=True)
class Answer:
    """How an operation ended: its response code and parameters."""

    code: int
    values: tuple[int, ...] = ()


class Link(ABC):
    """A connection to a device. Every call has a deadline, and one for the bytes that move."""

    @abstractmethod
    def run(self, operation: int, transaction: int, values: Sequence[int], take: Take,
            data: bytes | None = None) -> Answer:
        """Ask for an operation; `take` is given the data that comes, `data` is sent. Raises Lost,
        also where another transaction is answered, or another amount of data comes than was
        announced."""

    @abstractmethod
    def close(self) -> None:
        """Let go of the connection."""
