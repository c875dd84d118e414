"""The ten frames of a clip that are shown in a row: out of a pass over all of it, or one by one."""

from __future__ import annotations

import contextlib
import io
from array import array
from typing import Any

import av
from PIL import Image

STRIP_FRAMES = 10
STRIP_HEIGHT = 90
MAX_TRIES = 400  # packets looked at for one frame
NOTHING = (38, 42, 44)  # shown for what does not decode


def small(frame: Any, height: int) -> Image.Image:
    """`frame` as a picture of `height` pixels."""
    width = max(2, round(frame.width * height / max(1, frame.height)))
    picture: Image.Image = frame.reformat(width=width, height=height, format="rgb24").to_image()
    return picture


def sheet(frames: list[Image.Image | None]) -> bytes:
    """The frames side by side, as one JPEG; none at all where there is no frame."""
    width = max((frame.width for frame in frames if frame is not None), default=0)
    if not width:
        return b""
    made = Image.new("RGB", (width * len(frames), STRIP_HEIGHT), NOTHING)
    for index, frame in enumerate(frames):
        if frame is not None:
            made.paste(frame, (index * width, 0))
    out = io.BytesIO()
    made.save(out, "JPEG", quality=78)
    return out.getvalue()


class Passing:
    """Takes the frames of a strip while all of a clip is decoded for its own sake.

    For each moment the last key frame since the moment before it is shown, or where none came, as
    in clips with a single one, the last frame. Where samples came and nothing decoded, a blank.
    `begins_s`: time of the first frame; `seconds`: length of the clip, 0.0 where unknown.
    """

    def __init__(self, begins_s: float, seconds: float) -> None:
        self._begins, self._seconds = begins_s, seconds
        self._wanted = STRIP_FRAMES if seconds > 0 else 1
        self._frames: list[Image.Image | None] = []
        self._held: Any = None
        self._due = array("d")  # times of samples that no moment has passed yet

    def expect(self, seconds: float) -> None:
        """A sample for the time `seconds` goes into the decoder."""
        if len(self._frames) < self._wanted:
            self._due.append(seconds)

    def take(self, frame: Any, sound: bool) -> None:
        """The next frame in the order of time; `sound`: it decoded without complaint."""
        if sound and self._held is None and not self._frames:
            self._held = frame  # the first one may come later than it should
        if frame.time is None:
            return
        while len(self._frames) < self._wanted and frame.time > self._moment():
            self._settle()
        if sound and len(self._frames) < self._wanted and (
                frame.key_frame or self._held is None or not self._held.key_frame):
            self._held = frame

    def picture(self) -> bytes:
        """The strip, as JPEG."""
        while len(self._frames) < self._wanted:
            self._settle()
        return sheet(self._frames)

    def _moment(self) -> float:
        """When the next frame of the strip is to be seen."""
        return self._begins + self._seconds * len(self._frames) / STRIP_FRAMES + 0.001

    def _settle(self) -> None:
        moment, shown = self._moment(), None
        if self._held is not None:
            shown = small(self._held, STRIP_HEIGHT)
        elif self._frames and not any(due <= moment for due in self._due):
            shown = self._frames[-1]  # fewer frames than moments
        self._due = array("d", (due for due in self._due if due > moment))
        self._frames.append(shown)
        self._held = None


class KeyFrames:
    """Key frames by time. A decoder holds a picture back until later ones have come: each is
    decoded alone and fetched at once, and one that was fetched last is not decoded again."""

    def __init__(self, container: Any, stream: Any) -> None:
        self._container, self._stream = container, stream
        self._last: Any = None
        self._place: tuple[int | None, int | None] | None = None

    def at(self, seconds: float | None) -> Any:
        """The key frame at or before `seconds` into the clip that decodes, else one behind it, or
        None."""
        if seconds is not None:
            begins = self._container.start_time or 0  # transport streams count from anywhere
            try:
                self._container.seek(begins + int(seconds * 1_000_000), backward=True)
            except av.error.FFmpegError:
                return None
        try:
            for tries, packet in enumerate(self._container.demux(self._stream)):
                if packet.is_keyframe and packet.size:
                    place = packet.pts, packet.pos
                    if place == self._place:
                        return self._last
                    frame = self._decoded(packet)
                    if frame is not None:
                        self._last, self._place = frame, place
                        return frame
                if tries > MAX_TRIES:
                    break
        except (av.error.FFmpegError, EOFError):
            pass
        return None

    def _decoded(self, packet: Any) -> Any:
        context = self._stream.codec_context
        frames: list[Any] = []
        for each in (packet, None):
            with contextlib.suppress(av.error.FFmpegError, EOFError):
                frames += context.decode(each)
        context.flush_buffers()
        return frames[0] if frames else None
