"""A search gives way to the window's thread, and never for good."""

import threading
import time
import unittest
import unittest.mock

from needlewright.app import courtesy


class GivingWayTest(unittest.TestCase):
    def setUp(self):
        self.addCleanup(courtesy._resting.set)

    def test_what_is_at_work_within_another_ends_with_it(self):
        seen = []

        @courtesy.at_work
        def paint(inside):
            seen.append(courtesy._resting.is_set())
            if inside:
                paint(False)
                seen.append(courtesy._resting.is_set())
            else:
                raise ValueError("nothing to paint")

        with self.assertRaises(ValueError):
            paint(False)
        self.assertTrue(courtesy._resting.is_set())
        with self.assertRaises(ValueError):
            paint(True)
        self.assertEqual((seen, courtesy._resting.is_set()), ([False] * 3, True))

    def test_who_asks_waits_until_the_window_rests(self):
        courtesy._resting.clear()
        courtesy._began_at = time.monotonic()
        stop, order = threading.Event(), []
        way = courtesy.GivingWay(stop)

        def ask():
            with unittest.mock.patch.object(courtesy, "WAIT_S", 30):
                order.append(way.is_set())

        asking = threading.Thread(target=ask)
        asking.start()
        self.assertEqual(order, [])
        courtesy._resting.set()
        asking.join()
        self.assertEqual(order, [False])

    def test_it_works_in_between_and_stops_at_once(self):
        courtesy._resting.clear()
        courtesy._began_at = time.monotonic()
        stop = threading.Event()
        way = courtesy.GivingWay(stop)
        with unittest.mock.patch.object(courtesy, "WAIT_S", 0.001):
            self.assertFalse(way.is_set(), "however long the window is at work")
        with unittest.mock.patch.object(courtesy, "WORK_S", 30):
            way._went_on = time.monotonic()
            self.assertFalse(way.is_set())  # its turn: not kept waiting again
        stop.set()
        with unittest.mock.patch.object(courtesy, "WAIT_S", 30):
            self.assertTrue(way.is_set())

    def test_an_open_question_holds_nothing_up(self):
        """A dialog that something at work has opened may stand there for an hour."""
        courtesy._resting.clear()
        courtesy._began_at = time.monotonic() - 1
        with unittest.mock.patch.object(courtesy, "WAIT_S", 30):
            self.assertFalse(courtesy.GivingWay(threading.Event()).is_set())


if __name__ == "__main__":
    unittest.main()
