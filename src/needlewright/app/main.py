"""Starts the window: application, look, session; kernels are warmed behind it."""

from __future__ import annotations

import gc
import signal
import sys
import threading
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QApplication

from needlewright.app.session import Session
from needlewright.app.settings import Settings
from needlewright.app.theme.look import icon, look
from needlewright.app.window import MainWindow
from needlewright.core.sources.devices import Device, list_devices
from needlewright.wording import errors
from needlewright.wording import window as words

# Seconds after which a thread that computes lets the window's have its turn.
TURN_SECONDS = 0.001
# Objects made before garbage is looked for, and how many times before older ones are, too.
RARELY = (20_000, 20, 50)


def application() -> QApplication:
    """The one application object, with fonts and name."""
    known = QApplication.instance()
    if isinstance(known, QApplication):
        return known
    sys.setswitchinterval(TURN_SECONDS)
    gc.set_threshold(*RARELY)
    made = QApplication(sys.argv[:1])
    made.setApplicationName("needlewright")
    made.setApplicationDisplayName(words.PROGRAM)
    made.setDesktopFileName("needlewright")
    made.setStyle("Fusion")
    look.load_fonts()
    made.setWindowIcon(icon())
    return made


def make_window(settings: Settings | None = None,
                devices: Callable[[], list[Device]] = list_devices) -> MainWindow:
    """A window in the remembered look, or the desktop's; `devices` tells what is attached."""
    app = application()
    kept = settings or Settings()
    desktop_dark = app.styleHints().colorScheme() == Qt.ColorScheme.Dark
    look.apply(bool(kept.get("dark", desktop_dark)), float(kept.get("scale", 1.0)))
    return MainWindow(Session(kept, devices=devices))


def warm_kernels() -> None:
    """Compile or load the kernels before they are needed."""
    from needlewright.core.warming import warm

    warm()
    # What is loaded stays: looking through all of it for garbage would hold everything up for a
    # tenth of a second whenever many finds are read.
    gc.freeze()


def run_window(job: str | None, demo: bool = False) -> int:
    """Open the window, on `job` or on the demo; returns the exit status."""
    # Ctrl+C in the terminal ends the program at once; the job file is safe at any moment.
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    app = application()
    window = make_window()
    sys.excepthook = lambda kind, error, trace: _unforeseen(window, kind, error, trace)
    window.show()
    threading.Thread(target=warm_kernels, daemon=True).start()
    if demo:
        QTimer.singleShot(0, window.show_demo)
    elif job is not None:
        QTimer.singleShot(0, lambda: window.session.open_job(Path(job)))
    return int(app.exec())


def _unforeseen(window: MainWindow, kind, error, trace) -> None:  # type: ignore[no-untyped-def]
    """The one handler for what nobody foresaw: told in the window, in full on standard error."""
    sys.__excepthook__(kind, error, trace)
    window.show_problem(errors.explain(error))
