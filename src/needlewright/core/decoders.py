"""What the isolated decoders decode a file as, and what they may be asked. Imports nothing."""

from __future__ import annotations

from enum import StrEnum


class Decoder(StrEnum):
    """The decoders that have names of their own; else a format gives Pillow's name of it."""

    NONE = ""
    CLIP = "CLIP"
    SOUND = "SOUND"
    DATABASE = "DATABASE"
    RAW = "RAW"
    HEIF = "HEIF"
    JXL = "JXL"

#: Of what has a play time.
PLAYED = frozenset((Decoder.CLIP, Decoder.SOUND))


class Task(StrEnum):
    """What is asked: a PICTURE as a whole; of clips and sound a LOOK (first frame and strip), all
    FRAMES, a STILL (the frame at a second) or a STRETCH (frames from second to second, or coded
    items of HEIF pictures, nothing shown)."""

    PICTURE = "picture"
    LOOK = "look"
    FRAMES = "frames"
    STILL = "still"
    STRETCH = "stretch"
