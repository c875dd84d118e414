"""Zeros in the midst of a coded unit are damage, whatever a decoder makes of them."""

import io
import threading
import unittest

import av
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.checks.worker_clips import HOLLOW, is_hollow
from needlewright.core.search.examining import examine_one
from needlewright.demo import clips
from tests.examples import examples
from tests.support import FolderTest

RUN = len(HOLLOW)
CODINGS = {"libx264": "h264", "libx265": "hevc"}
CODERS = {"libx264": {}, "libx265": {"x265-params": "log-level=none"}}


def units(*parts: bytes) -> bytes:
    return b"".join(len(part).to_bytes(4, "big") + part for part in parts)


class HollowTest(FolderTest):
    def test_no_healthy_clip_is_hollow(self):
        for video in CODERS:
            data = clips.encode("mp4", video, None, 70, 30, (320, 240), coder=CODERS[video])
            with av.open(io.BytesIO(data)) as file:
                packets = [bytes(packet) for packet in file.demux(video=0)]
            self.assertGreater(len(packets), 20)
            self.assertFalse(any(is_hollow(packet, 4, CODINGS[video]) for packet in packets))

    @given(st.lists(st.binary(min_size=1, max_size=40).map(lambda b: b.replace(b"\0", b"\1")),
                    min_size=1, max_size=4), st.integers(0, 3), st.integers(RUN, 300))
    @examples(60)
    def test_only_zeros_inside_a_unit_count(self, parts, where, run):
        parts = [b"\x65" + part for part in parts]  # of H.264, a slice
        self.assertFalse(is_hollow(units(*parts), 4, "h264"))
        where %= len(parts)
        padded = [*parts[:where], parts[where] + bytes(run), *parts[where + 1 :]]
        self.assertFalse(is_hollow(units(*padded), 4, "h264"))  # some writers fill up a unit
        struck = [*parts[:where], parts[where] + bytes(run) + b"\x80", *parts[where + 1 :]]
        self.assertTrue(is_hollow(units(*struck), 4, "h264"))
        remarks = [b"\x06" + part[1:] for part in struck]
        self.assertFalse(is_hollow(units(*remarks), 4, "h264"))
        self.assertFalse(is_hollow(units(*struck), 0, "h264"))  # parted by start codes

    def test_a_cleared_sector_in_a_clip_is_told(self):
        for video in CODERS:
            data = clips.encode("mp4", video, None, 71, 30, (640, 480), coder=CODERS[video])
            with av.open(io.BytesIO(data)) as file:
                longest = max(file.demux(video=0), key=lambda packet: packet.size)
                place = longest.pos + longest.size // 2 - 300
            path = self.folder / f"{video}.mp4"
            path.write_bytes(data[:place] + bytes(512) + data[place + 512 :])
            find = examine_one(path, threading.Event()).find
            self.assertIn(find.grade, ("partial", "remnant"), video)  # all may build on it
            self.assertIn("frames-damaged", [check.code for check in find.checks], video)


if __name__ == "__main__":
    unittest.main()
