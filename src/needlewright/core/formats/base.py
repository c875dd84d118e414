"""The interface of a format: its signatures, and the walk that follows its structure."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from needlewright.core.decoders import Decoder
from needlewright.core.sources.source import Source
from needlewright.core.walks import Kind, Variant, Walk


@dataclass(frozen=True, slots=True)
class Signature:
    """Bytes that stand at `at` bytes from a file's start.

    `mask`: which bits of `magic` count; empty means all. `weak`: so little is fixed that it is
    looked for at sector boundaries only, never at every byte.
    """

    magic: bytes
    at: int = 0
    mask: bytes = b""
    weak: bool = False


@dataclass(frozen=True, slots=True)
class Format:
    """One format, as its module registers it.

    `accept(head)`: is it worth walking, from the first 64 bytes. `walk(source, start, stop)`:
    follow the file at `start`, never past `stop`; raises FormatError when nothing of use is there
    and SourceError for unreadable bytes. `decoder`: what the decoding workers decode it as:
    one that `Decoder` names, or Pillow's name of a picture format.
    `variants`: all that a walk of this format may turn out to be, where there are several.
    `aliases`: extension that is in use beside those of ours -> that of ours. `brands`: of an `ftyp`
    box, with which other files of that structure are told from clips. `joined`: the way to join its
    pieces, where no module of that way names the format; `checked`: a checksum stands behind every
    item of it. `object_formats`: extension of ours -> the number that PTP has for such files (ISO
    15740:2013, 11.2; MTP 1.1, appendix A).
    """

    name: str
    kind: Kind
    extension: str
    signatures: tuple[Signature, ...]
    accept: Callable[[bytes], bool]
    walk: Callable[[Source, int, int], Walk]
    decoder: str = Decoder.NONE
    variants: tuple[Variant, ...] = ()
    aliases: Mapping[str, str] = field(default_factory=dict)
    brands: tuple[bytes, ...] = ()
    joined: str = ""
    checked: bool = False
    object_formats: Mapping[str, int] = field(default_factory=dict)

    @property
    def plain(self) -> Variant:
        """The format itself as a variant."""
        return Variant(self.name, self.extension, self.kind, self.decoder)
