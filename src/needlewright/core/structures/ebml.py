"""EBML elements (RFC 8794): variable-length IDs and sizes, and the checksums of RFC 8794 11.3.1.

Big-endian. A size of all ones is unknown: such an element ends where something begins that cannot
lie in it.
"""

from __future__ import annotations

from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.structures.view import View

MOST_CHILDREN = 10_000


@dataclass(frozen=True, slots=True)
class Element:
    """One element: header at `start`, content from `body` to `stop`; `open_ended`: size unknown."""

    number: int
    start: int
    body: int
    stop: int
    open_ended: bool = False


def read_element(view: View, at: int) -> Element:
    """The element at `at`; its end may lie past the view. FormatError if none stands there."""
    head = view.peek(at, 12)
    if not head or head[0] < 0x10:
        raise FormatError("no-element" if head else "data-ends",
                          offset=at)
    id_bytes = 9 - head[0].bit_length()
    if len(head) <= id_bytes or head[id_bytes] == 0:
        raise FormatError("element-without-size", offset=at)
    size_bytes = 9 - head[id_bytes].bit_length()
    raw = head[id_bytes : id_bytes + size_bytes]
    if len(raw) != size_bytes:
        raise FormatError("data-ends", offset=at)
    number = int.from_bytes(head[:id_bytes], "big")
    size = int.from_bytes(raw, "big") & ((1 << 7 * size_bytes) - 1)
    body = at + id_bytes + size_bytes
    if size == (1 << 7 * size_bytes) - 1:
        return Element(number, at, body, view.stop, True)
    return Element(number, at, body, body + size)


def children(view: View, parent: Element) -> list[Element]:
    """The elements in `parent`, MOST_CHILDREN at most; FormatError where one does not fit there."""
    found: list[Element] = []
    at = parent.body
    while at < parent.stop and len(found) < MOST_CHILDREN:
        element = read_element(view, at)
        if element.stop > parent.stop:
            raise FormatError("element-past-outer", offset=at)
        found.append(element)
        at = element.stop
    return found
