"""What several commands take: how it is read, and what is said where it makes no sense."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from pathlib import Path

from needlewright.cli import secrets
from needlewright.wording import cli as words

GRADES = ("whole", "unproven", "mended", "partial", "remnant")
PHONE_SECONDS = 60.0  # that a phone is waited for, if nothing else is asked


def listed(known: Sequence[str]) -> Callable[[str], tuple[str, ...]]:
    def parse(text: str) -> tuple[str, ...]:
        chosen = tuple(part.strip() for part in text.split(",") if part.strip())
        for part in chosen:
            if part not in known:
                raise argparse.ArgumentTypeError(
                    f"'{part}' is not one of {', '.join(known)}")
        if not chosen:
            raise argparse.ArgumentTypeError(f"nothing is chosen; give one of {', '.join(known)}")
        return chosen
    return parse


def steps(text: str) -> tuple[str, ...]:
    from needlewright.core.search.registry import steps

    return listed(list(steps()))(text)


def folder(text: str) -> str:
    if not text.strip("/ "):
        raise argparse.ArgumentTypeError("no folder is named")
    return text.strip("/")


def days(text: str) -> object:
    from needlewright.core.search.days import days_of

    try:
        return days_of(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text} is not FROM:TO, as YYYY-MM-DD") from error


def existing(text: str) -> str:
    if not Path(text).is_file():
        raise argparse.ArgumentTypeError(f"there is no file {text}")
    return text


def numbers(text: str) -> tuple[int, ...]:
    parts = [part.strip() for part in text.split(",") if part.strip()]
    if not parts or not all(part.isdigit() for part in parts):
        raise argparse.ArgumentTypeError(f"'{text}' is no list of find numbers")
    return tuple(int(part) for part in parts)


def kinds(text: str) -> tuple[str, ...]:
    from needlewright.core.walks import Kind

    return listed([str(k) for k in Kind])(text)


def formats(text: str) -> tuple[str, ...]:
    from needlewright.core.formats.registry import formats

    return listed(list(formats()))(text)


def area(text: str) -> tuple[int, int]:
    start, colon, stop = text.partition(":")
    if not colon or not start.isdigit() or not stop.isdigit() or int(start) >= int(stop):
        raise argparse.ArgumentTypeError(f"'{text}' is not START:END in bytes")
    return int(start), int(stop)


def seconds(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not 0 < value < 1e7:
        raise argparse.ArgumentTypeError(f"'{text}' is not a length of time")
    return value


def add_plan(parser: argparse.ArgumentParser, anywhere: bool = True) -> None:
    parser.add_argument("--steps", type=steps, help=words.HELP["steps"])
    add_narrowing(parser)
    parser.add_argument("--named", metavar="FILE", type=existing, help=words.HELP["named"])
    parser.add_argument("--missing-only", action="store_true", help=words.HELP["missing_only"])
    parser.add_argument("--formats", type=formats, help=words.HELP["formats"])
    parser.add_argument("--every-byte", action="store_true", help=words.HELP["every_byte"])
    parser.add_argument("--skip-frames", action="store_true", help=words.HELP["skip_frames"])
    parser.add_argument("--free-only", action="store_true", help=words.HELP["free_only"])
    if anywhere:
        parser.add_argument("--area", type=area, help=words.HELP["area"])


def add_narrowing(parser: argparse.ArgumentParser) -> None:
    """What narrows a search by names and dates."""
    parser.add_argument("--kinds", type=kinds, help=words.HELP["kinds"])
    parser.add_argument("--removed-only", action="store_true", help=words.HELP["removed_only"])
    parser.add_argument("--folder", type=folder, help=words.HELP["folder"])
    parser.add_argument("--days", type=days, help=words.HELP["days"])
    parser.add_argument("--wait", type=seconds, default=PHONE_SECONDS,
                        help=words.HELP["patience"])
    secrets.add_option(parser)
