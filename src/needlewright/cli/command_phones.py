"""The command line's part about phones: which are known, waiting for one, and the simulated one."""

from __future__ import annotations

import argparse
import json
import os
import signal
import sys
import threading
import time
from functools import partial
from pathlib import Path
from typing import Any

from needlewright.cli.arguments import numbers
from needlewright.cli.registry import Command, register
from needlewright.cli.work import stop_on_interrupt, stoppable
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.wording import cli as words
from needlewright.wording import phones as phone_words

POLL_SECONDS = 1.0


def _standin_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("what", choices=("phone", "album", "sync"),
                         help=words.HELP["standin_what"])
    parser.add_argument("--headless", action="store_true", help=words.HELP["standin_headless"])
    parser.add_argument("--say", metavar="WORDS", help=words.HELP["standin_say"])
    parser.add_argument("--control", metavar="PATH", help=words.HELP["standin_control"])
    parser.add_argument("--faults", metavar="FILE", help=words.HELP["standin_faults"])


def _put_back_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--job", required=True, help=words.HELP["job_there"])
    parser.add_argument("--onto", required=True, metavar="PHONE", help=words.HELP["onto"])
    parser.add_argument("--ids", type=numbers, help=words.HELP["ids"])
    parser.add_argument("--yes", action="store_true", help=words.HELP["onto_yes"])


def known() -> list[dict[str, Any]]:
    """The phones that are known by name, with the state that each is in."""
    from needlewright.core.phones.addresses import known_phones
    from needlewright.core.phones.link_usb import plugged
    from needlewright.core.phones.phone import Phone

    found: list[dict[str, Any]] = [
        {"path": f"usb:{one.place}", "address": f"usb:{one.place}", "state": "plugged",
         "stores": [], "model": f"{one.maker} {one.model}".strip()} for one in plugged()]
    for one in known_phones():
        phone = Phone(f"phone:{one.name}")
        try:
            state, stores = phone.state()
            found.append({"path": phone.spec, "address": one.address, "state": str(state),
                          "stores": [s.label for s in stores], "raw": one.raw,
                          "model": phone.device.model if phone.device else ""})
        except SourceError:
            found.append({"path": phone.spec, "address": one.address, "state": "unseen",
                          "stores": [], "model": ""})
        finally:
            phone.close()
    return found


def _put_back(options: argparse.Namespace, stop: threading.Event) -> int:
    from needlewright.app.settings import Settings
    from needlewright.core.delivery.onto_phone import PutBack, check, put_back
    from needlewright.core.jobfile.rows import Filter
    from needlewright.core.jobfile.store import Job
    from needlewright.wording import errors, finds

    with Job(options.job) as job:
        rows = job.matching(Filter(tray_only=True)) if options.ids is None else (
            job.rows(options.ids))
        missing = set(options.ids or ()) - {row.id for row in rows}
        if missing:
            raise NeedlewrightError("find-unknown", find=min(missing))
        others = [Path(folder) for folder, _ in Settings().recent_jobs()]
        check(job, rows, options.onto, others)
        if not options.yes:
            raise NeedlewrightError("onto-no-yes", path=options.onto, count=len(rows))
        told = time.monotonic()
        for event in put_back(job, rows, options.onto, finds.file_name, stop, others):
            if isinstance(event, PutBack):
                for number, name in event.put:
                    print(phone_words.put_line(number, name))
                for number, error in event.failed:
                    print(phone_words.not_put_line(number, errors.explain(error)))
                print(phone_words.put_back_line(len(event.put), len(event.failed), options.onto,
                                                event.finished))
                return 0 if event.finished and not event.failed else 1
            if time.monotonic() - told > POLL_SECONDS:
                told = time.monotonic()
                print(phone_words.putting_line(event.done, event.total), file=sys.stderr,
                      flush=True)
    return 1


def _say(control: str | None, wishes: str) -> int:
    """Act as the owner of a simulated device; 1 where it does not know a word."""
    from needlewright.standins import control as owner

    if control is None:
        raise NeedlewrightError("standin-no-control")
    try:
        for wish in filter(None, wishes.split(",")):
            told = owner.wishes(control, wish.strip())
            print(json.dumps(told), flush=True)
            if not told["known"]:
                return 1
    except (OSError, ValueError) as error:
        raise NeedlewrightError("standin-away", path=control, reason=str(error)) from error
    return 0


def _standin(options: argparse.Namespace) -> int:
    if options.say is not None:
        return _say(options.control, options.say)
    if options.what != "phone":
        return _service(options.what, options.faults, options.headless)
    from needlewright.standins.phone.service import running
    from needlewright.standins.phone.state import PhoneFaults

    try:
        faults = PhoneFaults.load(Path(options.faults)) if options.faults else PhoneFaults()
    except (OSError, ValueError, TypeError) as error:
        raise NeedlewrightError("faults-wrong", path=options.faults, reason=str(error)) from error
    if not options.headless:
        if not displayed():
            raise NeedlewrightError("no-display-standin")
        from needlewright.app.standin_phone import show_phone

        return show_phone(faults)
    stop = stop_on_interrupt()
    signal.signal(signal.SIGTERM, lambda *_: stop.set())  # it takes itself off the list
    with running(faults) as phone:
        print(json.dumps({"source": f"phone:{phone.known_as}", "address": phone.address,
                          "control": phone.control}), flush=True)
        while not stop.wait(0.5):
            if phone.process.poll() is not None:
                return 1
    return 0


def _service(what: str, faults: str | None, headless: bool) -> int:
    from needlewright.standins.services import PASSWORDS, made, run_service, source_of

    if headless:
        return run_service(what, faults, stop_on_interrupt)
    if not displayed():
        raise NeedlewrightError("no-display-standin")
    from needlewright.app.standin_service import show_service

    return show_service(made(what, faults), what, partial(source_of, what), PASSWORDS[what])


def displayed() -> bool:
    """Whether Qt has somewhere to draw: without it, it ends the whole process."""
    chosen = os.environ.get("QT_QPA_PLATFORM", "")
    shown = os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")
    drawn = ("offscreen", "minimal", "vnc", "linuxfb", "eglfs")
    return bool(shown) or chosen.split(":")[0] in drawn


STANDIN = {"epilog": words.STANDIN_EPILOG,
           "formatter_class": argparse.RawDescriptionHelpFormatter}
register(Command("standin", _standin_arguments, _standin, STANDIN))
register(Command("put-back", _put_back_arguments, stoppable(_put_back)))
