"""The desktop's keyring, for passwords that a person asks to be kept there, and for no others."""

from __future__ import annotations

from needlewright.core.errors import NeedlewrightError

SERVICE = "Needlewright"


class Refused(NeedlewrightError):
    """There is no keyring, or it does not open."""


def known(spec: str) -> str | None:
    """The password of `spec`; None where there is none, or no keyring."""
    import keyring
    from keyring.errors import KeyringError

    try:
        return keyring.get_password(SERVICE, spec)
    except (KeyringError, RuntimeError, OSError):
        return None


def keep(spec: str, password: str) -> None:
    """Keep it. Refused where that cannot be."""
    import keyring
    from keyring.errors import KeyringError

    try:
        keyring.set_password(SERVICE, spec, password)
    except (KeyringError, RuntimeError, OSError) as error:
        raise Refused("keyring-refused", reason=str(error) or type(error).__name__) from error
