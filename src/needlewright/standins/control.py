"""The socket on which the owner of a stand-in acts: one line a wish, one line of JSON back."""

from __future__ import annotations

import contextlib
import json
import os
import socket
import threading
from collections.abc import Callable
from typing import Any, Protocol


class Owned(Protocol):
    """What an owner acts on."""

    def act(self, wish: str) -> bool:
        """Do as the owner wishes; whether it is a known wish."""
        ...

    def told(self) -> dict[str, Any]:
        """How it is then."""
        ...


def serve_control(path: str, state: Owned, truth: Callable[[], dict[str, str]]) -> None:
    """Take wishes on a Unix socket, in a thread of its own."""
    with contextlib.suppress(FileNotFoundError):
        os.unlink(path)
    listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    listener.bind(path)
    os.chmod(path, 0o600)
    listener.listen()

    def serve() -> None:
        while True:
            client, _ = listener.accept()
            threading.Thread(target=_owner, args=(client, state, truth), daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()


def _owner(client: socket.socket, state: Owned, truth: Callable[[], dict[str, str]]) -> None:
    with client, client.makefile("rw", encoding="utf-8") as lines:
        for line in lines:
            wish = line.strip()
            known = state.act(wish)
            answer: dict[str, Any] = {"known": known, **state.told()}
            if wish == "truth":
                answer["truth"] = truth()
            lines.write(json.dumps(answer) + "\n")
            lines.flush()


def wishes(control: str, *every: str) -> dict[str, Any]:
    """Do these one after another; how it is then."""
    told: dict[str, Any] = {}
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as owner:
        owner.connect(control)
        with owner.makefile("rw", encoding="utf-8") as lines:
            for wish in every:
                lines.write(wish + "\n")
                lines.flush()
                told = json.loads(lines.readline())
    return told
