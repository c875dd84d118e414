"""Idle decoders are taken over by the next pool, and ended when nobody wants them."""

from __future__ import annotations

import unittest
from unittest import mock

from needlewright.core.checks import spares
from needlewright.core.checks.decoding import SPARES, DecodeRequest, DecoderPool
from needlewright.core.sources.memory import MemorySource
from tests.support import jpeg, scene

PICTURE = jpeg(scene(3, 64, 48))


class SparesTest(unittest.TestCase):
    def used(self, pool: DecoderPool) -> list[int]:
        """The processes of `pool` after it has decoded a picture."""
        pool.submit(1, DecodeRequest(MemorySource(PICTURE), ((0, len(PICTURE)),), "JPEG", 1))
        found = {}
        while pool.pending:
            found |= dict(pool.results(1.0))
        self.assertTrue(found[1].ok)
        return pool.processes()

    def test_the_next_pool_takes_the_same(self):
        first = DecoderPool(1)
        mine = self.used(first)
        first.close()
        second = DecoderPool(1)
        self.addCleanup(second.close)
        self.assertEqual(self.used(second), mine)

    def test_only_the_same_use_takes_them_and_the_oldest_goes_first(self):
        with mock.patch.object(SPARES, "any_use", False):
            pools = [DecoderPool(1, use=use) for use in ("search a", "mended a", "search b")]
            mine = {pool._use: (self.used(pool), pool._workers[0].process) for pool in pools}
            for pool in pools:
                pool.close()
            for use in ("search b", "mended a", "search c"):
                pool = DecoderPool(1, use=use)
                self.addCleanup(pool.close)
                taken = self.used(pool)
                self.assertEqual([u for u, (pids, _) in mine.items() if pids == taken],
                                 [use] if use in mine else [], use)
            with mock.patch.object(spares, "MOST", 0):
                last = DecoderPool(1)
                self.used(last)
                last.close()
            self.assertIsNotNone(mine["search a"][1].poll(), "the one that was left first")

    def test_one_at_work_is_ended_and_a_dead_one_is_not_taken(self):
        pool = DecoderPool(1)
        self.used(pool)
        process = pool._workers[0].process
        pool.submit(2, DecodeRequest(MemorySource(PICTURE), ((0, len(PICTURE)),), "JPEG", 1))
        pool.close()
        self.assertIsNotNone(process.poll())
        idle = DecoderPool(1)
        self.used(idle)
        process = idle._workers[0].process
        idle.close()
        process.kill()
        process.wait()
        third = DecoderPool(1)
        self.addCleanup(third.close)
        self.assertNotIn(process.pid, self.used(third))

    def test_what_nobody_takes_is_ended(self):
        pool = DecoderPool(1)
        self.used(pool)
        process = pool._workers[0].process
        with mock.patch.object(spares, "KEPT_S", 0.0):
            pool.close()
            SPARES._over()
        self.assertIsNotNone(process.poll())


if __name__ == "__main__":
    unittest.main()
