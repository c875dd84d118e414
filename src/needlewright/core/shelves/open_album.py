"""Albums in the cloud as shelves: `album:NAME`."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from needlewright.core.errors import SourceError
from needlewright.core.shelves.albums.client import AlbumClient
from needlewright.core.shelves.albums.known import SCHEME, album_named, checked
from needlewright.core.shelves.item_shelf import Item, opened
from needlewright.core.shelves.service_shelf import ServiceShelf
from needlewright.core.sources.registry import Opener, register
from needlewright.core.sources.shelf import Offered


class AlbumShelf(ServiceShelf):
    """What an album holds: what is there, what was removed lately, what others share."""

    kind = "album"

    def __init__(self, spec: str) -> None:
        super().__init__(spec, short_name(spec))
        known = album_named(spec)
        self._client = AlbumClient(known.address, known.user, spec, self.name)
        self.wire = self._client.wire

    def listed(self, told: Callable[[int, int], None]) -> Iterator[Sequence[Item]]:
        return self._client.pages(self.stop, told)

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        return self._client.content(item.handle, begin, self.stop)

    def thumbnail(self, offered: Offered) -> bytes:
        item = self._items.get(offered.entry.key)
        try:
            return self._client.small(item.handle[0], self.stop) if item is not None else b""
        except SourceError as error:
            if error.code in ("shelf-lost", "shelf-limited"):
                return b""
            raise

    def answers(self) -> None:
        self._client.sign_in(self.stop)
        self.wire.ask("GET", "/", self.stop)


def short_name(spec: str) -> str:
    """What to call an album."""
    return spec.removeprefix(SCHEME)


register(Opener("album", lambda spec: spec.startswith(SCHEME), checked,
                lambda spec, direct: opened(checked(spec), AlbumShelf), short_name,
                by_scheme=True))
