"""Forecasts of made media: what they hold, how sure, and what is said of them."""

import threading
import unittest

import numpy as np

from needlewright.core.codes import BlockContent, Stopped
from needlewright.core.imaging.forecast import content_of, forecast, interval
from needlewright.standins.faults import Faults
from needlewright.standins.start import CardReader
from needlewright.wording import forecast as words
from tests.support import FolderTest, camera_jpeg, noise, png, scene

TEXT = b"05:58;Reedmouth weir;3;mist, a heron\n" * 200


def kind(data: bytes) -> BlockContent:
    return content_of(np.frombuffer(data[:4096], np.uint8))


class ContentTest(unittest.TestCase):
    def test_blocks_are_what_they_look_like(self):
        photo = camera_jpeg(1)
        for data, want in ((bytes(4096), BlockContent.BLANK), (b"\xff" * 4096, BlockContent.BLANK),
                           (TEXT, BlockContent.TEXT), (noise(4096), BlockContent.RANDOM),
                           (bytes(range(64)) * 64, BlockContent.STRUCTURED),
                           (photo[len(photo) // 2 :], BlockContent.MEDIA)):
            self.assertEqual(kind(data), want)

    def test_intervals_hold_the_truth(self):
        """Wilson's interval: of many samplings of a known share, about 95 % must contain it."""
        rng = np.random.default_rng(3)
        for truth in (0.01, 0.3, 0.9):
            found = [interval(int(n), 400) for n in rng.binomial(400, truth, 2000)]
            inside = sum(s.low <= truth <= s.high for s in found) / len(found)
            self.assertGreater(inside, 0.92)


class ForecastTest(FolderTest):
    def of(self, data: bytes, **faults: object):
        reader = CardReader(self.image(data), Faults(**faults))
        self.addCleanup(reader.close)
        return forecast(reader.url, threading.Event(), 1.0)

    def test_shares_and_what_follows(self):
        pictures = (png(scene(4, 900, 700)) + camera_jpeg(2)) * 4
        found = self.of(bytes(len(pictures)) + pictures)
        self.assertEqual(found.stopped, Stopped.TIME)
        blank = found.shares[BlockContent.BLANK]
        self.assertTrue(blank.low <= 0.5 <= blank.high or abs(blank.part - 0.5) < 0.03)
        self.assertGreater(found.shares[BlockContent.MEDIA].part, 0.4)
        self.assertIn("looks like pictures", " ".join(words.follows(found)))
        self.assertIn("Nearly all", " ".join(words.follows(self.of(bytes(2 << 20)))))
        self.assertIn("encrypted", " ".join(words.follows(self.of(noise(2 << 20)))))

    def test_a_medium_in_trouble_is_sampled_no_more(self):
        found = self.of(noise(4 << 20), bad=[(1 << 20, 2 << 20)], fail_s=0.01)
        self.assertEqual(found.stopped, Stopped.FAILED)
        self.assertIn("Copy it now", words.follows(found)[0])
        slow = self.of(noise(4 << 20), slow=[(0, 4 << 20, 400.0)])
        self.assertEqual(slow.stopped, Stopped.SLOW)

    def test_a_card_that_claims_too_much(self):
        start = noise(6 << 20, 5)
        claimed = start + bytes(128 << 20)
        found = self.of(claimed[: 64 << 20], wraps_at=8 << 20)
        self.assertEqual(found.wraps_at, 8 << 20)
        self.assertIn("claims more than it has", " ".join(words.follows(found)))
