"""The contact sheet's layout, without a window."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needlewright.app.viewmodels.sheet import MARGIN, MAX_GROUPS, lay_out, stretch_size
from needlewright.app.widgets.lanes import covered

shapes = st.lists(st.tuples(st.integers(0, 6000), st.integers(0, 6000), st.integers(1, 8)),
                  max_size=80)


class SheetTest(unittest.TestCase):
    @given(shapes, st.integers(300, 2000), st.integers(60, 240), st.booleans())
    def test_rows_fit_and_never_overlap(self, shapes, width, row, grouped):
        items = [(i + 1, w, h, 1, i * 40_000_000, 1000, turn,
                  f"in:{i // 5}" if i % 3 else None)
                 for i, (w, h, turn) in enumerate(shapes)]
        sheet = lay_out(items, width, row, {1: 4_000_000_000}, grouped)
        self.assertEqual(sheet.ids.tolist(), [i[0] for i in items])
        for i in range(len(items)):
            self.assertLessEqual(sheet.left[i] + sheet.width[i], width - MARGIN + 3)
            if i and sheet.top[i] == sheet.top[i - 1]:
                self.assertGreater(sheet.left[i], sheet.left[i - 1] + sheet.width[i - 1])
            elif i:
                self.assertGreaterEqual(sheet.top[i], sheet.top[i - 1] + sheet.height[i - 1])
            middle = (int(sheet.left[i] + sheet.width[i] // 2),
                      int(sheet.top[i] + sheet.height[i] // 2))
            self.assertEqual(sheet.at(*middle), i)
            self.assertIn(i, sheet.visible(middle[1], middle[1]))
            self.assertTrue(0 <= sheet.neighbour(i, 1) < len(items))
        self.assertEqual(sum(g.last - g.first for g in sheet.groups), len(items))

    @given(st.integers(1, 1 << 50))
    def test_a_medium_falls_into_a_few_round_stretches(self, size):
        self.assertLessEqual(-(-size // stretch_size(size)), MAX_GROUPS)

class CoverTest(unittest.TestCase):
    @given(st.lists(st.tuples(st.integers(0, 900), st.integers(1, 300)), max_size=12),
           st.integers(1, 40))
    def test_columns_hold_what_spans_cover(self, spans, columns):
        """Against a plain count, for spans that do not overlap and are no thinner than drawn."""
        spans, at = sorted(spans), 0
        apart = []
        for start, length in spans:
            start = max(start, at)
            apart.append((start, length))
            at = start + length
        starts = np.array([s for s, _ in apart], np.int64)
        lengths = np.array([n for _, n in apart], np.int64)
        found = covered(starts, lengths, (100, 900), columns)
        wide = 800 / columns
        for column in range(columns):
            left, right = 100 + column * wide, 100 + (column + 1) * wide
            held = sum(max(0.0, min(right, s + n) - max(left, s)) for s, n in apart) / wide
            self.assertGreaterEqual(found[column] + 1e-9, min(1.0, held))
            self.assertLessEqual(found[column], min(1.0, held + 0.35 * (len(apart) + 1)))
