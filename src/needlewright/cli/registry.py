"""The known commands. A module `command_NAME.py` in this package registers its own."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from needlewright.core.registry import Registry


@dataclass(frozen=True, slots=True)
class Command:
    """`arguments` adds what it takes to its parser; `run` does it, and returns the exit status;
    `more`: what its parser is made with beside its help."""

    name: str
    arguments: Callable[[argparse.ArgumentParser], None]
    run: Callable[[argparse.Namespace], int]
    more: Mapping[str, Any] = field(default_factory=dict)


_commands: Registry[Command] = Registry("needlewright.cli", prefix="command_")


def register(command: Command) -> Command:
    """Add a command; ValueError if its name is taken."""
    return _commands.add(command.name, command)


def known() -> Mapping[str, Command]:
    """All commands by name."""
    return _commands.all()
