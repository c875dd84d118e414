"""The pieces that readers share: allocation, times, names, packed contents, what is kept."""

import struct
import unittest
from datetime import datetime

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.kernels.checksums import entry_set_sum
from needlewright.core.search.keeping import Keeping
from needlewright.core.search.spans import covers, merged_spans, next_free, next_used
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.pieces import PiecedSource, position
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import Entry, Times, cut
from needlewright.core.volumes.codings import lznt1
from needlewright.core.volumes.fat.directory import checksum, looks_like_entries, slots
from needlewright.core.volumes.fat.letters import Letters
from needlewright.core.volumes.former.geometry import Geometry, by_own_numbers
from needlewright.core.volumes.stamps import Stamp, dos, nt, unix
from needlewright.demo.fat32 import _entry, _long_entries, _short_name
from tests.examples import examples
from tests.kernels import reference
from tests.support import camera_jpeg, noise

FLAGS = st.lists(st.booleans(), min_size=1, max_size=300)


class AllocationTest(unittest.TestCase):
    @examples(200)
    @given(FLAGS, st.integers(0, 320), st.integers(1, 40), st.data())
    def test_against_a_plain_list(self, flags, first, wanted, data):
        unit, base = 512, 1024
        made = Allocation.of_flags(unit, base, np.array(flags, np.bool_))
        free = [i for i in range(first, len(flags)) if not flags[i]][:wanted]
        runs = made.free_run(first, wanted)
        if len(free) < wanted:
            self.assertIsNone(runs)
        else:
            self.assertEqual([c + i for c, n in runs for i in range(n)], free)
        start = base + data.draw(st.integers(0, unit * len(flags)))
        length = data.draw(st.integers(0, unit * len(flags)))
        byte_used = [flags[(b - base) // unit] for b in range(start, min(
            start + length, base + unit * len(flags)))]
        self.assertEqual(made.used_bytes([(start, length)]), sum(byte_used))
        self.assertEqual(int((made.runs()[:, 1] - made.runs()[:, 0]).sum()), unit * sum(flags))
        made.take([(start, length)])
        for byte in range(start, min(start + length, base + unit * len(flags)), 100):
            self.assertTrue(made.used((byte - base) // unit))


class SpansTest(unittest.TestCase):
    @examples(100)
    @given(st.lists(st.tuples(st.integers(0, 99), st.integers(1, 20)), max_size=12))
    def test_against_a_set(self, pairs):
        spans = merged_spans(np.array([(a, a + n) for a, n in pairs], np.int64).reshape(-1, 2))
        held = {b for a, n in pairs for b in range(a, a + n)}
        for at in range(130):
            self.assertEqual(covers(spans, at), at in held)
            free = next(b for b in range(at, 200) if b not in held)
            self.assertEqual(next_free(spans, at), free)
            if at not in held:
                self.assertEqual(next_used(spans, at), min((b for b in held if b > at),
                                                           default=1 << 62))


class ThreadTest(unittest.TestCase):
    @examples(150)
    @given(st.lists(st.tuples(st.one_of(st.none(), st.integers(0, 900)), st.integers(1, 90)),
                    min_size=1, max_size=6), st.integers(0, 400), st.integers(0, 400))
    def test_against_joined_bytes(self, extents, start, length):
        data = bytes(range(256)) * 4
        whole = b"".join(bytes(n) if o is None else data[o : o + n] for o, n in extents)
        thread = PiecedSource(MemorySource(data), extents)
        self.assertEqual(thread.read_at(start, length), whole[start : start + length])
        place = thread.place(start)
        if place is not None:
            self.assertEqual(data[place], whole[start])
            self.assertIsNotNone(position(extents, place))
        self.assertEqual(sum(n for _, n in cut(extents, length)), min(length, len(whole)))


class StampsTest(unittest.TestCase):
    def test_clocks(self):
        self.assertEqual(dos(0x669A, 0x5D4D, 150).text(), "2031-04-26T11:42:27.5")
        self.assertIsNone(dos(0, 0))
        self.assertIsNone(dos(0x669A, 0xFFFF))
        self.assertEqual(unix(1_936_419_000, 5_000_000).text(), "2031-05-13T06:10:00.005Z")
        self.assertEqual(nt(116_444_736_000_000_000 + 10_000_000).text(), "1970-01-01T00:00:01Z")
        self.assertEqual(Stamp(0, 0, -330).text(), "1970-01-01T00:00:00-05:30")


class FatNamesTest(unittest.TestCase):
    def directory(self, *names, removed=()):
        when, taken, out = datetime(2031, 5, 12, 6, 30), set(), b""
        for name in names:
            short, long = _short_name(name, taken)
            entries = [*(_long_entries(name, short) if long else []),
                       _entry(short, 0x20, 5, 1000, when)]
            if name in removed:
                entries = [b"\xe5" + e[1:] for e in entries]
            out += b"".join(entries)
        return out.ljust(4096, b"\0")

    def test_the_first_letter_comes_back_from_the_long_name(self):
        name = "Sightings at Alder bend – week 20.jpg"
        data = self.directory("BF_0201.JPG", name, "BF_0203.JPG", removed=(name, "BF_0203.JPG"))
        found = list(slots(data))
        self.assertEqual([s.removed for s in found], [False, True, True])
        self.assertEqual(found[1].name, name)
        letters = Letters()
        letters.learn(found[0].name, "DCIM")
        self.assertEqual(letters.restore(found[2].name, "DCIM"), ("BF_0203.JPG", True))
        self.assertTrue(looks_like_entries(data))
        self.assertEqual(checksum(b"README  TXT"), 0x73)

    def test_what_overwrote_a_folder_names_nothing(self):
        data = self.directory(*(f"BF_{number:04}.JPG" for number in range(40)))
        names = [s.name for s in slots(data)]
        self.assertEqual(len(names), 40)
        text = b"05:58;Reedmouth weir;3;mist\n" * 20
        for foreign in (camera_jpeg(3)[2000:2512], text[:512], noise(512, 5)):
            spoilt = data[:512] + foreign + data[1024:]
            self.assertEqual([s.name for s in slots(spoilt)], names[:16] + names[32:])

    def test_folders_vote_for_their_geometry(self):
        true = Geometry(1 << 20, 4096)
        places = [(true.offset(c), c) for c in (3, 17, 40, 1000)] + [(777 * 512, 9)]
        self.assertEqual(by_own_numbers(places)[0], (true, 4))


class PackedTest(unittest.TestCase):
    def test_lznt1(self):
        # The worked example of [MS-XCA] 3.1.
        packed = bytes.fromhex(
            "38b08846232000204720410010a24701a045204400084501507900c045200524139005b4024a44ef0358028c091601"
            "484500be009e000401189000")
        made = lznt1(packed, 4096)
        self.assertTrue(made.rstrip(b"\0").startswith(b"F# F# G A A G F# E D D E F# F# E E F# F#"))


class EntrySetTest(unittest.TestCase):
    @given(st.binary(max_size=700))
    def test_the_sum_over_a_set(self, data):
        self.assertEqual(entry_set_sum(data), reference.entry_set_sum(data))


class KeepingTest(unittest.TestCase):
    def keeping(self, **files):
        medium = b"".join(data.ljust(1024, b"\0") for data in files.values())
        keeping = Keeping(MemorySource(medium), 0)
        for index, (path, data) in enumerate(files.items()):
            keeping.note(Entry(path, len(data), 0, False, extents=((1024 * index, len(data)),)))
        return keeping

    def entry(self, path):
        return Entry(path, 10, 0, False, Times())

    def test_desktop_trash(self):
        keeping = self.keeping(**{".Trash-1000/info/BF_0201.JPG.trashinfo": (
            b"[Trash Info]\nPath=DCIM/104BRKFD/BF%200201.JPG\nDeletionDate=2031-05-12T06:30:00\n")})
        kept = keeping.of(self.entry(".Trash-1000/files/BF_0201.JPG"))
        self.assertEqual((kept.code, kept.original, kept.removed_at),
                         ("trash", "DCIM/104BRKFD/BF 0201.JPG", "2031-05-12T06:30:00"))
        inner = keeping.of(self.entry(".Trash-1000/files/BF_0201.JPG/inside.jpg"))
        self.assertEqual(inner.original, "DCIM/104BRKFD/BF 0201.JPG/inside.jpg")

    def test_recycled_pairs(self):
        path = "E:\\survey\\holt 7.jpg"
        info = struct.pack("<QQQI", 2, 10, 134_000_000_000_000_000, len(path) + 1) + (
            path + "\0").encode("utf-16-le")
        keeping = self.keeping(**{"$RECYCLE.BIN/S-1-5-21/$IAB12CD.jpg": info})
        kept = keeping.of(self.entry("$RECYCLE.BIN/S-1-5-21/$RAB12CD.jpg"))
        self.assertEqual((kept.code, kept.original), ("trash", "survey/holt 7.jpg"))
        self.assertTrue(kept.removed_at.startswith("2025-08-1"))

    def test_phones_and_hidden_folders(self):
        keeping = self.keeping(**{"DCIM/.quiet/.nomedia": b""})
        kept = keeping.of(self.entry("DCIM/Camera/.trashed-1938000000-OTTER_1.jpg"))
        self.assertEqual((kept.code, kept.original), ("phone-trash", "DCIM/Camera/OTTER_1.jpg"))
        self.assertEqual(kept.purge_at, "2031-05-31T13:20:00Z")
        self.assertEqual(keeping.of(self.entry("DCIM/.quiet/a.jpg")).code, "hidden")
        self.assertIsNone(keeping.of(self.entry("DCIM/Camera/a.jpg")))


if __name__ == "__main__":
    unittest.main()
