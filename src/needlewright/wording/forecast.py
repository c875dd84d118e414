"""A forecast in words: figures with their intervals, and what follows from them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from needlewright.core.codes import BlockContent, Stopped
from needlewright.wording import units

if TYPE_CHECKING:
    from needlewright.core.imaging.forecast import Forecast

NAMES = {
    BlockContent.BLANK: "blank", BlockContent.MEDIA: "media", BlockContent.STRUCTURED: "structured",
    BlockContent.TEXT: "text", BlockContent.RANDOM: "random",
}
NEARLY_ALL = 0.95
STOPS = {
    Stopped.TIME: "stopped at no trouble",
    Stopped.ASKED: "stopped when asked",
    Stopped.FAILED: "stopped at a read that failed, at {place}",
    Stopped.SLOW: "stopped at a slow read, at {place}",
}


def summary(found: Forecast) -> str:
    """'4,096 samples in 4.1 s, 95 % intervals; stopped at no trouble'."""
    place = units.place(found.stopped_at) if found.stopped_at is not None else ""
    why = STOPS[found.stopped].format(place=place)
    return (f"{units.count(found.samples, 'sample')} in {found.seconds:.1f} s, 95 % intervals; "
            f"{why}")


def shares(found: Forecast) -> list[tuple[str, str]]:
    """(content, share with its interval), largest first; what was not met is left out."""
    met = [(content, s) for content, s in found.shares.items() if s.part > 0]
    met.sort(key=lambda item: -item[1].part)
    return [(NAMES[content], f"{_figure(s.part)} % ({_figure(s.low)} to {_figure(s.high)})")
            for content, s in met]


def _figure(part: float) -> str:
    """Percent with as many figures as mean something."""
    return f"{100 * part:.1f}" if 0 < part < 0.0995 else f"{100 * part:.0f}"


def _about(seconds: float) -> str:
    text = units.duration(seconds)
    return text if text.startswith("under") else f"about {text}"


def follows(found: Forecast) -> list[str]:
    """What it means for the work, plainly; the most important first."""
    said: list[str] = []
    share = found.shares
    if found.stopped is Stopped.FAILED or found.stopped is Stopped.SLOW:
        said.append("The medium has trouble reading. Copy it now, and sample it no more.")
    if found.wraps_at is not None:
        said.append(f"The card shows its start again at {units.size(found.wraps_at)}: it claims "
                    "more than it has, and only that much of it is real.")
    if not found.samples:
        return said or ["Too little was read to say anything."]
    if share[BlockContent.RANDOM].low > NEARLY_ALL or (
            found.first_random and share[BlockContent.RANDOM].part > NEARLY_ALL):
        said.append("It is random from the first sector on: encrypted, or overwritten with noise. "
                    "Without the key nothing will come back.")
    elif share[BlockContent.BLANK].low > NEARLY_ALL:
        said.append("Nearly all of it is blank: cleared, or never used, so little will come back; "
                    f"{_figure(share[BlockContent.MEDIA].part)} % looks like media.")
    else:
        media = share[BlockContent.MEDIA]
        said.append(f"About {_figure(media.part)} % looks like pictures, clips or other "
                    "compressed files.")
    copy = found.copy_seconds
    if copy is not None:
        said.append(f"A copy takes {_about(copy)} if all of it reads; the step signatures then "
                    f"{_about(found.signature_seconds)}.")
    return said
