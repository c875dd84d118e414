"""Sources made of others: files in pieces, windows, images in numbered files; what is mounted."""

import threading
import unittest
from pathlib import Path
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.checks.decoding import DecodeRequest, DecoderPool
from needlewright.core.decoders import Task
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.search.plan import Plan
from needlewright.core.sources import mounts
from needlewright.core.sources.budget import FREE_BYTES, FREE_STEPS, LOOK_EVERY, TIMES, Budget
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.open_files import SplitImage, pieces_of
from needlewright.core.sources.pieces import PiecedSource, position
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Span
from needlewright.core.sources.windows import Window
from needlewright.core.stopping import Interrupted
from tests.media import sounds
from tests.support import FolderTest, camera_jpeg, finds_on, medium, noise

EXTENTS = st.lists(st.tuples(st.one_of(st.none(), st.integers(0, 90)), st.integers(0, 40)),
                   max_size=6)


class Spoilt(MemorySource):
    """Some of its bytes could not be read."""

    LOST = range(30, 50)

    def lost_within(self, start, stop):
        return sum(1 for byte in self.LOST if start <= byte < stop)


class PiecedTest(FolderTest):
    DATA = noise(140, 3)

    @given(EXTENTS, st.integers(0, 250), st.integers(0, 250))
    def test_as_the_joined_bytes(self, extents, start, length):
        told = [(self.DATA[o + i] if o is not None else 0, None if o is None else o + i)
                for o, n in extents for i in range(n)]
        source = PiecedSource(Spoilt(self.DATA), extents)
        self.assertEqual(source.size, len(told))
        self.assertEqual(source.read_at(start, length),
                         bytes(b for b, _ in told[start : start + length]))
        if start < len(told):
            self.assertEqual(source.place(start), told[start][1])
        stop = min(len(told), start + length)
        lost = sum(place in Spoilt.LOST for _, place in told[start:stop] if place is not None)
        self.assertEqual(source.lost_within(start, stop) if stop > start else 0, lost)

    @given(EXTENTS, st.integers(0, 140))
    def test_the_way_back(self, extents, byte):
        places = [None if o is None else o + i for o, n in extents for i in range(n)]
        self.assertEqual(position(extents, byte),
                         places.index(byte) if byte in places else None)

    def test_what_another_process_may_read_by_itself(self):
        image = self.open_image(self.DATA)
        source = PiecedSource(Window(image, Span(10, 130)), [(5, 20), (None, 7), (60, 30)])
        path, pieces = source.local_pieces(15, 30)
        raw = Path(path).read_bytes()
        self.assertEqual(b"".join(bytes(n) if o is None else raw[o : o + n] for o, n in pieces),
                         source.read_at(15, 30))
        self.assertIsNone(PiecedSource(MemorySource(self.DATA), [(5, 20)]).local_pieces(0, 5))

    def test_a_window_ends_where_it_ends(self):
        window = Window(MemorySource(self.DATA), Span(20, 60))
        self.assertEqual(window.read_at(30, 100), self.DATA[50:60])
        self.assertEqual(window.read_at(41, 1), b"")
        with self.assertRaises(FormatError):
            Window(MemorySource(self.DATA), Span(20, 141))


class SplitTest(FolderTest):
    def pieces(self, data, sizes, first=1):
        at = 0
        for number, size in enumerate(sizes):
            self.image(data[at : at + size], f"card.img.{first + number:03d}")
            at += size
        self.image(data[at:], f"card.img.{first + len(sizes):03d}")
        return self.folder / f"card.img.{first:03d}"

    @given(st.lists(st.integers(1, 900), min_size=1, max_size=5), st.integers(0, 3000),
           st.integers(0, 3000))
    def test_reads_over_the_seams(self, sizes, start, length):
        data = noise(sum(sizes) + 300, 4)
        for old in self.folder.glob("card.img.*"):
            old.unlink()
        with SplitImage(pieces_of(self.pieces(data, sizes))) as source:
            self.assertEqual(source.read_at(start, length), data[start : start + length])
            self.assertEqual(source.name, "card.img")

    def test_found_and_decoded_across_pieces_of_any_size(self):
        photo, tone = camera_jpeg(5), sounds.encode("flac", "flac", 8)
        data = medium([(4096, photo), (1 << 19, tone)], 1 << 20)
        seam = 4096 + len(photo) // 2 + 13
        with open_source(str(self.pieces(data, [seam, 300_000], first=0))) as source:
            finds = finds_on(source, Plan(("signatures",)))
        self.assertEqual([(f.format, f.grade.value, f.extents) for f in finds],
                         [("jpeg", "whole", ((4096, len(photo)),)),
                          ("flac", "whole", ((1 << 19, len(tone)),))])

    def test_a_long_file_reaches_the_decoder_piece_by_piece(self):
        wave = sounds.encode("wav", "pcm_s16le", 9)
        at = wave.index(b"data")
        frames = wave[at + 8 : at + 8 + 65_536] * 1100  # 69 MiB: more than is sent at once
        head = (b"RIFF" + (at + len(frames)).to_bytes(4, "little") + wave[8:at] + b"data"
                + len(frames).to_bytes(4, "little"))
        data = head + frames
        with SplitImage(pieces_of(self.pieces(data, [30 << 20, 30 << 20]))) as source:
            pool = DecoderPool(workers=1)
            self.addCleanup(pool.close)
            pool.submit("long", DecodeRequest(source, [(0, len(data))], "SOUND", 0,
                                              task=Task.FRAMES))
            found = {}
            while pool.pending:
                found.update(pool.results(5.0))
        self.assertTrue(found["long"].ok, found["long"])
        for stream in found["long"].streams:
            self.assertEqual(stream.bad, 0)
            self.assertGreater(stream.packets, len(frames) // 65_536)

    def test_what_is_missing_is_named(self):
        first = self.pieces(noise(4000), [1000, 1000, 1000])
        (self.folder / "card.img.003").unlink()
        with self.assertRaises(SourceError) as raised:
            pieces_of(first)
        self.assertIn("card.img.003", raised.exception.values["path"])
        self.assertEqual(pieces_of(self.folder / "card.img.002"), [])

    def test_a_piece_that_shrinks_names_the_place_in_the_whole(self):
        first = self.pieces(noise(4000), [1000, 1000])
        with SplitImage(pieces_of(first)) as source:
            with (self.folder / "card.img.002").open("r+b") as out:
                out.truncate(500)
            with self.assertRaises(SourceError) as raised:
                source.read_at(0, 4000)
            self.assertGreaterEqual(raised.exception.values["start"], 1000)


class BudgetTest(unittest.TestCase):
    """What one walk may cost grows with how far it came, and with nothing that it claims."""

    def test_looks_without_end(self):
        budget = Budget(1000, threading.Event())
        with self.assertRaises(FormatError):
            for _ in range(FREE_STEPS + 2 * LOOK_EVERY):
                budget.step(1000)

    def test_the_same_bytes_again_and_again(self):
        budget = Budget(0, threading.Event())
        budget.read(0, 1 << 20)
        with self.assertRaises(FormatError):
            for _ in range((FREE_BYTES >> 20) + TIMES + 1):
                budget.read(0, 1 << 20)
        farther = Budget(0, threading.Event())
        for at in range(0, FREE_BYTES * 4, 1 << 20):
            farther.read(at, 1 << 20)  # a long file read once costs what it is

    def test_the_stop_is_heard(self):
        stop = threading.Event()
        budget = Budget(0, stop)
        budget.read(0, 100)
        stop.set()
        with self.assertRaises(Interrupted):
            budget.read(100, 1)
        with self.assertRaises(Interrupted):
            for _ in range(LOOK_EVERY + 1):
                budget.step(0)


class MountTest(FolderTest):
    TABLE = ("22 1 8:2 / / rw,relatime shared:1 - ext4 /dev/sda2 rw\n"
             "40 22 8:17 / /mnt/Fern\\040beck ro,nosuid - vfat /dev/sdb1 rw,uid=0\n"
             "41 22 0:5 /a /mnt/Fern\\040beck/net rw - nfs weir:/otters rw,hard\n"
             "nonsense\n42 22 8:18 / /mnt/over rw - xfs /dev/sdc1 rw\n"
             "43 42 8:19 / /mnt/over rw - btrfs /dev/sdd1 rw,subvol=/\n")

    def test_the_innermost_and_the_latest_holds(self):
        table = self.folder / "mountinfo"
        table.write_text(self.TABLE)
        with mock.patch.object(mounts, "TABLE", table), \
                mock.patch.object(mounts.os.path, "realpath", lambda path: str(path)):
            for path, kind, device in (
                    ("/home/x", "ext4", "/dev/sda2"), ("/mnt/Fern beck/DCIM", "vfat", "/dev/sdb1"),
                    ("/mnt/Fern beck/net/a", "nfs", "weir:/otters"),
                    ("/mnt/Fern beckett", "ext4", "/dev/sda2"),
                    ("/mnt/over", "btrfs", "/dev/sdd1")):
                found = mounts.mount_of(path)
                self.assertEqual((found.kind, found.device), (kind, device))
                self.assertEqual(mounts.file_system_of(path), kind)
            options = mounts.mount_of("/mnt/Fern beck/x").options
            self.assertIn("ro", options)
            self.assertNotIn("rw", options)

    def test_without_a_table_nothing_is_claimed(self):
        with mock.patch.object(mounts, "TABLE", self.folder / "none"):
            self.assertEqual(mounts.file_system_of("/"), "")


if __name__ == "__main__":
    unittest.main()
