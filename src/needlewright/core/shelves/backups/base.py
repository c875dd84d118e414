"""The interface of a backup, and the known layouts.

There is no call here, nor anywhere else, that puts a backup back over anything.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from needlewright.core.errors import SourceError
from needlewright.core.registry import Registry
from needlewright.core.shelves.backups.spots import Spot, spot_at
from needlewright.core.shelves.item_shelf import Item

SCHEME = "backup:"


@dataclass(slots=True)
class Facts:
    """What a backup says of itself. `layout`: whose; `made`: RFC 3339, or a day, as far as known;
    `complete`: None where nothing tells; `troubles`: codes of what is damaged, with counts;
    `notes`: codes of what its layout cannot tell."""

    layout: str
    device: str = ""
    made: str | None = None
    complete: bool | None = None
    encrypted: bool = False
    troubles: dict[str, int] = field(default_factory=dict)
    notes: tuple[str, ...] = ()


class Backup(ABC):
    """An open backup. `facts` are whole once `items` was asked; `at_random`: any item is quickly
    reached."""

    facts: Facts
    at_random = True

    @abstractmethod
    def items(self, breathe: Callable[[], None]) -> Sequence[Item]:
        """All files, in the order in which they are best read; `breathe` is called often, and may
        raise. SourceError where the backup cannot be read at all, or no secret opens it."""

    @abstractmethod
    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        """The bytes of an item from `begin` on; Flaw where it breaks off."""

    def marks(self) -> tuple[tuple[int, int], ...] | None:
        """What differs once the backup was changed; None where that is not quickly told."""
        return None

    def close(self) -> None:  # noqa: B027 - most hold nothing open
        """Let go of what is open."""


@dataclass(frozen=True, slots=True)
class Layout:
    """A layout. `order`: the more particular ones first; `fits(spot)`: whether what lies there is
    one, by a short look; `open(spot, spec)`: SourceError where it is damaged beyond use, and where
    a secret of `spec` is wanted. `is_own`: it is a backup wherever it is met, and not only where a
    person says so."""

    name: str
    order: int
    fits: Callable[[Spot], bool]
    open: Callable[[Spot, str], Backup]
    is_own: bool = True


_layouts: Registry[Layout] = Registry("needlewright.core.shelves.backups", prefix="layout_")


def register(layout: Layout) -> Layout:
    """Add a layout; ValueError if its name is taken."""
    return _layouts.add(layout.name, layout)


def layout_of(spot: Spot, is_own: bool = False) -> Layout | None:
    """The layout of what lies at `spot`, the most particular one; `is_own`: see `Layout`."""
    for layout in sorted(_layouts.all().values(), key=lambda one: one.order):
        if is_own and not layout.is_own:
            continue
        try:
            if layout.fits(spot):
                return layout
        except OSError:
            continue
    return None


def marks_of(*spots: Spot) -> tuple[tuple[int, int], ...]:
    """What differs once one of these files and folders was changed."""
    return tuple(spot.mark() for spot in spots)


def open_backup(path: Path, spec: str = "", breathe: Callable[[], None] = lambda: None) -> Backup:
    """The backup at `path`, here or in an image; `spec`: what its secrets are kept under;
    `breathe` is called often where that takes long, and may raise. SourceError."""
    try:
        spot = spot_at(path, breathe)
        if not spot.exists():
            raise SourceError("source-missing", path=str(path))
        layout = layout_of(spot)
        if layout is None:
            raise SourceError("backup-unknown", path=str(path))
        return layout.open(spot, spec or f"{SCHEME}{path}")
    except OSError as error:
        raise SourceError("source-unopenable", path=str(path),
                          reason=error.strerror or str(error)) from error
