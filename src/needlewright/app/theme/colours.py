"""The colours of the window. No Qt here, so that a test can compute every contrast."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Colours:
    """One look; all values '#RRGGBB'."""

    name: str
    ground: str
    panel: str
    ink: str
    muted: str
    line: str
    thread: str
    on_thread: str
    ochre: str
    plum: str
    pictures: str
    band: str  # neutral fill of lanes and unselected bars


LIGHT = Colours("light", "#ECEBE7", "#F7F6F3", "#22252B", "#565A61", "#D3D1CA", "#35508C",
                "#FFFFFF", "#865309", "#7B3F61", "#DCDCDA", "#D3D1CA")
DARK = Colours("dark", "#1D1E21", "#26282C", "#E8E6E1", "#A0A3AA", "#3A3D43", "#93ABE3",
               "#17181A", "#E3AD55", "#D29ABA", "#17181A", "#3A3D43")


def contrast(first: str, second: str) -> float:
    """WCAG 2 contrast ratio of two '#RRGGBB' colours, 1.0 to 21.0."""
    bright, dim = sorted((_luminance(first), _luminance(second)), reverse=True)
    return (bright + 0.05) / (dim + 0.05)


def _luminance(colour: str) -> float:
    parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]
