"""Files of a ZIP archive that are encrypted in the way from before AES (APPNOTE.TXT 6.3.10, 6.1).

It keeps nobody out who has some of the content, and tells a wrong password by one byte alone. Older
archives have it, and several programs write it still.
"""

from __future__ import annotations

from needlewright.core.errors import FormatError
from needlewright.core.kernels import zip_keys

HEAD = 12  # bytes in front of the data, the last of which is told


class OldOpener:
    """Decrypts one file, in a line. FormatError where the password is not its own, as far as one
    byte tells."""

    def __init__(self, head: bytes, check: int, password: str) -> None:
        self._keys = zip_keys.begin(password.encode())
        if zip_keys.decrypt(head, self._keys)[HEAD - 1] != check:
            raise FormatError("coded-data-damaged", 0)

    def open(self, data: bytes) -> bytes:
        """The next bytes in the clear."""
        return zip_keys.decrypt(data, self._keys)
