"""Pieces put together: photos by their rows, clips by their index, pictures by checksums."""

from __future__ import annotations

import io
import json
import os
import random
import subprocess
import sys
import tempfile
import threading
import unittest
from itertools import pairwise
from pathlib import Path

import numpy as np
from PIL import Image

from needlewright.core.codes import Seam, SeamWord
from needlewright.core.contents import Place
from needlewright.core.delivery.bag import deliver
from needlewright.core.formats.jpeg_scans import decode_scan, make_grids, scan_plan
from needlewright.core.formats.jpeg_segments import read_headers
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.kernels import jpeg_trials as trials
from needlewright.core.kernels.jpeg_bits import scan_end
from needlewright.core.search.events import Ending, Finished
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.memory import MemorySource
from needlewright.core.stitching.base import REFUSED, Bench, Broken, Joined, joiner_for
from needlewright.core.stitching.pool import Pool, voted_grid
from needlewright.core.stitching.solving import Rounds
from needlewright.core.stitching.team import Alone
from needlewright.demo import clips, photos, scenes
from needlewright.wording import seams as wording
from needlewright.wording.bag import words_for
from tests.wording.test_wording import codes_given_to

UNIT = 4096


def photo(seed: int, size: tuple[int, int] = (900, 700), **options: object) -> bytes:
    """A drawn photo with a sensor's grain, so that its data are as dense as a camera's."""
    drawn = np.asarray(scenes.draw_photo(seed, *size, "Fernbeck Valley"), np.float32)
    grain = np.random.default_rng(seed).normal(0, 3, drawn.shape)
    picture = Image.fromarray((drawn + grain).clip(0, 255).astype(np.uint8))
    return photos.encode_photo(picture, "2031:05:12 05:58:12", seed, 88, **options)


def laid(*pieces: bytes, seed: int = 1) -> bytes:
    """Pieces one behind another, each filled up to whole clusters with noise."""
    rng = random.Random(seed)
    return b"".join(p + rng.randbytes(-len(p) % UNIT) for p in pieces)


def cut(data: bytes, *clusters: int) -> list[bytes]:
    edges = [0, *(c * UNIT for c in clusters), len(data)]
    return [data[a:b] for a, b in pairwise(edges)]


class ScanTest(unittest.TestCase):
    """The resumed decoder against the one that decodes a scan in one go."""

    def line(self, data: bytes):
        source = MemorySource(data)
        headers, scan, begin = read_headers(source)
        grids = make_grids(headers.frame)
        raw = np.frombuffer(data[begin:], np.uint8)
        whole = decode_scan(headers, scan, grids, raw[: scan_end(raw)])
        plan, tables = scan_plan(headers, scan, grids)
        quantisers = [headers.quantisers[c.quantiser] for c in headers.frame.components]
        return trials.prepare(plan, tables, quantisers), raw, whole

    def test_taken_in_any_steps_it_ends_where_one_pass_does(self):
        grey = io.BytesIO()
        Image.open(io.BytesIO(photo(5))).convert("L").save(grey, "JPEG", quality=80)
        rng = random.Random(3)
        for data in (photo(1), photo(2, restart_rows=1), grey.getvalue()):
            tables, raw, whole = self.line(data)
            state, at = tables.begin(), 0
            while True:
                step = rng.choice((1, 2, 3, 511, 512, 4096))
                done = trials.advance(tables, state, raw[at : at + step], 1 << 60)
                if done.code not in (trials.OPEN, trials.CLOSING):
                    break
                state, at = done.state, at + step
            self.assertEqual(done.code, trials.COMPLETE)
            self.assertEqual(done.state.mcu, whole.result.mcus_done)
            self.assertEqual(raw[at + done.marker : at + done.marker + 2].tobytes(), b"\xff\xd9")

    def test_the_own_cluster_ranks_first_and_trials_agree_with_advances(self):
        tables, raw, _ = self.line(photo(1))
        _, other, _ = self.line(photo(9))
        state = tables.begin()
        for at in range(0, 10 * UNIT, UNIT):
            state = trials.advance(tables, state, raw[at : at + UNIT], 1 << 60).state
        rows = np.zeros((12, UNIT + 1), np.uint8)
        for i in range(12):
            source = raw if i < 4 else other
            rows[i, 1:] = source[(10 + i) * UNIT :][:UNIT]
        rows[11, 1:] = 7  # a run of one byte
        until = state.mcu + tables.plan.mcus_per_row
        codes, scores, _ = trials.try_candidates(tables, state, rows, until, -1e9)
        good = np.where(np.isin(codes, list(trials.REFUSALS)), REFUSED, scores)
        self.assertEqual(int(np.argmax(good)), 0)
        self.assertEqual(codes[11], trials.CONSTANT)
        for i in range(11):
            one = trials.advance(tables, state, rows[i, 1:].copy(), until)
            self.assertEqual((one.code, one.score), (codes[i], scores[i]))

    def test_nothing_makes_it_leave_its_arrays_or_run_on(self):
        tables, raw, _ = self.line(photo(2, restart_rows=1))
        rng = np.random.default_rng(1)
        state = trials.advance(tables, tables.begin(), raw[: 5 * UNIT], 1 << 60).state
        rows = rng.integers(0, 256, (300, UNIT + 1)).astype(np.uint8)
        rows[::3] = np.where(rng.random((100, UNIT + 1)) < 0.5, 0xFF, rows[::3])
        rows[1::3, 1:] = np.resize(raw[5 * UNIT :], (100, UNIT)) ^ (
            rng.random((100, UNIT)) < 0.001).astype(np.uint8)
        codes, scores, mcus = trials.try_candidates(tables, state, rows, 1 << 60, -1e9)
        self.assertTrue(np.isfinite(scores).all() and (codes <= trials.UNLIKE).all())
        self.assertTrue((mcus + state.mcu <= tables.plan.mcus).all())


    def test_without_the_compiler_no_index_is_out_of_bounds(self):
        """As plain Python a kernel raises where compiled code would read what is not its own."""
        name = "tests.core.test_stitching.ScanTest.test_nothing_makes_it_leave_its_arrays_or_run_on"
        done = subprocess.run(
            [sys.executable, "-m", "unittest", name], capture_output=True, text=True,
            env={**os.environ, "NUMBA_DISABLE_JIT": "1"}, cwd=Path(__file__).parents[2])
        self.assertEqual(done.returncode, 0, done.stderr[-2000:])


class PoolTest(unittest.TestCase):
    def test_starts_of_files_vote_for_a_grid(self):
        starts = [3 * 512 + 8192 * i for i in (0, 1, 4, 9, 11, 12, 20, 31, 33, 40, 77)]
        self.assertEqual(voted_grid(starts, 512), (8192, 1536))
        self.assertEqual(voted_grid(starts[:3], 512), (512, 0))
        self.assertEqual(voted_grid(starts[:5], 512), (4096, 1536))
        self.assertEqual(voted_grid([*starts[:5], 512], 512), (512, 0))

    def test_what_others_own_is_no_piece_and_near_ones_come_first(self):
        data = random.Random(1).randbytes(40 * UNIT)
        data = data[: 9 * UNIT] + bytes(UNIT) + data[10 * UNIT :]
        pool = Pool(MemorySource(data), UNIT, 0, np.array([[0, 5 * UNIT + 1]], np.int64))
        list(pool.look())
        self.assertFalse(pool.free[:6].any() or pool.free[9])
        self.assertEqual(pool.nearest(12, 6).tolist(), [10, 11, 13, 14, 15, 16])
        self.assertEqual(pool.run(6, 9), 9)  # a blank one may stand in line
        self.assertTrue(pool.in_line(9) and not pool.in_line(2))
        pool.take([(20 * UNIT, 3 * UNIT - 1)])
        self.assertEqual([n for n in range(19, 24) if pool.is_free(n)], [19, 23])


    def test_only_what_is_proven_leaves_the_pool(self):
        pool = Pool(MemorySource(bytes(8 * UNIT)), UNIT, 0, np.zeros((0, 2), np.int64))
        rounds = Rounds(pool, [], threading.Event(), Alone(pool, threading.Event()))
        for at, word in ((0, SeamWord.LIKELY), (3, SeamWord.PROVEN)):
            rounds.keep(Joined(((at * UNIT, 2 * UNIT),), (Seam(UNIT, word),), True))
        self.assertEqual(np.flatnonzero(~pool.free).tolist(), [3, 4])
        self.assertEqual(rounds.solved, 2)


class JoinTest(unittest.TestCase):
    def joined(self, form: str, data: bytes, start: int, effort: int = 2):
        pool = Pool(MemorySource(data), UNIT, 0, np.zeros((0, 2), np.int64))
        list(pool.look())
        broken = Broken(1, "", form, ((start, UNIT),))
        return joiner_for(form).join(broken, Bench(pool, threading.Event(), effort))

    def bytes_of(self, data: bytes, joined) -> bytes:
        return b"".join(data[o : o + n] for o, n in joined.extents)

    def test_photos_come_back_in_any_order_of_their_pieces(self):
        for options in ({}, {"restart_rows": 1}):
            mine, other = photo(1, **options), photo(2)
            a, b, c = cut(mine, 9, 23)
            x, y = cut(other, 14)
            for pieces in ((a, x, b, y, c), (c, x, a, y, b), (x, b, c, y, a)):
                data = laid(*pieces)
                joined = self.joined("jpeg", data, data.find(a[:600]))
                self.assertTrue(joined.ended)
                self.assertEqual(self.bytes_of(data, joined), mine)
                self.assertEqual({s.word for s in joined.seams}, {SeamWord.PROVEN})

    def test_progressive_photos_scan_after_scan(self):
        mine = photo(1, progressive=True)
        a, b = cut(mine, 13)
        data = laid(a, photo(2), b, photo(4, progressive=True))
        joined = self.joined("jpeg", data, 0, effort=0)
        self.assertTrue(joined.ended)
        self.assertEqual(self.bytes_of(data, joined), mine)

    def test_pieces_within_any_scan_among_those_of_others_of_the_same_size(self):
        mine, other = photo(1, progressive=True), photo(4, progressive=True)
        count = -(-len(mine) // UNIT)
        x, y = cut(other, count // 2)
        for places in ((2, count // 3), (count // 4, count // 2), (count // 2, count - 2)):
            a, b, c = cut(mine, *places)
            data = laid(c, x, a, photo(2), b, y)
            joined = self.joined("jpeg", data, data.find(a[:600]))
            self.assertTrue(joined.ended, places)
            self.assertEqual(self.bytes_of(data, joined), mine, places)
            self.assertEqual({s.word for s in joined.seams}, {SeamWord.PROVEN}, places)
            data = laid(x, a, photo(2), c, y)
            joined = self.joined("jpeg", data, data.find(a[:600]))
            self.assertTrue(joined is None or not joined.ended, places)

    def test_a_bar_across_the_bottom_is_no_cut(self):
        barred = []
        for seed in (1, 2, 4):
            drawn = Image.open(io.BytesIO(photo(seed))).convert("L")
            rough = Image.effect_noise((drawn.width, 34), 90)
            drawn.paste(rough, (0, drawn.height - 34))
            out = io.BytesIO()
            drawn.save(out, "JPEG", quality=88)
            barred.append(out.getvalue())
        mine, *others = barred
        a, b, c = cut(mine, 9, -(-len(mine) // UNIT) - 1)
        tails = [cut(o, -(-len(o) // UNIT) - 4)[1] for o in others]
        for pieces in ((a, tails[0], b + c, tails[1]), (a, tails[0], b, tails[1], c)):
            data = laid(*pieces)
            joined = self.joined("jpeg", data, 0)
            self.assertTrue(joined.ended)
            self.assertEqual(self.bytes_of(data, joined), mine)

    def test_headers_in_two_pieces(self):
        mine = photo(3)
        a, b = cut(mine, 1)
        data = laid(a, photo(4), b)
        self.assertEqual(self.bytes_of(data, self.joined("jpeg", data, 0)), mine)

    def test_a_photo_with_a_piece_missing_does_not_end(self):
        a, _, c = cut(photo(1), 9, 23)
        data = laid(a, photo(2), c, photo(6))
        joined = self.joined("jpeg", data, 0)
        self.assertTrue(joined is None or not joined.ended)

    def test_pictures_with_checksums(self):
        out = io.BytesIO()
        Image.open(io.BytesIO(photo(4, (500, 400)))).save(out, "PNG")
        a, b, c = cut(out.getvalue(), 20, 45)
        data = laid(a, photo(2), c, b)
        self.assertEqual(self.bytes_of(data, self.joined("png", data, 0)), out.getvalue())

    def test_clips_by_their_index_wherever_it_stands(self):
        for options in ({}, {"movflags": "faststart"}):
            clip = clips.encode("mp4", frames=60, size=(480, 270), options=options)
            total = len(clip) // UNIT
            a, b, c = cut(clip, total // 3, 2 * total // 3)
            data = laid(a, photo(2), c, photo(5), b)
            joined = self.joined("mp4", data, 0)
            self.assertTrue(joined.ended)
            exact = [s for s in joined.seams if s.word is SeamWord.PROVEN]
            if len(exact) == len(joined.seams):
                self.assertEqual(self.bytes_of(data, joined), clip)

    def test_heads_without_bodies_end_soon_and_lead_nowhere(self):
        data = laid(*(photo(s)[: 3 * UNIT] for s in range(10, 16)), b"\xa5" * (60 * UNIT))
        for start in range(0, 18 * UNIT, 3 * UNIT):
            joined = self.joined("jpeg", data, start)
            self.assertTrue(joined is None or not joined.ended)


class StepTest(unittest.TestCase):
    """The step itself, on a card without a file system."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.mine = [photo(1), photo(2), photo(8)]
        self.whole = [photo(20 + i, (320, 240)) for i in range(9)]
        a, b = cut(self.mine[0], 11), cut(self.mine[1], 17, 30)
        lost = cut(self.mine[2], 8, 12)
        data = laid(*self.whole[:3], a[0], self.whole[3], b[0], b[1][: 5 * UNIT], a[1],
                    *self.whole[4:6], b[1][5 * UNIT :], self.whole[6], b[2], lost[0],
                    self.whole[7], lost[2], self.whole[8])
        self.image = self.folder / "card.img"
        self.image.write_bytes(data)

    def run_steps(self, *names: str, stop: threading.Event | None = None) -> tuple[Job, list]:
        job, row = job_for_image(self.folder / "job", self.image)
        self.addCleanup(job.close)
        return job, list(run_search(job, row, Plan(names), stop or threading.Event()))

    def test_what_was_in_pieces_is_whole_and_the_rest_is_as_it_was(self):
        job, _ = self.run_steps("signatures")
        before = {r.id: (r.grade, r.size) for r in job.matching()}
        job.close()
        job, _ = self.run_steps("stitching")
        rows = job.matching()
        stitched = [job.record(r.id) for r in rows if "stitching" in r.found_by]
        with ImageFile(self.image) as source:
            made = {r.content.open(Place(source)).read_at(0, r.row.size): r for r in stitched}
        for data, seams in ((self.mine[0], 1), (self.mine[1], 2)):
            record = made[data]
            self.assertEqual(record.row.grade, "whole")
            self.assertEqual([s.word for s in record.seams], [SeamWord.PROVEN] * seams)
            for seam in record.seams:
                self.assertRegex(wording.describe_seam(seam), r"^At .*: proven; .*\.$")
        self.assertFalse(any(r.row.grade == "whole" for d, r in made.items()
                             if d not in self.mine[:2]))
        after = {r.id: (r.grade, r.size) for r in rows}
        # Of the two only the whole file is listed: no first piece, no thumbnail, no scrap.
        self.assertEqual({n: before[n] for n in before if n in after},
                         {n: after[n] for n in before if n in after})
        for record in stitched:
            inside = [r for r in rows if r.id != record.row.id and any(
                at is not None and at <= r.start < at + length
                for at, length in record.content.extents)]
            self.assertEqual([r.id for r in inside if record.row.grade == "whole"], [])
        list(deliver(job, rows, self.folder / "bag", words_for(job), threading.Event()))
        told = json.loads((self.folder / "bag" / "finds.json").read_text())["finds"]
        mine = next(f for f in told if f["id"] == made[self.mine[1]].row.id)
        self.assertEqual([s["word"] for s in mine["seams"]], ["proven", "proven"])
        self.assertTrue(all(s["reasons"] and 0 < s["at"] < mine["size"] for s in mine["seams"]))
        job.close()
        job, _ = self.run_steps("stitching")  # once more: nothing is there twice
        self.assertEqual(len(job.matching()), len(rows))
        job.close()
        job, _ = self.run_steps("signatures")  # its first piece is known to be one
        self.assertEqual([r.id for r in job.matching()], [r.id for r in rows])

    def test_it_stops_when_told_and_says_so(self):
        self.run_steps("signatures")[0].close()
        stop = threading.Event()
        stop.set()
        job, events = self.run_steps("stitching", stop=stop)
        self.assertFalse([r for r in job.matching() if "stitching" in r.found_by])
        endings = [e.ending for e in events if isinstance(e, Finished)]
        self.assertIn(endings, ([], [Ending.STOPPED]))

    def test_every_reason_has_a_sentence(self):
        self.assertEqual(codes_given_to({"Reason"}, 0) - set(wording.REASONS), set())


if __name__ == "__main__":
    unittest.main()
