"""Words out of byte arrays, and what mostly lies in a group, against plain Python."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from numba import njit

from needlewright.core.kernels import loads
from needlewright.core.kernels.texture import Texture, dominating
from tests.examples import examples

EIGHT = st.binary(min_size=8, max_size=40)


@njit
def looked(data, at, out):
    word = loads.load_little(data, at)
    loads.store_little(out, at, word)
    ones = loads.bytes_of_ones(word)
    first = np.int64(-1) if ones == np.uint64(0) else loads.trailing_zeros(ones) >> 3
    return loads.load_big(data, at), word, first, loads.ones_in(word), loads.pick(data, at)


class LoadsTest(unittest.TestCase):
    @examples(100)
    @given(EIGHT | st.lists(st.sampled_from([0, 1, 0x7F, 0x80, 0xFE, 0xFF]), min_size=8,
                            max_size=40).map(bytes), st.data())
    def test_words(self, raw, given_at):
        at = given_at.draw(st.integers(0, len(raw) - 8))
        out = np.zeros(len(raw), np.uint8)
        big, little, first, ones, picked = looked(np.frombuffer(raw, np.uint8), at, out)
        eight = raw[at : at + 8]
        self.assertEqual((int(big), int(little)),
                         (int.from_bytes(eight, "big"), int.from_bytes(eight, "little")))
        self.assertEqual((first, ones, picked),
                         (eight.find(b"\xff"), int.from_bytes(eight, "big").bit_count(), raw[at]))
        self.assertEqual(bytes(out), bytes(at) + eight + bytes(len(raw) - at - 8))


class DominatingTest(unittest.TestCase):
    @examples(100)
    @given(st.binary(max_size=60).map(lambda raw: [b % 7 for b in raw]),
           st.lists(st.tuples(st.integers(0, 70), st.integers(0, 80)), max_size=9))
    def test_the_class_that_most_have(self, classes, groups):
        found = dominating(np.array(classes, np.uint8), *(
            np.array([g[side] for g in groups], np.int64) for side in (0, 1)))
        for (start, stop), best in zip(groups, found.tolist()):
            seen = [c for c in classes[start:stop] if c != Texture.UNSEEN]
            most = max(sorted(set(seen)), key=seen.count, default=Texture.UNSEEN)
            self.assertEqual(best, most)


if __name__ == "__main__":
    unittest.main()
