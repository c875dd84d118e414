"""What all shelves of services have in common: they go away, and are asked again."""

from __future__ import annotations

import time
from abc import abstractmethod
from collections.abc import Callable, Sequence

from needlewright.core.errors import SourceError
from needlewright.core.shelves.item_shelf import ItemShelf
from needlewright.core.shelves.wire import Wire
from needlewright.core.sources.shelf import Offered

TORN = 2  # how often a file is fetched anew whose hash is not the one that was told


class ServiceShelf(ItemShelf):
    """A shelf behind `wire`."""

    tries = TORN
    wire: Wire

    @abstractmethod
    def answers(self) -> None:
        """Ask it something small; SourceError where it does not answer."""

    def look(self, told: Callable[[int, int], None],
             came: Callable[[Sequence[Offered]], None] = lambda some: None) -> None:
        try:
            super().look(told, came)
        except SourceError as error:
            if error.code != "shelf-lost":
                raise
            raise SourceError("service-silent", path=self.name,
                              reason=str(error.values.get("reason", ""))) from error

    def end(self) -> None:
        self.wire.close()

    def is_back(self) -> str:
        if self.wire.limited_until > time.monotonic():
            return "limited"
        try:
            self.answers()
        except SourceError as error:
            if error.code not in ("shelf-lost", "shelf-limited"):
                raise
            return str(error.values.get("state", "off"))
        return ""
