"""The commands about media: what is attached, and copying it."""

from __future__ import annotations

import argparse
import json
import sys
import threading
import time
from dataclasses import asdict
from pathlib import Path

from needlewright.cli import command_phones
from needlewright.cli.arguments import area, seconds
from needlewright.cli.registry import Command, register
from needlewright.cli.work import stoppable
from needlewright.core.errors import SourceError
from needlewright.wording import activity
from needlewright.wording import cli as words
from needlewright.wording.phones import phone_line

BAR = 30
TELL_SECONDS = 1.0


def _sources_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help=words.HELP["json"])


def _forecast_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", metavar="SOURCE", help=words.HELP["source"])
    parser.add_argument("--json", action="store_true", help=words.HELP["json"])


def _image_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", metavar="SOURCE", help=words.HELP["source"])
    parser.add_argument("--job", required=True, help=words.HELP["job"])
    parser.add_argument("--area", type=area, help=words.HELP["area"])
    parser.add_argument("--first", type=area, action="append", default=[],
                       help=words.HELP["first"])
    parser.add_argument("--tries", type=_whole, default=3, help=words.HELP["tries"])
    parser.add_argument("--read-seconds", type=seconds, default=60.0,
                       help=words.HELP["read_seconds"])
    parser.add_argument("--hours", type=seconds, help=words.HELP["hours"])
    parser.add_argument("--again", action="store_true", help=words.HELP["again"])
    parser.add_argument("--although-mounted", action="store_true",
                       help=words.HELP["although_mounted"])
    parser.add_argument("--wait", type=seconds, default=600.0, help=words.HELP["wait"])
    parser.add_argument("--verify", action="store_true", help=words.HELP["verify"])
    parser.add_argument("--verify-source", action="store_true", help=words.HELP["verify_source"])


def _whole(text: str) -> int:
    if not text.isdigit() or not 1 <= int(text) <= 100:
        raise argparse.ArgumentTypeError(f"'{text}' is not a number from 1 to 100")
    return int(text)


def _sources(options: argparse.Namespace) -> int:
    from needlewright.core.shelves.albums.known import SCHEME as ALBUM
    from needlewright.core.shelves.albums.known import known_albums
    from needlewright.core.sources.devices import list_devices
    from needlewright.wording.shelves import album_about

    devices, phones, albums = list_devices(), command_phones.known(), known_albums()
    if options.json:
        told = [{"path": f"{ALBUM}{album.name}", "address": album.address, "user": album.user}
                for album in albums]
        print(json.dumps({"sources": [*(asdict(device) for device in devices), *phones, *told]},
                         indent=1))
        return 0
    lines = [*(words.device_line(device) for device in devices), *map(phone_line, phones),
             *(f"{ALBUM}{album.name}  {album_about(album.user)}" for album in albums)]
    print("\n".join(lines) or words.NO_DEVICES)
    return 0


def _forecast(options: argparse.Namespace, stop: threading.Event) -> int:
    from needlewright.core.imaging.forecast import forecast
    from needlewright.core.sources.registry import whole_name
    from needlewright.wording import forecast as forecast_words

    found = forecast(whole_name(options.source), stop)
    if options.json:
        print(json.dumps(asdict(found), indent=1))
        return 0
    print(forecast_words.summary(found))
    for name, share in forecast_words.shares(found):
        print(f"{name:<12}{share}")
    print("\n".join(forecast_words.follows(found)))
    return 0


def _image(options: argparse.Namespace, stop: threading.Event) -> int:
    from needlewright.core.imaging.copier import CopyPlan, Effort
    from needlewright.core.imaging.events import Copied, CopyEnding, Copying, Waiting, WentOn
    from needlewright.core.imaging.planner import Wish
    from needlewright.core.imaging.reader import ReaderProcess
    from needlewright.core.jobs.copying import run_copy
    from needlewright.core.jobs.opening import open_or_make
    from needlewright.core.sources.source import Span

    hours = options.hours
    plan = CopyPlan(
        Span(*options.area) if options.area else None,
        tuple(Wish(start, stop_at, 10.0) for start, stop_at in options.first),
        Effort(options.tries, options.read_seconds, hours * 3600 if hours else None),
        options.again)
    ReaderProcess(options.source).close()  # nothing is made for a source that does not open
    show, waits_since = _Shown(), 0.0
    with open_or_make(options.job) as job:
        for event in run_copy(job, options.source, plan, stop,
                              although_mounted=options.although_mounted):
            match event:
                case Copying():
                    show.progress(activity.copy_line(options.source, event), event.read, event.size)
                case Waiting():
                    waits_since = time.monotonic()
                    show.line(activity.copy_waits_line(options.source, event))
                case WentOn():
                    waits_since = 0.0
                    show.line(activity.log_line("copy-goes-on", {"spec": event.spec}))
                case Copied(ending=ending):
                    show.line("")
                    print(activity.copied_line(event))
                    print(event.image)
                    if waits_since:
                        raise SourceError("copy-lost-patience", path=options.source)
                    if ending is CopyEnding.STOPPED:
                        raise KeyboardInterrupt
                    if ending is CopyEnding.DONE and (options.verify or options.verify_source):
                        return _verify(options, event.image, stop)
                    return 1 if ending is CopyEnding.FULL else 0
            if waits_since and time.monotonic() - waits_since > options.wait:
                stop.set()
    return 1


def _verify(options: argparse.Namespace, image: str, stop: threading.Event) -> int:
    from needlewright.core.imaging.verify import Verified, verify
    from needlewright.core.sources.registry import whole_name

    show = _Shown()
    medium = whole_name(options.source) if options.verify_source else None
    for event in verify(Path(image), stop, medium):
        if isinstance(event, Verified):
            show.line("")
            print(activity.verified_line(event))
            return 0 if event.agrees else 1
        show.progress(activity.verify_line(options.source, event), event.done, event.size)
    return 1


class _Shown:
    """Progress on standard error: a bar that stays in its line, or a line now and then."""

    def __init__(self) -> None:
        self._bar, self._told = sys.stderr.isatty(), 0.0

    def progress(self, text: str, done: int, size: int) -> None:
        now = time.monotonic()
        if now - self._told < (0.2 if self._bar else TELL_SECONDS):
            return
        self._told = now
        if self._bar:
            filled = BAR * done // max(1, size)
            bar = "=" * filled + " " * (BAR - filled)
            print(f"\r[{bar}] {text[:120]}\033[K", end="", file=sys.stderr, flush=True)
        else:
            print(text, file=sys.stderr, flush=True)

    def line(self, text: str) -> None:
        if self._bar:
            print("\r\033[K", end="", file=sys.stderr)
        if text:
            print(text, file=sys.stderr, flush=True)


register(Command("sources", _sources_arguments, _sources))
register(Command("forecast", _forecast_arguments, stoppable(_forecast)))
register(Command("image", _image_arguments, stoppable(_image)))
