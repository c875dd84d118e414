"""The way to a device: one operation after another, with its data. A module `link_*` each."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from io import BytesIO

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


@dataclass(frozen=True, slots=True)
class Outgoing:
    """Data that is sent: `size` bytes, which `read(count)` gives one part after another."""

    size: int
    read: Callable[[int], bytes]

    @staticmethod
    def of(data: bytes) -> Outgoing:
        return Outgoing(len(data), BytesIO(data).read)

    def parts(self, block: int) -> Iterator[bytes]:
        """All of it, up to `block` bytes at a time; Lost where there is less."""
        left = self.size
        while left:
            part = self.read(min(block, left))
            if not part:
                raise Lost("file-shorter")
            left -= len(part)
            yield part


class Link(ABC):
    """A connection to a device. Every call has a deadline, and one for the bytes that move."""

    @abstractmethod
    def run(self, operation: int, transaction: int, values: Sequence[int], take: Take,
            data: Outgoing | None = None) -> Answer:
        """Ask for an operation; `take` is given the data that comes, `data` is sent. Raises Lost,
        also where another transaction is answered, or another amount of data comes than was
        announced."""

    @abstractmethod
    def close(self) -> None:
        """Let go of the connection."""
