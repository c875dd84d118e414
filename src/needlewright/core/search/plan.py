"""What to search: steps, kinds and area, and where an interrupted step goes on."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field

from needlewright.core.search.days import Days
from needlewright.core.sources.source import Span
from needlewright.core.walks import Kind


@dataclass(frozen=True, slots=True)
class Plan:
    """What is wanted. `kinds` and `formats` empty mean all, else what both allow; `area` None means
    the whole source; `resume` maps the name of an interrupted step to the byte where it goes on.
    `every_byte`: signatures are looked for at every byte and not at sectors only. `every_frame`:
    clips and sound are decoded in full. `texture`: tell what the medium looks like, too.
    `removed_only`: of what records name, only what was removed. `free_only`: signatures are looked
    for only where no file system has anything. `folder`: of what records name, only what lies in it
    (a path, without a leading "/"). `state`: where the interrupted step goes on that does not go by
    bytes (see `Progress`). `days`: of what a device offers, only what is dated so; `keys`: only
    what it hands out by these, unless there are none. `patience`: how long a device that went away
    is waited for, seconds. `missing_only`: of what a shelf offers, only what the job does not have.
    """

    steps: tuple[str, ...] = ("signatures",)
    kinds: frozenset[Kind] = frozenset()
    area: Span | None = None
    resume: Mapping[str, int] = field(default_factory=dict)
    formats: frozenset[str] = frozenset()
    every_byte: bool = False
    every_frame: bool = True
    texture: bool = False
    removed_only: bool = False
    free_only: bool = False
    folder: str = ""
    state: str = ""
    patience: float = 600.0
    days: Days | None = None
    keys: frozenset[str] = frozenset()
    missing_only: bool = False

    def takes(self, kind: Kind, form: str) -> bool:
        """Whether a file of this kind and format is wanted."""
        return (not self.kinds or kind in self.kinds) and (
            not self.formats or form in self.formats)

    @property
    def key(self) -> str:
        """What makes two plans of one step the same search, apart from where they go on."""
        return "|".join((",".join(sorted(self.kinds)), ",".join(sorted(self.formats)),
                         str(self.area), str(self.removed_only), self.folder, str(self.days),
                         self.keys_name, str(self.missing_only)))

    @property
    def is_narrowed(self) -> bool:
        """Whether it passes over some files by more than their kinds, formats and places."""
        return bool(self.removed_only or self.free_only or self.folder or self.days or self.keys
                    or self.missing_only)

    @property
    def keys_name(self) -> str:
        """A short name for the choice of `keys`; "" where all are wanted."""
        if not self.keys:
            return ""
        return hashlib.sha256("\0".join(sorted(self.keys)).encode(
            "utf-8", "surrogatepass")).hexdigest()[:16]
