"""Network Block Device addresses: nbd://host:port/name and nbd+unix:///name?socket=/path."""

from __future__ import annotations

from urllib.parse import parse_qs, quote, unquote, urlsplit

from needlewright.core.errors import SourceError
from needlewright.core.sources.nbd import Address, NbdSource, exports
from needlewright.core.sources.registry import Opener, register
from needlewright.core.sources.source import Source

SCHEMES = ("nbd:", "nbd+unix:")


def address_of(url: str) -> Address:
    """The parts of an address; SourceError where it makes no sense."""
    try:
        parts = urlsplit(url)
        name = unquote(parts.path.removeprefix("/"))
        if parts.scheme == "nbd+unix":
            path = parse_qs(parts.query).get("socket", [""])[0]
            if path.startswith("/"):
                return Address(name, path=path, url=url)
        elif parts.hostname:
            return Address(name, parts.hostname, parts.port or 10809, url=url)
    except ValueError:
        pass
    raise SourceError("source-unknown", path=url)


def with_name(address: Address, name: str) -> str:
    """The address of another export of the same server."""
    if address.path:
        return f"nbd+unix:///{quote(name)}?socket={quote(address.path)}"
    host = f"[{address.host}]" if ":" in address.host else address.host
    return f"nbd://{host}:{address.port}/{quote(name)}"


def _open(spec: str, direct: bool) -> Source:
    return NbdSource(address_of(spec))


def _elsewhere(spec: str, size: int, serial: str) -> list[str]:
    address = address_of(spec)
    try:
        return [with_name(address, name) for name in exports(address)]
    except SourceError:
        return []  # the server itself is away


register(Opener("nbd", lambda spec: spec.startswith(SCHEMES), lambda spec: spec, _open,
                lambda spec: address_of(spec).name or "export", _elsewhere))
