"""What several commands do: stopping, waiting for a phone, and what a plan is made of."""

from __future__ import annotations

import argparse
import signal
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import replace

from needlewright.core.errors import SourceError
from needlewright.core.jobfile.rows import FindRow
from needlewright.core.jobfile.store import Job
from needlewright.core.search.plan import Plan
from needlewright.wording import phones as phone_words

PROGRESS_SECONDS = 1.0  # between two lines that tell how far it came
POLL_SECONDS = 1.0


def stop_on_interrupt() -> threading.Event:
    """Ctrl+C stops the work cleanly; pressed again, it ends the program."""
    stop = threading.Event()

    def interrupted(number: int, frame: object) -> None:
        stop.set()
        signal.signal(signal.SIGINT, signal.default_int_handler)

    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGINT, interrupted)
    return stop


def stoppable(run: Callable[[argparse.Namespace, threading.Event], int]) -> Callable[
        [argparse.Namespace], int]:
    """`run` with a signal that Ctrl+C sets."""
    return lambda options: run(options, stop_on_interrupt())


def wait_until_ready(spec: str, stop: threading.Event, patience: float) -> None:
    """Wait until the phone at `spec` hands out its stores, telling what is to be done on it.
    SourceError where that does not happen in `patience` seconds."""
    from needlewright.core.phones.addresses import checked, is_address
    from needlewright.core.phones.phone import OF_STATES, Phone, State

    if not is_address(spec):
        return
    phone, told, until = Phone(checked(spec), stop), "", time.monotonic() + patience
    try:
        while True:
            state, _ = phone.state()
            if state is State.READY:
                return
            if state != told:
                told = str(state)
                print(phone_words.waiting_line(spec, told), file=sys.stderr, flush=True)
            if stop.wait(POLL_SECONDS):
                raise KeyboardInterrupt
            if time.monotonic() > until:
                raise SourceError(OF_STATES[told], path=spec)
    finally:
        phone.close()


def when_ready(spec: str, patience: float) -> threading.Event:
    """The signal to stop, once a phone at `spec` is ready."""
    stop = stop_on_interrupt()
    wait_until_ready(spec, stop, patience)
    return stop


def plan_of(options: argparse.Namespace, area: tuple[int, int] | None) -> Plan:
    from needlewright.core.search.registry import steps
    from needlewright.core.sources.source import Span

    return replace(
        narrowed(options), steps=tuple(options.steps or steps()),
        area=Span(*area) if area else None, formats=frozenset(options.formats or ()),
        every_byte=options.every_byte, every_frame=not options.skip_frames,
        free_only=options.free_only, patience=options.wait, missing_only=options.missing_only)


def narrowed(options: argparse.Namespace) -> Plan:
    """A plan of what `_add_narrowing` offers."""
    from needlewright.core.walks import Kind

    return Plan((), frozenset(Kind(k) for k in options.kinds or ()), days=options.days,
                removed_only=options.removed_only, folder=options.folder or "")


def missing_of(job: Job, rows: list[FindRow], source: int | None = None) -> list[FindRow]:
    """The ones among `rows` that the job has nowhere else, whatever they are called there."""
    from needlewright.core.jobs.comparing import compare
    from needlewright.core.jobs.comparing import missing_of as missing

    for _ in compare(job, stop_on_interrupt()):
        pass
    return missing(job, rows, source)
