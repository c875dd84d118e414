"""Clips of every container and coding."""

from __future__ import annotations

from collections.abc import Iterator

from needlewright.demo.clips import encode


def make() -> Iterator[tuple[str, str, str, bytes]]:
    """(format, variant, name, file) of each clip."""
    yield "mp4", "mp4", "index-last", encode("mp4")
    yield "mp4", "mp4", "index-first", encode("mp4", options={"movflags": "faststart"}, seed=61)
    yield "mp4", "mp4", "fragments", encode(
        "mp4", options={"movflags": "frag_keyframe+empty_moov+default_base_moof"}, seed=62,
        coder={"g": "10"})
    yield "mp4", "mp4", "hevc", encode("mp4", "libx265", seed=63, coder={
        "x265-params": "log-level=none"})
    yield "mp4", "mp4", "silent", encode("mp4", audio=None, seed=64)
    yield "mp4", "mov", "index-last", encode("mov", seed=65)
    yield "mp4", "mov", "motion-jpeg", encode("mov", "mjpeg", "pcm_s16le", seed=66, frames=20)
    yield "mp4", "3gp", "phone", encode("3gp", "mpeg4", "aac", seed=67)
    yield "avi", "avi", "mpeg4", encode("avi", "mpeg4", "mp3", seed=68)
    yield "avi", "avi", "motion-jpeg", encode("avi", "mjpeg", "pcm_s16le", seed=69, frames=20)
    yield "matroska", "mkv", "h264", encode("matroska", seed=70)
    yield "matroska", "webm", "vp9", encode("webm", "libvpx-vp9", "libopus", seed=71, frames=20)
    yield "matroska", "mkv", "live", encode("matroska", seed=72, options={"live": "1"})
    yield "mpegts", "ts", "h264", encode("mpegts", seed=73)
    yield "mpegts", "m2ts", "timed", encode("mpegts", seed=74, audio="ac3", options={
        "mpegts_m2ts_mode": "1"})
    yield "mpg", "mpg", "mpeg2", encode("vob", "mpeg2video", "mp2", seed=75)
    yield "mpg", "mpg", "mpeg1", encode("mpeg", "mpeg1video", "mp2", seed=76)
    yield "flv", "flv", "flv1", encode("flv", "flv", "mp3", seed=77, rate=44_100)
    yield "asf", "wmv", "wmv2", encode("asf", "wmv2", "wmav2", seed=78, rate=44_100)
