"""The errors that may leave the core. Each carries a code and values; `wording` makes sentences.

`FormatError` is the only error a parser raises for bad content and `SourceError` the only one for
bytes that cannot be read; anything else that escapes is a fault of ours.
"""

from __future__ import annotations

from typing import Any


class NeedlewrightError(Exception):
    """A foreseen failure: `code` names it, `values` fill the sentence that `wording` holds."""

    def __init__(self, code: str, **values: Any) -> None:
        super().__init__(code, values)
        self.code = code
        self.values = values

    def __str__(self) -> str:
        inside = ", ".join(f"{name}={value!r}" for name, value in self.values.items())
        return f"{self.code}({inside})"


class FormatError(NeedlewrightError):
    """Content breaks its format: why (a code), at which absolute byte offset of the source, and
    what fills the code's phrase."""

    def __init__(self, why: str, offset: int, **told: Any) -> None:
        super().__init__("format", why=why, offset=offset, **told)
        self.why = why
        self.offset = offset

    @property
    def told(self) -> dict[str, Any]:
        """The code and what fills its phrase, for the values of a check or a break."""
        return {name: value for name, value in self.values.items() if name != "offset"}


class SourceError(NeedlewrightError):
    """A source cannot be opened, or a range of it (bytes, `start` to `stop`) cannot be read."""


class JobError(NeedlewrightError):
    """A job folder cannot be made, opened or written."""


class DeliveryError(NeedlewrightError):
    """A delivery is refused or failed; nothing that looks complete was left behind."""
