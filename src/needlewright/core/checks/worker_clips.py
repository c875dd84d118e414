"""Clips and sound in the isolated decoder: first frame, strip, every frame, one frame by time.

Decoders are told to give up on an error rather than to hide it, so that the first damaged sample is
the one that is named.
"""

from __future__ import annotations

import io
from array import array
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import av
from PIL import Image, ImageDraw

from needlewright.core.checks.worker_pictures import thumbnail
from needlewright.core.checks.worker_strip import (
    MAX_TRIES,
    STRIP_FRAMES,
    STRIP_HEIGHT,
    KeyFrames,
    Passing,
    sheet,
    small,
)
from needlewright.core.decoders import Decoder

av.logging.set_level(av.logging.PANIC)
# Give up on errors; leave out the arithmetic on pixels that nobody will see and that cannot fail.
STRICT = {"err_detect": "explode", "skip_loop_filter": "all", "skip_idct": "all"}
CONCEALING = {"h264", "hevc"}  # decoders that say of each frame whether they concealed something
NUMBERED = ("mpegts",)  # packets are lost there without any decoder's concealing a thing
HOLLOW = bytes(64)  # that no coded unit holds (ITU-T H.264, 7.4.1; H.265, 7.4.2): three are escaped
NOT_BLACK = 24  # mean grey level
WAVE_SIZE = (360, 200)
LONG_S = 20.0
MAX_DAMAGED = 200  # stretches that are listed
Alive = Callable[[], None]


def _open(source: io.RawIOBase, probing: bool = True) -> Any:
    """The container. `probing`: decode some frames to know more of them, the order they come in
    above all; whoever wants key frames alone does without."""
    options = {} if probing else {"codec_whitelist": "none"}
    return av.open(source, "r", metadata_errors="replace", options=options)


def _streams(container: Any, kinds: tuple[str, ...], strict: bool) -> list[Any]:
    chosen = [s for s in container.streams if s.type in kinds and s.codec_context is not None]
    for stream in chosen:
        stream.codec_context.thread_count = 1
        if strict and stream.type == "video":
            stream.codec_context.options = dict(STRICT)
    return chosen


def _frame_from(container: Any, stream: Any, seconds: float | None) -> Any:
    """The first frame that decodes at or behind `seconds` from the clip's first, or None."""
    wanted = -1.0
    if seconds is not None and seconds > 0:  # the first is where it is opened
        # Transport streams count from anywhere.
        moment = seconds + (container.start_time or 0) / 1_000_000
        wanted = moment - 0.001
        try:
            container.seek(int(moment * 1_000_000), backward=True)
        except av.error.FFmpegError:
            return None
    last = None
    try:
        for tries, packet in enumerate(container.demux(stream)):
            try:
                for last in packet.decode():
                    # Frames before the wanted one are passed through, up to a bound.
                    if last.time is None or last.time >= wanted or tries > MAX_TRIES // 2:
                        return last
            except av.error.FFmpegError:
                pass
            if tries > MAX_TRIES:
                break
    except (av.error.FFmpegError, EOFError):
        pass
    return last


def _duration(container: Any, stream: Any) -> float:
    if stream.duration and stream.time_base:
        return float(stream.duration * stream.time_base)
    return container.duration / 1_000_000 if container.duration else 0.0


def _mean(picture: Image.Image) -> float:
    return sum(picture.resize((1, 1), Image.Resampling.BOX).tobytes()) / 3


def look(source: io.RawIOBase, request: dict[str, Any], alive: Alive) -> tuple[
        dict[str, Any], list[bytes]]:
    """(answer, [first frame that is not black, strip of ten frames where one is asked for])."""
    answer: dict[str, Any] = {"ok": False, "error": None}
    try:
        with _open(source, probing=False) as container:
            videos = _streams(container, ("video",), strict=False)
            if not videos:
                answer["error"], answer["text"] = "undecodable", "no-pictures"
                return answer, [b"", b""]
            stream = videos[0]
            length = _duration(container, stream)
            first, last, keys = None, None, KeyFrames(container, stream)
            strip: list[Image.Image | None] = []
            for index in range(STRIP_FRAMES):
                alive()
                at = None if length <= 0 or index == 0 else length * index / STRIP_FRAMES
                frame = keys.at(at)
                if frame is None:
                    continue
                if frame is not last:
                    shown = small(frame, STRIP_HEIGHT)
                strip.append(shown)
                answer["width"], answer["height"] = frame.width, frame.height
                last = frame
                if first is None or (first[1] < NOT_BLACK <= _mean(shown)):
                    side = min(request["side"], max(frame.width, frame.height))
                    high = max(2, round(side * frame.height / max(frame.width, frame.height)))
                    first = (small(frame, high), _mean(shown))
                if length <= 0 or not (request["strip"] or first[1] < NOT_BLACK):
                    break
            if first is None:
                answer["error"], answer["text"] = "undecodable", "no-frame-decodes"
                return answer, [b"", b""]
            answer["ok"] = True
            return answer, [thumbnail(first[0], request["side"], request.get("turn", 1)),
                            sheet(strip) if request["strip"] else b""]
    except MemoryError:
        answer["error"] = "memory"
    except Exception as error:
        answer["error"], answer["text"] = "undecodable", _text(error)
    return answer, [b"", b""]


def _text(error: Exception) -> str:
    return (getattr(error, "strerror", None) or str(error) or type(error).__name__)[:200]


class _Track:
    """What decoding one stream showed; times in seconds."""

    def __init__(self, stream: Any) -> None:
        self.kind = stream.type
        self.coding = stream.codec_context.name
        self.length_bytes = _length_bytes(self.coding, stream.codec_context.extradata or b"")
        self.base = float(stream.time_base) if stream.time_base else 0.0
        self.packets = self.frames = self.bad = 0
        self.first: int | None = None
        self.first_at: int | None = None
        self.first_s: float | None = None
        self.damaged: list[list[float]] = []
        self.open = False  # frames build on a damaged one until the next key frame
        self.last_s = 0.0

    def take(self, packet: Any, failed: bool) -> None:
        moment = packet.pts if packet.pts is not None else packet.dts
        seconds = moment * self.base if moment is not None else self.last_s
        length = float(packet.duration or 0) * self.base
        if failed:
            self.bad += 1
            if self.first is None:
                self.first, self.first_at, self.first_s = self.packets, packet.pos, seconds
            self.open = self.kind == "video"
            self._mark(seconds, seconds + length)
        elif self.open:
            if packet.is_keyframe:
                self.open = False
            else:
                self._mark(seconds, seconds + length)
        self.packets += 1
        self.last_s = max(self.last_s, seconds + length)

    def _mark(self, start: float, stop: float) -> None:
        if self.damaged and start <= self.damaged[-1][1] + 0.1 and start >= self.damaged[-1][0]:
            self.damaged[-1][1] = max(self.damaged[-1][1], stop)
        elif len(self.damaged) < MAX_DAMAGED:
            self.damaged.append([start, stop])

    def facts(self) -> dict[str, Any]:
        return {"kind": self.kind, "packets": self.packets, "frames": self.frames,
                "bad": self.bad, "first": self.first, "first_at": self.first_at,
                "first_s": self.first_s, "damaged": self.damaged, "seconds": self.last_s}


def every_frame(source: io.RawIOBase, request: dict[str, Any], alive: Alive) -> tuple[
        dict[str, Any], list[bytes]]:
    """(answer with what every stream showed, [picture of the sound where there is no other, the
    strip of ten frames where one is asked for]).

    What a decoder told to be strict objects to is decoded once more by one that is not: where that
    neither fails nor conceals anything, the objection was to form (superfluous information that is
    cut short, numbers of frames that are missing), which some encoders earn.
    """
    answer: dict[str, Any] = {"ok": False, "error": None, "streams": []}
    wave = _Wave() if request["format"] == Decoder.SOUND else None
    shown = _Shown(wave, request["strip"])
    try:
        tracks = _decode_all(source, answer, shown, alive, strict=True)
        bad = {track.coding for track in tracks if track.bad}
        if bad and bad <= CONCEALING and answer["error"] is None and (
                answer["container"] not in NUMBERED):
            again: dict[str, Any] = {"error": None}
            source.seek(0)
            lenient = _decode_all(source, again, _Shown(), alive, strict=False)
            if again["error"] is None and not any(track.bad for track in lenient):
                tracks = lenient
        answer["streams"] = [track.facts() for track in tracks]
        nothing = all(track.frames == 0 for track in tracks)
        answer["ok"] = answer["error"] is None and not nothing and not any(
            track.bad for track in tracks)
        if nothing and answer["error"] is None:
            answer["error"], answer["text"] = "undecodable", "nothing-decodes"
    except MemoryError:
        answer["error"] = "memory"
    except Exception as error:
        answer["error"], answer["text"] = "undecodable", _text(error)
    answer.pop("container", None)
    return answer, [wave.picture() if wave is not None and answer["streams"] else b"",
                    shown.strip.picture() if shown.strip is not None else b""]


@dataclass(slots=True)
class _Shown:
    """What is drawn while everything is decoded. `wanted`: a strip of the first pictures."""

    wave: _Wave | None = None
    wanted: bool = False
    strip: Passing | None = None
    index: int = -1  # of the strip's stream


def _decode_all(source: io.RawIOBase, answer: dict[str, Any], shown: _Shown, alive: Alive,
                strict: bool) -> list[_Track]:
    """Decode everything; what each stream showed. Errors of the container go into `answer`."""
    tracks: dict[int, _Track] = {}
    with _open(source) as container:
        answer["container"] = container.format.name
        streams = _streams(container, ("video", "audio"), strict=strict)
        for stream in streams:
            tracks[stream.index] = _Track(stream)
            if shown.wave is not None and stream.type == "audio":
                shown.wave.thin_out(_duration(container, stream))
            if shown.wanted and shown.strip is None and stream.type == "video":
                begins = (container.start_time or 0) / 1_000_000
                shown.strip = Passing(begins, _duration(container, stream))
                shown.index = stream.index
            if stream.type == "video" and "width" not in answer:
                answer["width"], answer["height"] = stream.width, stream.height
        try:
            for packet in container.demux(streams) if streams else ():
                alive()
                _decode(packet, tracks[packet.stream.index], shown)
        except av.error.FFmpegError as error:
            answer["text"] = _text(error)
            answer["error"] = "undecodable"
    return list(tracks.values())


def stretch(source: io.RawIOBase, request: dict[str, Any], alive: Alive) -> tuple[
        dict[str, Any], list[bytes]]:
    """(whether the frames from `seconds` to `until` decode without an error or concealing one, no
    pictures). They are decoded from the key frame before."""
    answer: dict[str, Any] = {"ok": False, "error": None}
    try:
        with _open(source) as container:
            streams = _streams(container, ("video", "audio"), strict=False)
            if request["seconds"] > 0:
                container.seek(int(request["seconds"] * 1_000_000), backward=True)
            tracks = {s.index: _Track(s) for s in streams}
            for packet in container.demux(streams) if streams else ():
                alive()
                track = tracks[packet.stream.index]
                moment = packet.dts if packet.dts is not None else packet.pts
                if moment is not None and moment * track.base > request["until"]:
                    break
                _decode(packet, track, _Shown())
                if track.bad:
                    break
            answer["ok"] = any(t.frames for t in tracks.values()) and not any(
                t.bad for t in tracks.values())
    except MemoryError:
        answer["error"] = "memory"
    except Exception as error:
        answer["error"], answer["text"] = "undecodable", _text(error)
    return answer, []


def _length_bytes(coding: str, configuration: bytes) -> int:
    """Bytes of the length in front of each coded unit (ISO/IEC 14496-15, 5.3.3.1, 8.3.3.1); 0 where
    start codes part them."""
    at = {"h264": 4, "hevc": 21}.get(coding)
    if at is None or len(configuration) <= at or configuration[0] != 1:
        return 0
    return (configuration[at] & 3) + 1


def _is_slice(coding: str, first: int) -> bool:
    """Whether a unit that begins with byte `first` holds coded pictures (H.264, table 7-1; H.265,
    table 7-1). Some cameras pad their remarks with zeros."""
    return 1 <= first & 31 <= 5 if coding == "h264" else first >> 1 & 63 < 32


def is_hollow(data: bytes, length_bytes: int, coding: str) -> bool:
    """Whether zeros stand in the midst of a coded picture, as cleared and unread sectors leave
    them. Decoders read much of that as grey."""
    if not length_bytes or HOLLOW not in data:
        return False
    at = 0
    while at + length_bytes < len(data):
        start = at + length_bytes
        stop = start + int.from_bytes(data[at:start], "big")
        if start < len(data) and _is_slice(coding, data[start]) and (
                HOLLOW in data[start:stop].rstrip(b"\0")):
            return True
        at = stop
    return False


def _decode(packet: Any, track: _Track, shown: _Shown) -> None:
    failed = bool(track.length_bytes) and is_hollow(
        bytes(packet), track.length_bytes, track.coding)
    strip = shown.strip if packet.stream.index == shown.index else None
    if strip is not None and packet.size and packet.pts is not None:
        strip.expect(packet.pts * track.base)
    try:
        for frame in packet.decode():
            track.frames += 1
            corrupt = bool(getattr(frame, "is_corrupt", False))
            failed = failed or corrupt
            if strip is not None:
                strip.take(frame, not corrupt)
            elif shown.wave is not None and track.kind == "audio":
                shown.wave.take(frame)
    except av.error.FFmpegError:
        failed = True
    if packet.size:
        track.take(packet, failed)


class _Wave:
    """A picture of how loud a recording is over its length."""

    def __init__(self) -> None:
        self.peaks = array("f")
        self._every = self._frames = 1
        self._to_bytes = av.AudioResampler(format="s16", layout="mono", rate=8000)

    def thin_out(self, seconds: float) -> None:
        """Of a long recording every fifth frame is enough for a picture."""
        self._every = 5 if seconds > LONG_S else 1

    def take(self, frame: Any) -> None:
        self._frames += 1
        if self._frames % self._every:
            return
        for made in self._to_bytes.resample(frame):
            samples = array("h", bytes(made.planes[0])[: made.samples * 2])
            for at in range(0, len(samples), 160):
                part = samples[at : at + 160]
                self.peaks.append(max(abs(max(part)), abs(min(part))) / 32768)

    def picture(self) -> bytes:
        if not self.peaks:
            return b""
        width, height = WAVE_SIZE
        sheet = Image.new("RGB", WAVE_SIZE, (38, 42, 44))
        draw = ImageDraw.Draw(sheet)
        for x in range(8, width - 8, 3):
            first = (x - 8) * len(self.peaks) // (width - 16)
            last = max(first + 1, (x - 5) * len(self.peaks) // (width - 16))
            half = max(1.0, max(self.peaks[first:last]) * (height / 2 - 16))
            draw.line((x, height / 2 - half, x, height / 2 + half), (196, 204, 200), 2)
        out = io.BytesIO()
        sheet.save(out, "JPEG", quality=82)
        return out.getvalue()


def still(source: io.RawIOBase, request: dict[str, Any], alive: Alive) -> tuple[
        dict[str, Any], list[bytes]]:
    """(answer with the frame's own time, [the frame at `request["seconds"]`])."""
    answer: dict[str, Any] = {"ok": False, "error": None}
    try:
        with _open(source) as container:
            videos = _streams(container, ("video",), strict=False)
            if not videos:
                answer["error"], answer["text"] = "undecodable", "no-pictures"
                return answer, [b""]
            stream = videos[0]
            answer["seconds"] = _duration(container, stream)
            frame = _frame_from(container, stream, float(request["seconds"]))
            if frame is None:
                answer["error"], answer["text"] = "undecodable", "no-frame-there"
                return answer, [b""]
            answer["width"], answer["height"] = frame.width, frame.height
            answer["ok"] = True
            answer["corrupt"] = bool(getattr(frame, "is_corrupt", False))
            begins = (container.start_time or 0) / 1_000_000
            answer["at"] = None if frame.time is None else max(0.0, frame.time - begins)
            side = min(request["side"], max(frame.width, frame.height))
            high = max(2, round(side * frame.height / max(frame.width, frame.height)))
            return answer, [thumbnail(small(frame, high), request["side"],
                                      request.get("turn", 1))]
    except MemoryError:
        answer["error"] = "memory"
    except Exception as error:
        answer["error"], answer["text"] = "undecodable", _text(error)
    return answer, [b""]
