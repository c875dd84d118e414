"""Compiles every kernel once, on tiny inputs, so that the first search does not wait for it."""

from __future__ import annotations

import contextlib
import io

import numpy as np
import numpy.typing as npt
from PIL import Image

from needlewright.core.errors import NeedlewrightError
from needlewright.core.sources.memory import MemorySource


def warm() -> None:
    """Run each kernel on a few bytes; from the cache this takes about two seconds."""
    from needlewright.core.formats.registry import formats
    from needlewright.core.kernels import signatures, texture

    table = signatures.build_table([
        signatures.Pattern(s.magic, s.at, s.mask, s.weak)
        for f in formats().values() for s in f.signatures])
    nothing = np.zeros(4096, np.uint8)
    signatures.find_signatures(nothing, 512, table)
    signatures.find_everywhere(nothing, table)
    begins = np.zeros(1, np.int64)
    texture.dominating(texture.classify(nothing), begins, begins + 1)
    _warm_frames(nothing)
    for progressive in (False, True):
        out = io.BytesIO()
        Image.new("RGB", (32, 32), (90, 120, 60)).save(out, "JPEG", progressive=progressive)
        with contextlib.suppress(NeedlewrightError):
            formats()["jpeg"].walk(MemorySource(out.getvalue()), 0, len(out.getvalue()))
        if not progressive:
            _warm_trials(out.getvalue())


def _warm_trials(photo: bytes) -> None:
    from needlewright.core.formats.jpeg_scans import make_grids, scan_plan
    from needlewright.core.formats.jpeg_segments import read_headers
    from needlewright.core.kernels import jpeg_trials

    headers, scan, begin = read_headers(MemorySource(photo))
    assert headers.frame is not None
    plan, tables = scan_plan(headers, scan, make_grids(headers.frame))
    prepared = jpeg_trials.prepare(plan, tables, [(1, 1, 1)] * 3)
    data = np.frombuffer(photo[begin:], np.uint8)
    state = jpeg_trials.advance(prepared, prepared.begin(), data[:8], 9).state
    jpeg_trials.try_candidates(prepared, state, np.zeros((1, 513), np.uint8), 9)


def _warm_frames(nothing: npt.NDArray[np.uint8]) -> None:
    from needlewright.core.kernels import (
        checksums,
        flac,
        foreign,
        justified,
        lzw,
        mp3_main_data,
        nal,
        packets,
        sound_frames,
        zip_keys,
    )

    one, counts = np.zeros(1, np.int64), np.zeros(3, np.int64)
    checksums.ogg_page_crc(bytes(64))
    checksums.entry_set_sum(bytes(96))
    checksums.music_crc(nothing[:8])
    flac.follow_frames(nothing, 0, 16, 0)
    foreign.surprise(nothing, 512, 2, 2)
    foreign.sector_looks(nothing, 512)
    foreign.runs_make(nothing, 8)
    ratios, box = np.ones(2), np.zeros(2, np.int32)
    justified.lay_rows(ratios, 0, 2, 400, 100, 0, (8, 18, 16), (box, box, box, box))
    lzw.decode_lengths(nothing[:8], 8, 4)
    mp3_main_data.first_overlap(nothing, mp3_main_data.fresh())
    nal.check_samples(nothing, one, one, 4, nal.AVC)
    packets.transport_packets(nothing, 188, 0, np.full(8192, -1, np.int64))
    packets.program_packets(nothing, 0, counts)
    sound_frames.follow(nothing, 0, 0, sound_frames.MPEG, True)
    sound_frames.frame_bytes(bytes(8), sound_frames.MPEG)
    sound_frames.resume(nothing, 0, 1, sound_frames.MPEG, 2)
    zip_keys.decrypt(b" ", zip_keys.begin(b" "))


if __name__ == "__main__":
    warm()
