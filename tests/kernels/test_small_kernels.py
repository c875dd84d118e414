"""The kernels of sounds, packets, GIF and plain samples against plain references and encoders."""

import io
import random
import struct
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from needlewright.core.kernels import flac, foreign, lzw, packets, texture
from needlewright.core.kernels.blank import as_words, is_blank
from needlewright.core.kernels.checksums import entry_set_sum, ogg_page_crc
from needlewright.core.kernels.flac import BROKEN, MORE, OK, follow_frames
from needlewright.core.kernels.foreign import pitch, runs_make, surprise
from needlewright.core.kernels.lzw import decode_lengths
from needlewright.core.kernels.mp3_main_data import first_overlap, fresh
from needlewright.core.kernels.nal import AVC, check_samples
from needlewright.core.kernels.packets import transport_packets
from needlewright.core.kernels.sound_frames import AMR, MPEG, follow, resume
from tests.examples import examples
from tests.kernels import reference
from tests.media import sounds
from tests.support import scene


def array(data):
    return np.frombuffer(bytes(data), np.uint8)


BARE = {"id3v2_version": "0", "write_xing": "0"}  # frames and nothing else


class MainDataTest(unittest.TestCase):
    """Where the sound data of MPEG audio frames lies, against a plain reading of the standard."""

    SOUNDS = [sounds.encode("mp3", "libmp3lame", seed, seconds=3, options=BARE)
              for seed in range(200, 206)]

    def overlap(self, data, block=1 << 20):
        state, at = fresh(), 0
        while at < len(data):
            done, wrong = first_overlap(array(data[at : at + block]), state)
            if wrong >= 0:
                return at + wrong
            if not done:
                break
            at += done
        return -1

    def test_none_in_what_encoders_wrote(self):
        for rate in (44_100, 32_000, 22_050, 16_000, 8000):
            for bits in (None, 32_000, 64_000):
                data = sounds.encode("mp3", "libmp3lame", rate, rate=rate, bit_rate=bits,
                                     options=BARE)
                self.assertEqual(self.overlap(data), -1, (rate, bits))
                self.assertEqual(self.overlap(data, 5000), -1, "in pieces")

    def test_seams_as_the_plain_reading_finds_them(self):
        rng, found = random.Random(8), 0
        for _ in range(60):
            one, two = rng.sample(self.SOUNDS, 2)
            cut = rng.randrange(4, len(one) // 1024 - 4) * 1024
            data = one[:cut] + two[cut:]
            frame = self.overlap(data, rng.choice((4096, 1 << 20)))
            self.assertEqual(frame, reference.foreign_layer_iii_frame(data))
            self.assertTrue(frame == -1 or frame > cut - 1500)
            found += frame >= 0
        self.assertGreater(found, 12)

    @given(st.binary(max_size=600))
    def test_any_bytes(self, data):
        done, wrong = first_overlap(array(b"\xff\xfb\x90\x64" + data), fresh())
        self.assertTrue(0 <= done <= len(data) + 4 and -1 <= wrong <= done)


class PlainSampleTest(unittest.TestCase):
    """Distances of samples, told sector by sector."""

    @examples(40)
    @given(st.integers(0, 10_000), st.integers(1, 4), st.sampled_from([1, 2]), st.booleans(),
           st.sampled_from([0, 48, 60]), st.integers(64, 700))
    def test_surprise(self, seed, samples, width, big, row, size):
        data = random.Random(seed).randbytes(size)
        pixel = samples * width
        row = row // pixel * pixel
        found = surprise(array(data), 64, pixel, width, big, row)
        want = reference.surprise(data, 64, pixel, width, big, row)
        np.testing.assert_allclose(found, want)
        if width > 1:  # as many bytes of a sample in front: the other byte is the high one
            shifted = surprise(array(data), 64, pixel, width, big, row, 1)
            np.testing.assert_allclose(shifted, reference.surprise(
                data, 64, pixel, width, not big, row))

    @examples(40)
    @given(st.integers(0, 10_000), st.integers(1, 4), st.integers(8, 90), st.integers(64, 700))
    def test_pitch(self, seed, pixel, row, size):
        data = random.Random(seed).randbytes(size)
        np.testing.assert_allclose(pitch(array(data), 64, pixel, row),
                                   reference.pitch(data, 64, pixel, row))
        self.assertFalse(pitch(array(data), 64, pixel, 0).any())

    def test_rows_of_a_picture_are_near_each_other_only_at_its_own_pitch(self):
        data = scene(3, 320, 200).tobytes()
        own, other = (pitch(array(data), 512, 3, row)[4:] for row in (960, 960 - 51))
        self.assertLess(np.mean(own > 0), 0.1)
        self.assertGreater(np.mean(other > 0), 2 * np.mean(own > 0))

    @given(st.binary(min_size=1, max_size=90), st.integers(0, 11), st.integers(1, 90))
    def test_one_value_only(self, data, start, size):
        for raw in (data, data[:1] * 90, data[:1] * 47 + b"\x80" + data[:1] * 42):
            low = min(start * 8, len(raw) - 1) // 8 * 8
            high = min(len(raw), low + size)
            self.assertEqual(bool(is_blank(array(raw), as_words(array(raw)), low, high)),
                             len(set(raw[low:high])) == 1)


class CodingTest(unittest.TestCase):
    @given(st.lists(st.tuples(st.booleans(), st.binary(min_size=1, max_size=128)), max_size=12),
           st.integers(1, 3))
    def test_packed_runs(self, pieces, more):
        coded, made = bytearray(), 0
        for run, data in pieces:
            if run and len(data) > 1:
                coded += bytes([257 - len(data), data[0]])
            else:
                coded += bytes([len(data) - 1]) + data
            made += len(data)
        self.assertTrue(runs_make(array(coded), made))
        self.assertFalse(runs_make(array(coded), made + more))

    def test_gif_codes_make_as_many_pixels_as_the_picture_has(self):
        for seed, colours in ((1, 2), (2, 16), (3, 256)):
            out = io.BytesIO()
            picture = scene(seed, 300, 211).quantize(colours)
            picture.save(out, "GIF")
            raw, at = out.getvalue(), reference.gif_codes(out.getvalue())
            size, codes = raw[at], reference.sub_blocks(raw, at + 1)
            with Image.open(io.BytesIO(raw)) as told:
                pixels = told.width * told.height
            self.assertEqual(decode_lengths(array(codes), size, pixels),
                             (pixels, len(codes), True))
            for wrong in (pixels - 1, pixels + 1):
                self.assertFalse(decode_lengths(array(codes), size, wrong)[2])
            self.assertFalse(decode_lengths(array(codes[: len(codes) // 2]), size, pixels)[2])

    @given(st.binary(max_size=400), st.integers(1, 11), st.integers(0, 500))
    def test_any_bytes_as_gif_codes(self, data, size, wanted):
        pixels, used, _ = decode_lengths(array(data), size, wanted)
        self.assertLessEqual(pixels, wanted)
        self.assertLessEqual(used, len(data))

    def test_flac_frames_from_end_to_end(self):
        raw = sounds.encode("flac", "flac", 5)
        at, last = 4, False
        while not last:
            last, at = bool(raw[at] & 0x80), at + 4 + int.from_bytes(raw[at + 1 : at + 4], "big")
        samples = int.from_bytes(raw[18:26], "big") & ((1 << 36) - 1)
        padded = array(raw + bytes(64))
        place, frames, made, state = follow_frames(padded, at, 16, samples)
        self.assertEqual((place, made, state), (len(raw), samples, OK))
        self.assertGreater(frames, 4)
        self.assertEqual(follow_frames(array(raw[: at + 3000]), at, 16, samples)[3], MORE)
        hurt = bytearray(raw + bytes(64))
        hurt[place - 40] ^= 4
        self.assertEqual(follow_frames(array(hurt), at, 16, samples)[1::2], (frames - 1, BROKEN))

    @given(st.binary(min_size=26, max_size=300))
    def test_checks_of_pages_and_entry_sets(self, data):
        self.assertEqual(ogg_page_crc(data), reference.crc32_ogg(data))
        total = 0
        for place, value in enumerate(data):
            if place not in (2, 3):
                total = (((total & 1) << 15) + (total >> 1) + value) % 65536
        self.assertEqual(entry_set_sum(data), total)


class ChainTest(unittest.TestCase):
    def test_mpeg_frames(self):
        raw = sounds.encode("mp3", "libmp3lame", 6)
        begin = resume(array(raw), 0, 0, MPEG, 4)
        place, frames, samples, rate, key, more = follow(array(raw), begin, 0, MPEG, True)
        self.assertEqual((place, more), (len(raw), False))
        self.assertEqual(samples, frames * 1152)
        self.assertIn(rate, (44100, 48000, 32000))
        torn = raw[: len(raw) // 2] + bytes(700) + raw[len(raw) // 2 + 700 :]
        stopped = follow(array(torn), begin, key, MPEG, True)[0]
        self.assertLess(abs(stopped - len(raw) // 2), 1500)
        again = resume(array(torn), stopped + 1, key, MPEG, 4)
        self.assertGreaterEqual(again, len(raw) // 2 + 700 - 1500)
        self.assertEqual(follow(array(torn), again, key, MPEG, True)[0], len(raw))
        self.assertEqual(resume(array(bytes(5000)), 0, key, MPEG, 2), -1)

    @given(st.lists(st.integers(0, 8), min_size=1, max_size=30), st.integers(0, 30))
    def test_amr_frames_of_any_rate(self, kinds, cut):
        sizes = (12, 13, 15, 17, 19, 20, 26, 31, 5)
        raw = b"".join(bytes([kind << 3 | 4]) + b"\x55" * sizes[kind] for kind in kinds)
        self.assertEqual(follow(array(raw), 0, 0, AMR, True)[:3],
                         (len(raw), len(kinds), 160 * len(kinds)))
        short = raw[: max(1, len(raw) - cut)]
        place, frames, _, _, _, _ = follow(array(short), 0, 0, AMR, True)
        whole = [sum(sizes[k] + 1 for k in kinds[:n]) for n in range(len(kinds) + 1)]
        self.assertEqual(place, max(at for at in whole if at <= len(short)))
        self.assertEqual(frames, whole.index(place))

    @given(st.lists(st.integers(0, 40), min_size=1, max_size=12), st.integers(1, 4),
           st.integers(-2, 2))
    def test_units_fill_their_sample(self, lengths, width, wrong):
        raw = b"".join(n.to_bytes(width, "big") + (b"\x41" + b"\x99" * n)[:n] for n in lengths)
        good = check_samples(array(raw + bytes(8)), np.array([0]), np.array([len(raw) + wrong]),
                             width, AVC)
        self.assertEqual(bool(good[0]), wrong == 0 and 0 not in lengths)

    def test_counters_of_transport_packets(self):
        def packet(pid, counter, payload=True):
            return struct.pack(">BHB", 0x47, pid, (0x10 if payload else 0x20) | counter & 15) + (
                b"\x05" * 184)
        stream = b"".join(packet(256 + n % 2, n // 2) for n in range(64))
        fresh = np.full(8192, -1, np.int64)
        self.assertEqual(transport_packets(array(stream), 188, 0, fresh), (64, 0, -1))
        gap = stream[: 188 * 20] + stream[188 * 24 :]
        packets, breaks, first = transport_packets(array(gap), 188, 0, np.full(8192, -1, np.int64))
        self.assertEqual((packets, breaks, first), (60, 2, 20))
        halves = np.full(8192, -1, np.int64)
        transport_packets(array(stream[: 188 * 31]), 188, 0, halves)
        self.assertEqual(transport_packets(array(stream[188 * 31 :]), 188, 0, halves), (33, 0, -1))
        torn = stream[: 188 * 9] + bytes(188) + stream[188 * 10 :]
        self.assertEqual(transport_packets(array(torn), 188, 0, fresh.copy())[0], 9)


class OnceTest(unittest.TestCase):
    def test_each_is_compiled_once_whoever_owns_the_bytes(self):
        """Out of bytes they cannot be written to, out of a buffer that is read into they can."""
        data = np.random.default_rng(5).bytes(1 << 14)
        owned, lent = np.frombuffer(bytearray(data), np.uint8), np.frombuffer(data, np.uint8)
        self.assertNotEqual(owned.flags.writeable, lent.flags.writeable)
        for act, kernel in (
                (lambda d: flac.follow_frames(d, 0, 16, 0), flac._frames),
                (lambda d: foreign.surprise(d, 512, 2, 2), foreign._surprise),
                (lambda d: foreign.sector_looks(d, 512), foreign._looks),
                (lambda d: lzw.decode_lengths(d, 8, 4), lzw._lengths),
                (lambda d: packets.transport_packets(d, 188, 0, np.full(8192, -1)),
                 packets._transport),
                (lambda d: texture.classify(d), texture._classify)):
            with self.subTest(str(kernel)):
                answers = [act(owned), act(lent)]
                self.assertEqual(*(repr(answer) for answer in answers))
                self.assertEqual(len(kernel.signatures), 1)
        self.assertTrue(owned.flags.writeable)  # as it was


if __name__ == "__main__":
    unittest.main()
