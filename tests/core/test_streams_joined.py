"""Streams and chains put together, in this process and by a crew of others."""

from __future__ import annotations

import os
import random
import signal
import tempfile
import threading
import time
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.checks.grading import Grade
from needlewright.core.codes import Seam, SeamWord
from needlewright.core.contents import Stretches
from needlewright.core.errors import FormatError
from needlewright.core.finds import Find
from needlewright.core.formats.registry import formats
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.kernels.mp3_main_data import HEAD_BYTES, main_data
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.memory import MemorySource
from needlewright.core.stitching.base import Bench, Broken, Joined, joiner_for
from needlewright.core.stitching.chained.chains.chain_flac import _coded_number, _number_coded
from needlewright.core.stitching.chained.stream_grammars import (
    Adts,
    Mpeg,
    Program,
    Speech,
    Transport,
)
from needlewright.core.stitching.chained.stream_line import State, StreamLine
from needlewright.core.stitching.crew import STALE_S, WINDOW, Crew
from needlewright.core.stitching.pool import Pool
from needlewright.core.stitching.solving import HASTE, IN_VAIN, Rounds
from needlewright.core.stitching.team import Alone
from needlewright.core.stitching.trial_decodes import TrialDecodes
from needlewright.core.walks import Facts, Kind
from needlewright.demo import clips
from tests.core.test_stitching import UNIT, cut, laid, photo
from tests.examples import examples
from tests.support import finds_on


def stream(container: str, seed: int = 1, **options: Any) -> bytes:
    return clips.encode(container, "mpeg2video" if container == "vob" else "libx264",
                        "mp2" if container == "vob" else "aac", seed, 60, (480, 270), **options)


def sound(container: str, coding: str, seed: int = 1, seconds: float = 6.0) -> bytes:
    return clips.record(container, coding, seed, seconds)


class StreamsTest(unittest.TestCase):
    def joined(self, form: str, data: bytes, start: int = 0, stated: int | None = None):
        pool = Pool(MemorySource(data), UNIT, 0, np.zeros((0, 2), np.int64))
        list(pool.look())
        broken = Broken(1, "", form, ((start, UNIT),), stated=stated)
        return joiner_for(form).join(broken, Bench(pool, threading.Event(), 2))

    def bytes_of(self, data: bytes, joined) -> bytes:
        return b"".join(data[o : o + n] for o, n in joined.extents)

    def laid_padded(self, *pieces: bytes) -> bytes:
        """As drivers leave it: the last sector of a file is filled with zeros."""
        return laid(*(p + bytes(-len(p) % 512) for p in pieces))

    def test_streams_come_back_with_their_pieces_in_another_order(self):
        for form, mine, other in (
                ("ts", stream("mpegts"), stream("mpegts", 2)),
                ("aac", sound("adts", "aac"), photo(3)),
                ("mp3", sound("mp3", "libmp3lame"), photo(3)),
                ("flac", sound("flac", "flac"), sound("flac", "flac", 2))):
            total = len(mine) // UNIT
            a, b, c = cut(mine, total // 3, 2 * total // 3)
            data = self.laid_padded(photo(2), a, other, c, photo(5), b)
            joined = self.joined(form, data, data.find(a[:600]))
            self.assertIsNotNone(joined, form)
            self.assertEqual(self.bytes_of(data, joined), mine, form)
            self.assertTrue(joined.ended, form)

    def test_sound_in_step_with_others_of_its_encoder_is_proven_by_the_encoders_sum(self):
        """Frames of 384 bytes: every third cluster of all of them begins alike."""
        mine, *others = (sound("mp3", "libmp3lame", seed) for seed in (1, 2, 3, 4))
        total = len(mine) // UNIT
        a, b, c = cut(mine, total // 3, total // 3 + 6)
        pieces = [cut(o, total // 3)[1] for o in others]
        data = self.laid_padded(pieces[0], a, pieces[1], c, pieces[2], b)
        joined = self.joined("mp3", data, data.find(a[:600]))
        self.assertEqual(self.bytes_of(data, joined), mine)
        self.assertEqual({s.word for s in joined.seams}, {SeamWord.PROVEN})
        self.assertEqual({s.reasons[0].code for s in joined.seams}, {"checksum"})
        data = self.laid_padded(pieces[0], a, pieces[1], c, pieces[2])
        joined = self.joined("mp3", data, data.find(a[:600]))
        self.assertTrue(joined is None or any(
            s.word is SeamWord.LIKELY for s in joined.seams) or not joined.ended)

    def test_side_information_is_read_only_where_all_of_it_is(self):
        mine = np.frombuffer(sound("mp3", "libmp3lame"), np.uint8)
        first = int(np.flatnonzero((mine[:-1] == 0xFF) & (mine[1:] == 0xFB))[0])
        self.assertIsNotNone(main_data(mine[first : first + HEAD_BYTES]))
        for size in range(HEAD_BYTES):
            self.assertIsNone(main_data(mine[first : first + size]))

    def test_a_program_stream_ends_where_its_record_says(self):
        mine = stream("vob")
        a, b = cut(mine, len(mine) // UNIT // 2)
        data = laid(a, photo(2), b)
        joined = self.joined("mpg", data, stated=len(mine))
        self.assertEqual(self.bytes_of(data, joined), mine)

    def test_fragments_of_a_clip_by_their_numbers(self):
        mine, other = (clips.encode("mp4", seed=s, frames=120, size=(320, 180), options={
            "movflags": "empty_moov+default_base_moof", "frag_size": "20000"}) for s in (1, 2))
        exact = 0
        for part in (3, 4, 5, 6):  # of eight: a cut may fall into the few bytes of a box's head
            a, b = cut(mine, part * len(mine) // UNIT // 8)
            data = laid(a, other, b)
            joined = self.joined("mp4", data)
            exact += joined is not None and self.bytes_of(data, joined) == mine
        self.assertGreaterEqual(exact, 3)

    def test_fragments_in_any_order_among_those_of_others(self):
        made = [clips.encode("mp4", seed=s, frames=150, size=(320, 180), options={
            "movflags": "frag_keyframe+empty_moov+default_base_moof"})
            for s in (1, 2, 3)]
        mine = made[0]
        total = len(mine) // UNIT
        a, b, c, d = cut(mine, total // 4, total // 2, total - 3)
        rest = [cut(m, 3) for m in made[1:]]
        for second in (b, b""):
            data = laid(d, rest[0][1], second, rest[1][0], a, rest[1][1], c, rest[0][0])
            joined = self.joined_with_decoder("mp4", data, data.find(a))
            if second:
                self.assertEqual(self.bytes_of(data, joined), mine)
                self.assertEqual({s.word for s in joined.seams}, {SeamWord.PROVEN})
            self.assertEqual(joined is not None and joined.ended, bool(second))

    def joined_with_decoder(self, form: str, data: bytes, start: int):
        image = Path(self.enterContext(tempfile.TemporaryDirectory())) / "card.img"
        image.write_bytes(data)
        source = self.enterContext(ImageFile(image))
        decodes = TrialDecodes(source, threading.Event())
        self.addCleanup(decodes.close)
        pool = Pool(source, UNIT, 0, np.zeros((0, 2), np.int64))
        list(pool.look())
        return joiner_for(form).join(Broken(1, "", form, ((start, UNIT),)),
                                     Bench(pool, threading.Event(), 2, decodes))

    def test_a_decoder_chooses_among_streams_that_go_on_alike(self):
        """A table at each frame and a constant rate: recordings of one camera stand in step."""
        for form, place, made in (
                ("ts", 11, [stream("mpegts", s, coder={"preset": "medium"}) for s in (1, 2, 3, 4)]),
                ("aac", 18, [sound("adts", "aac", s, 12.0) for s in range(1, 9)])):
            mine = made[0]
            (a, b), *others = (cut(m, place) for m in made)
            data = self.laid_padded(a, photo(2, (320, 240)), *(o[1] for o in others), b)
            self.assertNotEqual(self.bytes_of(data, self.joined(form, data)), mine, form)
            joined = self.joined_with_decoder(form, data, 0)
            self.assertEqual(self.bytes_of(data, joined), mine, form)
            self.assertEqual({s.word for s in joined.seams}, {SeamWord.LIKELY}, form)

    def test_taken_in_any_steps_a_line_ends_where_the_stream_does(self):
        rng = random.Random(4)
        for grammar, mine in ((Transport(188), stream("mpegts")), (Program(), stream("vob")),
                              (Adts(), sound("adts", "aac")), (Mpeg(), sound("mp3", "libmp3lame"))):
            line = StreamLine(grammar, UNIT, len(mine))
            state, at, end = State(grammar.begin(mine[:UNIT]), b"", None, 0), 0, None
            while end is None:
                step = rng.choice((512, 1024, UNIT, 3 * UNIT))
                raw = np.frombuffer(mine[at : at + step].ljust(step, b"\0"), np.uint8)
                done = line.take(state, raw)
                self.assertFalse(done.refused, type(grammar).__name__)
                state, end, at = done.state, done.end, at + step
            self.assertEqual(at - step + end, len(mine))
            foreign = np.frombuffer(random.Random(1).randbytes(UNIT), np.uint8)
            middle = line.take(State(grammar.begin(mine[:UNIT]), b"", None, 0),
                               np.frombuffer(mine[:UNIT], np.uint8)).state
            self.assertTrue(line.take(middle, foreign).refused, type(grammar).__name__)
            rows = np.zeros((3, UNIT + 1), np.uint8)
            rows[0, 1:], rows[1, 1:] = np.frombuffer(mine[UNIT : 2 * UNIT], np.uint8), foreign
            scores, _ = line.rank(middle, rows)
            self.assertEqual(int(np.argmax(scores)), 0)

    @examples(60)
    @given(st.binary(min_size=1, max_size=3000), st.sampled_from(range(6)))
    def test_any_bytes_are_refused_or_taken(self, data, which):
        grammar = (Transport(188), Transport(192), Program(), Adts(), Mpeg(), Speech(False))[which]
        line = StreamLine(grammar, 1024, None)
        state = State(0, b"", None, 0)
        for at in range(0, len(data), 1024):
            raw = np.frombuffer(data[at : at + 1024].ljust(1024, b"\0"), np.uint8)
            done = line.take(state, raw)
            if done.refused or done.end is not None:
                self.assertTrue(done.end is None or 0 < done.end <= 1024)
                break
            self.assertEqual(done.state.done, state.done + 1024)
            state = done.state

    @given(st.integers(0, 0xD7FF) | st.integers(0xE000, 0x10FFFF))
    def test_frame_numbers_are_coded_like_letters(self, value):
        self.assertEqual(_number_coded(value), chr(value).encode())
        self.assertEqual(_coded_number(_number_coded(value) + b"\0" * 8, 0)[0], value)


class BeginningsTest(unittest.TestCase):
    """What only looks like the beginning of a file."""

    def test_a_frame_inside_a_stream_is_none(self):
        data = sound("adts", "aac")
        form, source = formats()["aac"], MemorySource(bytes(UNIT) + data)
        self.assertEqual(form.walk(source, UNIT, source.size).start, UNIT)
        size = (data[3] & 3) << 11 | data[4] << 3 | data[5] >> 5
        with self.assertRaises(FormatError):
            form.walk(source, UNIT + size, source.size)

    def test_a_file_whose_frames_stand_in_step_is_another(self):
        """48 kHz at 128 kbit/s: 384 bytes a frame, so that clusters fall into step."""
        mine, other = (clips.record("mp3", "libmp3lame", seed, 8.0) for seed in (1, 2))
        length = 3 * (1 << 14)
        data = mine[:length] + other
        walk = formats()["mp3"].walk(MemorySource(data), 0, len(data))
        self.assertIsNotNone(walk.broken)
        self.assertLessEqual(walk.broken.offset, length + 512)

    def test_a_photo_behind_a_first_piece_is_found_though_a_frame_reaches_into_it(self):
        for container, coding in (("mp3", "libmp3lame"), ("adts", "aac")):
            mine = sound(container, coding)
            whole = [photo(20 + i, (320, 240)) for i in range(3)]
            for at in (11, 12, 13):
                a, b = cut(mine, at)
                data = laid(a, whole[0], b, whole[1], mine, whole[2])
                found = {f.start for f in finds_on(MemorySource(data)) if f.format == "jpeg"
                         and f.grade is Grade.WHOLE}
                wanted = {data.find(w) for w in whole}
                self.assertEqual(found & wanted, wanted, (container, at))

    def test_the_middle_of_a_transport_stream_is_a_scrap_and_a_segment_is_none(self):
        mine, form = stream("mpegts"), formats()["mpegts"]
        packets = [mine[at : at + 188] for at in range(0, len(mine), 188)]
        table = next(i for i, p in enumerate(packets) if p[:3] == b"G@\0" and p[3] & 15)
        whole = packets[table + 2][1] & 0x40
        middle = next(i for i in range(table + 3, len(packets)) if not packets[i][1] & 0x40)
        for first, scrap in ((table + 2, not whole), (middle, True)):
            data = bytes(UNIT) + b"".join((*packets[table : table + 2], *packets[first:]))
            walk = form.walk(MemorySource(data), UNIT, len(data))
            self.assertEqual(walk.variant.kind is Kind.SCRAP, bool(scrap))
        self.assertTrue(whole)

    def test_scraps_are_told_apart_and_vanish_with_their_file(self):
        mine = stream("vob")
        a, b = cut(mine, len(mine) // UNIT // 2)
        whole = [photo(20 + i, (320, 240)) for i in range(9)]
        with tempfile.TemporaryDirectory() as scratch:
            image = Path(scratch) / "card.img"
            image.write_bytes(laid(*whole[:5], a, *whole[5:], b))
            job, row = job_for_image(Path(scratch) / "job", image)
            with job:
                list(run_search(job, row, Plan(("signatures",)), threading.Event()))
                scraps = [r for r in job.matching() if r.kind == Kind.SCRAP]
                self.assertEqual([r.start for r in scraps], [image.stat().st_size - len(
                    b + bytes(-len(b) % UNIT))])
                groups = {i[7] for i in job.find_ids() if i[0] == scraps[0].id}
                self.assertEqual(groups, {"scraps"})
                stitched = self._whole_one(job, row, mine, a, scraps[0].start)
                self.assertEqual(job.record(stitched).row.grade, "whole")
                self.assertFalse([r for r in job.matching() if r.kind == Kind.SCRAP])

    def _whole_one(self, job, row, mine: bytes, a: bytes, second: int) -> int:
        """As if the step had put it together and proven it."""
        origin = next(r for r in job.matching() if r.format == "mpg")
        record = job.record(origin.id)
        extents = ((origin.start, len(a)), (second, len(mine) - len(a)))
        find = Find("mpg", Kind.VIDEO, "mpg", Stretches(extents), Grade.WHOLE, 1.0,
                    ("stitching",), record.checks, Facts(), seams=(Seam(len(a), SeamWord.PROVEN),),
                    joined_from=job.places.break_of(origin.id)[0])
        return job.add_finds(row.id, [find])[0]


class LyingTest(unittest.TestCase):
    """Indexes and marks that lie: bounded, and nothing comes of them."""

    def joined(self, form: str, data: bytes):
        pool = Pool(MemorySource(data), UNIT, 0, np.zeros((0, 2), np.int64))
        list(pool.look())
        return joiner_for(form).join(Broken(1, "", form, ((0, UNIT),)), Bench(
            pool, threading.Event(), 2))

    def test_an_index_of_places_that_no_medium_has(self):
        clip = bytearray(clips.encode("mov", frames=40, size=(320, 180),
                                      options={"movflags": "faststart"}))
        at = clip.find(b"stco") + 12
        count = int.from_bytes(clip[at - 4 : at], "big")
        for index in range(count // 2, count):  # a gap of four thousand million bytes
            clip[at + 4 * index : at + 4 * index + 4] = (0xFFFF_0000 + index).to_bytes(4, "big")
        self.assertIsNone(self.joined("mov", laid(bytes(clip))))

    def test_media_of_one_cluster_over_and_over(self):
        head = clips.encode("mp4", frames=40, size=(320, 180))[: 2 * UNIT]
        for cluster in (b"moov" * 1024, head[UNIT:], b"OggS" * 1024, b"\xff" * UNIT):
            self.assertIsNone(self.joined("mp4", head + cluster * 300))
        pool = Pool(MemorySource(b"moov" * (1 << 18)), UNIT, 0, np.zeros((0, 2), np.int64))
        self.assertLessEqual(len(pool.marks(b"moov")), 1 << 19)

    def test_frames_of_flac_that_could_be_anywhere(self):
        flac = sound("flac", "flac")
        a = flac[: 5 * UNIT]
        frame = a[a.rfind(b"\xff\xf8") :][:600]
        joined = self.joined("flac", a + (frame * 40)[: 4 * UNIT] * 60)
        self.assertTrue(joined is None or not joined.ended)


class CrewTest(unittest.TestCase):
    def setUp(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.mine = [photo(1), photo(2)]
        a, b = (cut(p, 11) for p in self.mine)
        heads = [photo(30 + i)[: 3 * UNIT] for i in range(3)]
        image = folder / "card.img"
        image.write_bytes(laid(a[0], b[0], a[1], *heads, b[1]))
        self.source = self.enterContext(ImageFile(image))
        self.pool = Pool(self.source, UNIT, 0, np.zeros((0, 2), np.int64))
        list(self.pool.look())
        data = image.read_bytes()
        starts = [data.find(p[:600]) for p in (*self.mine, *heads)]
        self.finds = [Broken(i, "", "jpeg", ((at, UNIT),)) for i, at in enumerate(starts)]
        self.crew = Crew(self.pool, 2)
        self.addCleanup(self.crew.close)

    def run_all(self, team) -> dict[int, bytes]:
        rounds = Rounds(self.pool, list(self.finds), threading.Event(), team)
        out = {}
        for solved in rounds.run():
            if solved.joined is not None and solved.joined.ended:
                rounds.keep(solved.joined)
                out[solved.broken.number] = b"".join(
                    self.source.read_at(o, n) for o, n in solved.joined.extents)
        return out

    def test_a_crew_brings_what_one_alone_does(self):
        self.assertEqual(self.run_all(self.crew), dict(enumerate(self.mine)))
        self.assertFalse(self.pool.free[: len(self.mine[0]) // UNIT].any())

    def test_a_slow_machine_finds_the_same(self):
        """The clock runs ten times faster than the work is done."""
        def alone() -> Alone:
            self.pool = Pool(self.source, UNIT, 0, np.zeros((0, 2), np.int64))
            list(self.pool.look())
            return Alone(self.pool, threading.Event())

        usual, real = self.run_all(alone()), time.monotonic
        with mock.patch("time.monotonic", lambda: 10 * real()):
            self.assertEqual(self.run_all(alone()), usual)
        self.assertEqual(len(usual), 2)

    def test_members_hold_still_while_nobody_looks_after_them(self):
        self.crew.give(self.finds[0], 0, 1.0)
        while not self.crew.results(0.05):  # its kernels are loaded then
            pass
        self.crew.give(self.finds[2], 2, 1.0)
        self.crew.results(0.05)
        time.sleep(4 * STALE_S)  # nobody asks: what a paused search does
        before = self._used()
        time.sleep(0.3)
        self.assertLessEqual(self._used() - before, 0.08)

    def _used(self) -> float:
        """Seconds of processor that the members had."""
        ticks = 0
        for member in self.crew._members:
            told = Path(f"/proc/{member.process.pid}/stat").read_text().rpartition(")")[2].split()
            ticks += int(told[11]) + int(told[12])
        return ticks / os.sysconf("SC_CLK_TCK")

    def test_one_that_dies_costs_one_find(self):
        self.crew.give(self.finds[0], 0, 1.0)
        os.kill(self.crew._members[0].process.pid, signal.SIGKILL)
        done = []
        while not done:
            done = self.crew.results(0.05)
        self.assertEqual(done, [(self.finds[0], None)])
        self.assertEqual(set(self.run_all(self.crew)), {0, 1})

    def test_after_many_in_vain_less_time_is_spent(self):
        given = []

        class Team(Alone):
            def give(self, broken, effort, patience):
                given.append(patience)
                super().give(broken, effort, patience)

        pool = Pool(MemorySource(bytes(8 * UNIT)), UNIT, 0, np.zeros((0, 2), np.int64))
        nothing = [Broken(i, "", "none", ((0, UNIT),)) for i in range(IN_VAIN + 5)]
        rounds = Rounds(pool, nothing, threading.Event(), Team(pool, threading.Event()))
        list(rounds.run())
        each = [1.0] * IN_VAIN + [HASTE] * 5
        self.assertEqual(given, 2 * each)  # in a small pool looking near is looking everywhere


class _Jumbled:
    """A team that is done with what it was given in any order, and tells of each find what it was
    asked, and which files it knew of."""

    window, room = WINDOW, True

    def __init__(self, seed: int) -> None:
        self._chance, self._out = random.Random(seed), []
        self.given: list[tuple[int, int, float, int]] = []
        self._taken = 0

    def give(self, broken, effort, patience):
        self.given.append((broken.number, effort, patience, self._taken))
        seams = (Seam(UNIT, SeamWord.PROVEN, ()),) if broken.number % 3 == 0 and effort else ()
        joined = Joined(((broken.start, UNIT),), seams, bool(seams))
        self._out.append((broken, joined if seams or broken.number % 2 else None))

    def results(self, wait_s):
        self._chance.shuffle(self._out)
        done = [self._out.pop() for _ in range(self._chance.randint(0, len(self._out)))]
        return done

    def take(self, extents):
        self._taken += 1


class OrderTest(unittest.TestCase):
    def test_it_makes_no_difference_who_is_done_first(self):
        told = []
        for seed in range(12):
            pool = Pool(MemorySource(bytes(90 * UNIT)), UNIT, 0, np.zeros((0, 2), np.int64))
            finds = [Broken(i, "", "none", ((i * UNIT, UNIT),)) for i in range(80)]
            team, events = _Jumbled(seed), []
            rounds = Rounds(pool, finds, threading.Event(), team)
            for solved in rounds.run():
                if solved.joined is not None and solved.joined.ended:
                    rounds.keep(solved.joined)
                if solved.broken is not None:
                    events.append(solved.broken.number)
            self.assertEqual(sorted({*events}), list(range(80)))
            told.append((team.given, events, rounds.solved))
        self.assertEqual(told, [told[0]] * 12)
        self.assertTrue(any(patience == HASTE for _, _, patience, _ in told[0][0]))
        self.assertGreater(len({known for *_, known in told[0][0]}), 10)


if __name__ == "__main__":
    unittest.main()
