"""Clips without their index: samples by their structure, times by their order, checked by
FFmpeg."""

from __future__ import annotations

import io
import random
import struct
import unittest

import av
import numpy as np
from benchmarks.mending import frames_of, sound_of
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.errors import FormatError
from needlewright.core.kernels import aac_frames
from needlewright.core.kernels.clip_walk import AVC, SOUND, VIDEO, walk_items, zeros_inside
from needlewright.core.mending.clips.finding import Samples, display_ranks
from needlewright.core.mending.clips.own_index import joined, moved_index
from needlewright.core.mending.clips.tracks import ahead_of, keys_of, models_of, moov_of
from needlewright.core.sources.memory import MemorySource
from needlewright.core.structures.aac_books import CODES, LENGTHS, lookups
from needlewright.core.structures.bmff_writing import box, full
from needlewright.core.structures.parameter_sets import Bits, order_of_avc
from needlewright.demo import clips
from tests.examples import examples
from tests.mending import damage
from tests.support import FolderTest, noise

NO_PLAIN = np.zeros(0, np.int64)


def sound(rate: int, layout: str, count: int = 24) -> list[bytes]:
    """AAC packets of FFmpeg's encoder: tone, noise and silence, so that all of its tools are
    used."""
    out = io.BytesIO()
    random_ = np.random.default_rng(rate)
    channels = 1 if layout == "mono" else 2
    with av.open(out, "w", format="mp4") as file:
        stream = file.add_stream("aac", rate=rate)
        stream.layout, stream.bit_rate = layout, min(96_000, 3 * rate)
        for index in range(count):
            loud = 0.4 if index % 5 == 0 else 0.01
            wave = random_.normal(0, loud, (channels, 1024)) + np.sin(np.arange(1024) / 7) * 0.3
            frame = av.AudioFrame.from_ndarray((wave * (index % 7 != 3)).astype(np.float32), "fltp",
                                               layout)
            frame.sample_rate, frame.pts = rate, index * 1024
            file.mux(stream.encode(frame))
        file.mux(stream.encode())
    with av.open(io.BytesIO(out.getvalue())) as file:
        return [bytes(p) for p in file.demux(audio=0) if p.size]


class ByDataTest(FolderTest):
    """Clips whose data repeats its parameter sets need no sibling."""

    def test_pictures_and_sound_play_as_they_were(self):
        cases = {"avc": ("libx264", "aac", {"g": "25", "bf": "2",
                                            "x264-params": "repeat-headers=1:aud=1"}),
                 "alone": ("libx264", None, {"g": "25", "x264-params": "repeat-headers=1"}),
                 "hevc": ("libx265", "aac", {"x265-params": "log-level=none:repeat-headers=1"})}
        for name, (video, audio, coder) in cases.items():
            for size in ((320, 240), (330, 186)):  # shown in part of what is coded
                whole = clips.encode("mp4", video, audio, 70, 60, size, coder=coder)
                with self.subTest(name, size=size):
                    data = whole[: damage.boxes(whole)[b"moov"][0]]
                    done = damage.mended(self.folder, f"{name}-{size[0]}.mp4", data)
                    # HEVC decodes too much that is foreign to prove what was mended.
                    grade = "unproven" if video == "libx265" else "mended"
                    self.assertEqual((done.grade, done.doubts), (grade, ()), done.why)
                    self.assertIn("described-by-data", [c.code for c in done.changes])
                    made = done.output.read_bytes()
                    old, new = frames_of(whole), frames_of(made)
                    self.assertTrue(new[4])
                    self.assertEqual(new[0], old[0])
                    self.assertLess(max(abs(a - b) for a, b in zip(old[1], new[1])), 0.04)
                    self.assertLess(abs(old[3] - new[3]), 0.04)
                    with av.open(io.BytesIO(made)) as file:
                        stream = file.streams.video[0]
                        self.assertEqual((stream.width, stream.height), size)

    def test_plain_sound_is_told_by_how_much_of_it_there_is(self):
        sets = {"g": "25", "bf": "2", "x264-params": "repeat-headers=1:aud=1"}
        for video, audio, rate, coder in (
                ("libx264", "pcm_s16le", 48_000, sets), ("libx264", "pcm_s16be", 44_100, sets),
                ("libx264", "pcm_s24be", 48_000, sets), ("libx264", "pcm_s24le", 48_000, sets),
                ("mjpeg", "pcm_s16le", 48_000, {})):
            with self.subTest(video=video, audio=audio):
                whole = clips.encode("mov", video, audio, 70, 50, (320, 240), coder=coder,
                                     rate=rate)
                data = whole[: damage.boxes(whole)[b"moov"][0]]
                done = damage.mended(self.folder, f"{video}-{audio}.mov", data)
                doubts = ("pace-guessed",) if video == "mjpeg" else ()  # nothing says how fast
                self.assertEqual((done.doubts, done.share), (doubts, 1.0))
                made = done.output.read_bytes()
                self.assertEqual(frames_of(made)[:2], frames_of(whole)[:2])
                self.assertEqual(sound_of(made), sound_of(whole))
                with av.open(io.BytesIO(made)) as file:
                    heard = file.streams.audio[0]
                    self.assertEqual((heard.codec_context.name, heard.rate), (audio, rate))

    def test_what_is_no_sound_between_pictures_is_not_made_one(self):
        whole = clips.encode("mov", "libx264", "pcm_s16le", 70, 50, (320, 240), coder={
            "g": "25", "x264-params": "repeat-headers=1"})
        media, size = damage.boxes(whole)[b"mdat"]
        data = bytearray(whole[: media + size])
        sound = models_of(*moov_of(MemorySource(whole)))[1].track
        for at, length in zip(sound.offsets.tolist(), sound.sizes.tolist()):
            odd = length // 7 * 7 - 1  # no kind of samples has as many bytes
            data[at : at + length] = b"\x81" * odd + bytes(length - odd)
        done = damage.mended(self.folder, "x.mov", bytes(data))
        self.assertNotEqual(done.grade, "mended")

    def test_what_nothing_tells_is_a_doubt(self):
        whole = clips.encode("mov", "mjpeg", None, 70, 40, (320, 240))
        done = damage.mended(self.folder, "x.mov", whole[: damage.boxes(whole)[b"moov"][0]])
        self.assertEqual((done.grade, done.doubts), ("unproven", ("pace-guessed",)))
        self.assertEqual(frames_of(done.output.read_bytes())[0], frames_of(whole)[0])


class SoundTest(unittest.TestCase):
    def test_books_are_complete_codes(self):
        for name, letters in LENGTHS.items():
            lengths = [ord(letter) - 96 for letter in letters]
            self.assertEqual(sum(2.0 ** -n for n in lengths), 1.0, name)
            self.assertTrue(CODES[name])
        spectra, scale = lookups()
        self.assertTrue((spectra[1:] > 0).all() and (scale > 0).all())

    def test_frames_end_where_ffmpeg_says(self):
        spectra, scale = lookups()
        for rate in aac_frames.RATES:
            if rate == 88_200 or rate == 64_000:
                continue  # the same tables as their neighbours
            for layout, channels in (("mono", 1), ("stereo", 2)):
                with self.subTest(rate=rate, layout=layout):
                    bounds = aac_frames.bands(aac_frames.RATES.index(rate))
                    packets = sound(rate, layout)
                    good = 0
                    for packet, following in zip(packets, [*packets[1:], b""]):
                        data = np.frombuffer(packet + following + bytes(64), np.uint8)
                        end = aac_frames.frame_end_in(
                            data, 0, len(packet + following), channels, *bounds, spectra, scale)
                        good += end == len(packet)
                    self.assertGreaterEqual(good, len(packets) - 1)

    def test_noise_is_hardly_ever_two_frames_in_a_row(self):
        spectra, scale = lookups()
        bounds = aac_frames.bands(3)
        data = np.frombuffer(noise(60_000) + bytes(64), np.uint8)
        twice = 0
        for at in range(0, 50_000, 7):
            end = aac_frames.frame_end_in(data, at, 60_000, 2, *bounds, spectra, scale)
            twice += end > 0 and aac_frames.frame_end_in(data, end, 60_000, 2, *bounds, spectra,
                                                         scale) > 0
        self.assertEqual(twice, 0)


class WalkTest(unittest.TestCase):
    def items(self, data: bytes, start: int, stop: int, channels: int = 1):
        room = np.frombuffer(data + bytes(64), np.uint8)
        return walk_items(room, start, stop, True, 4, AVC, channels, aac_frames.bands(3), lookups(),
                          NO_PLAIN, 1 << 14)

    def test_every_sample_is_found_where_the_index_says(self):
        data = damage.clip()
        media, size = damage.boxes(data)[b"mdat"]
        view, moov = moov_of(MemorySource(data))
        models = models_of(view, moov)
        offsets, sizes, kinds, stopped = self.items(data, media + 8, media + size)
        self.assertEqual(stopped, media + size)
        self.assertEqual(int(sizes.sum()), size - 8)
        self.assertEqual(offsets[kinds == SOUND].tolist(), models[1].track.offsets.tolist())
        pictures = set(offsets[kinds == VIDEO].tolist())
        self.assertTrue(set(models[0].track.offsets.tolist()) <= pictures)

    def test_what_is_nothing_is_passed_over(self):
        data = damage.clip()
        media, size = damage.boxes(data)[b"mdat"]
        begin, stop = media + 8, media + size
        for foreign in (bytes(700), noise(3000), b"\0\0\0\1" * 200):
            torn = data[:begin] + foreign + data[begin:stop]
            offsets, _, _, _ = self.items(torn, begin, stop + len(foreign))
            self.assertEqual(int(offsets[0]), begin + len(foreign))

    def test_zeros_that_no_encoder_writes(self):
        unit = struct.pack(">I", 400) + b"\x65" + noise(399).replace(b"\0", b"\1")
        holed = unit[:100] + bytes(50) + unit[150:]
        ended = unit[:380] + bytes(24)
        data = np.frombuffer(unit + holed + ended, np.uint8)
        found = zeros_inside(data, np.array([0, 404, 808]), np.array([404, 404, 404]), 4)
        self.assertEqual(found.tolist(), [False, True, True])

    def test_pictures_are_shown_in_their_own_order(self):
        samples = Samples(list(range(7)), [1] * 7, [0] * 7, [True] * 7,
                          [True] + [False] * 3 + [True] + [False] * 2,
                          [0, 8, 2, 4, 0, 4, 2], [True, False, False, False, True, False, False])
        self.assertEqual(display_ranks(samples, 4).tolist(), [0, 3, 1, 2, 4, 6, 5])
        self.assertEqual(display_ranks(samples, 0).tolist(), list(range(7)))
        around = Samples(list(range(6)), low=[0, 6, 12, 2, 8, 14], anew=[True] + [False] * 5)
        self.assertEqual(display_ranks(around, 4).tolist(), list(range(6)))

    def test_exp_golomb_codes(self):
        bits = Bits(bytes([0b10100110, 0b01000010, 0b10000000]))
        self.assertEqual([bits.ue() for _ in range(5)], [0, 1, 2, 3, 4])
        self.assertEqual([Bits(bytes([b])).se() for b in (0b01000000, 0b01100000)], [1, -1])
        with self.assertRaises(FormatError):
            Bits(bytes(40)).ue()
        for cut in range(12):
            with self.assertRaises(FormatError):
                order_of_avc(b"\x67\x64\x00\x1f"[:cut] if cut < 4 else bytes(cut))


class ClipTest(FolderTest):
    """Every coding that is found without an index, with a sibling."""

    CASES = (("mp4", "libx264", "aac"), ("mov", "libx264", "pcm_s16le"), ("mp4", "libx265", "aac"),
             ("mov", "mjpeg", "pcm_s16le"), ("mp4", "libx264", None))

    def check(self, name: str, data: bytes, whole: bytes, sibling: bytes | None, frames: int):
        done = damage.mended(self.folder, name, data, *([sibling] if sibling else []))
        self.assertIsNotNone(done.output, (name, done.why))
        pictures, times, sound_s = damage.frames_of(done.output.read_bytes())
        truth, when, sound_was = damage.frames_of(whole)
        place = dict(zip(truth, when))
        self.assertGreaterEqual(len(pictures), frames, name)
        self.assertTrue(all(p in place for p in pictures), name)
        self.assertLess(max(abs(place[p] - t) for p, t in zip(pictures, times)), 0.1, name)
        if len(pictures) == len(truth) and sound_was:
            self.assertLess(abs((sound_s - times[-1]) - (sound_was - when[-1])), 0.04, name)
        return done

    def test_an_index_that_was_never_written(self):
        for container, video, audio in self.CASES:
            with self.subTest(video=video, audio=audio):
                whole = damage.clip(container, video, audio)
                sibling = damage.clip(container, video, audio, seed=71, frames=30)
                index, media = damage.boxes(whole)[b"moov"][0], damage.boxes(whole)[b"mdat"][0]
                name = f"{video} {audio}.{container}"
                data = whole[:media] + bytes(4) + whole[media + 4 : index]
                done = self.check(name, data, whole, sibling, 60)
                grade = "unproven" if video == "libx265" else "mended"
                self.assertEqual((done.grade, done.share), (grade, 1.0))
                self.assertEqual([c.code for c in done.changes], ["index-made", "index-lent"])

    def test_a_clip_that_was_cut_off_keeps_what_there_is(self):
        whole, front = damage.clip(), damage.clip(front=True)
        sibling = damage.clip(seed=71, frames=30)
        media, size = damage.boxes(whole)[b"mdat"]
        done = self.check("cut.mp4", whole[: media + int(size * 0.7)], whole, sibling, 36)
        self.assertAlmostEqual(done.share, 0.7, delta=0.05)
        self.assertIn("rest-cut-off", [c.code for c in done.changes])
        media, size = damage.boxes(front)[b"mdat"]
        done = self.check("front.mp4", front[: media + int(size * 0.7)], whole, None, 36)
        self.assertLess(done.share, 0.8)

    def test_its_own_index_is_followed_where_only_sizes_or_places_are_wrong(self):
        whole = damage.clip()
        media, _ = damage.boxes(whole)[b"mdat"]
        for name, data in (
                ("size.mp4", whole[:media] + struct.pack(">I", 999) + whole[media + 4 :]),
                ("moved.mp4", whole[:media] + box(b"free", bytes(600)) + whole[media:])):
            done = self.check(name, data, whole, None, 60)
            self.assertEqual([c.code for c in done.changes], ["sizes-corrected"])

    def test_what_zeros_hit_is_left_out_and_told_by_second(self):
        whole = damage.clip()
        sibling = damage.clip(seed=71, frames=30)
        media, size = damage.boxes(whole)[b"mdat"]
        at = media + size // 2 // 512 * 512
        data = whole[:at] + bytes(1024) + whole[at + 1024 : damage.boxes(whole)[b"moov"][0]]
        done = self.check("zeros.mp4", data, whole, sibling, 30)
        lost = next(c for c in done.changes if c.code == "samples-dropped")
        self.assertTrue(lost.values["seconds"])
        self.assertLess(done.share, 1.0)

    def test_a_gap_beside_plain_sound_is_no_longer_than_its_bytes(self):
        whole = damage.clip("mov", "libx264", "pcm_s16le")
        sibling = damage.clip("mov", "libx264", "pcm_s16le", seed=71, frames=30)
        media, size = damage.boxes(whole)[b"mdat"]
        at = media + size // 2 // 512 * 512
        data = whole[:at] + bytes(9000) + whole[at + 9000 : damage.boxes(whole)[b"moov"][0]]
        done = damage.mended(self.folder, "plain.mov", data, sibling)
        _, times, _ = damage.frames_of(done.output.read_bytes())
        self.assertLess(times[-1], 2.6)  # of 2.4 s

    def test_without_a_sibling_or_with_another_camera_nothing_is_made_up(self):
        whole = damage.clip()
        data = whole[: damage.boxes(whole)[b"moov"][0]]
        self.assertEqual(damage.mended(self.folder, "a.mp4", data).why, "index-reference-missing")
        other = damage.clip("mov", "mjpeg", "pcm_s16le")
        done = damage.mended(self.folder, "b.mp4", data, other)
        self.assertEqual((done.output, done.why), (None, "index-reference-other"))
        self.assertEqual(damage.mended(self.folder, "c.mp4", data, noise(5000)).output, None)

    def test_hostile_indexes(self):
        whole = damage.clip()
        rng = random.Random(8)
        at, size = damage.boxes(whole)[b"moov"]
        for number in range(12):
            data = bytearray(whole)
            for _ in range(20):
                data[at + rng.randrange(size)] = rng.randrange(256)
            done = damage.mended(self.folder, f"{number}.mp4", bytes(data), damage.clip(seed=71))
            self.assertTrue(done.output or done.why or done.error, number)


class IndexTest(unittest.TestCase):
    def test_tables_are_read_as_they_were_written(self):
        model = models_of(*moov_of(MemorySource(damage.clip())))[0]
        count = model.track.offsets.size
        with av.open(io.BytesIO(damage.clip())) as file:
            packets = [p for p in file.demux(video=0) if p.size]
        steps = packets[0].duration
        ahead = ahead_of(model.trak, count)
        shift = packets[0].pts - packets[0].dts
        told = np.zeros(count, np.int64) if ahead is None else ahead - ahead[0]
        self.assertEqual(told.tolist(), [p.pts - p.dts - shift for p in packets])
        keys = keys_of(model.trak, count)
        self.assertEqual(keys.tolist(), [p.is_keyframe for p in packets])
        self.assertEqual(model.step, steps)

    def test_offsets_are_moved_and_none_out_of_range(self):
        table = full(b"stco", struct.pack(">III", 2, 100, 7000))
        long = full(b"co64", struct.pack(">IQ", 1, 1 << 40))
        raw = box(b"moov", box(b"trak", box(b"mdia", box(b"minf", box(b"stbl", table, long)))))
        moved = moved_index(raw, 50)
        self.assertIn(struct.pack(">III", 2, 150, 7050), moved)
        self.assertIn(struct.pack(">IQ", 1, (1 << 40) + 50), moved)
        with self.assertRaises(FormatError):
            moved_index(raw, -101)
        self.assertEqual(joined([(3.0, 4.0), (0.0, 1.0), (1.2, 2.0)], 9), [[0.0, 2.0], [3.0, 4.0]])


class ZerosTest(unittest.TestCase):
    @examples(200)
    @given(st.lists(st.sampled_from([0, 0, 0, 1, 9]), min_size=1, max_size=60))
    def test_zeros_that_no_encoder_writes(self, values):
        """Against the plain reading: three in a row before another byte, or sixteen at the end."""
        body = bytes(values)
        data = np.frombuffer(b"\0\0\0\1" + body, np.uint8)
        found = zeros_inside(data, np.array([0]), np.array([data.size]), 4)[0]
        ended = len(body) - len(body.rstrip(b"\0"))
        self.assertEqual(found, b"\0\0\0" in body.rstrip(b"\0") or ended >= 16)
