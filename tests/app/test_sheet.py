"""The contact sheet's layout, without a window."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QRect
from PySide6.QtGui import QImage, QPainter

from needlewright.app.main import application
from needlewright.app.theme.look import look
from needlewright.app.viewmodels.sheet import (
    GAP,
    GROUP_GAP,
    HEAD,
    MARGIN,
    MAX_GROUPS,
    NARROWEST,
    UNDER,
    WIDEST,
    lay_out,
    stretch_size,
)
from needlewright.app.widgets.lanes import covered, paint_in_use, paint_parts, paint_texture
from needlewright.core.kernels.texture import Texture

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

    @given(shapes, st.integers(200, 1500), st.integers(60, 240))
    def test_rows_and_groups_as_a_plain_loop_makes_them(self, shapes, width, row):
        sizes = {1: 40_000_000, 2: 1 << 40}
        items = [(i, w, h, 1 + w % 2, h * 10_000, i, turn, (None, None, "in:a", "in:b")[h % 4])
                 for i, (w, h, turn) in enumerate(shapes)]
        sheet = lay_out(items, width, row, sizes, True)
        boxes, groups, y, at = [], [], 0, 0
        while at < len(items):
            last = at
            while last < len(items) and self.head(items[last], sizes) == self.head(
                    items[at], sizes):
                last += 1
            groups.append((at, last, sum(i[5] for i in items[at:last])))
            y = self.rows(items[at:last], max(120, width - 2 * MARGIN), row, y + HEAD, boxes)
            y, at = y + GROUP_GAP, last
        self.assertEqual([(g.first, g.last, g.bytes) for g in sheet.groups], groups)
        self.assertEqual(list(zip(*(a.tolist() for a in (
            sheet.left, sheet.top, sheet.width, sheet.height)))), boxes)

    @staticmethod
    def head(item, sizes):
        return item[7] or (item[3], item[4] // stretch_size(sizes[item[3]]))

    @staticmethod
    def rows(items, room, row, y, boxes):
        def proportion(item):
            wide, high = item[1], item[2]
            if wide <= 0 or high <= 0:
                return 1.0
            return min(WIDEST, max(NARROWEST, high / wide if item[6] >= 5 else wide / high))

        while items:
            end, ratios = 0, 0.0
            while end < len(items) and ratios * row + GAP * (end - 1) < room:
                ratios += proportion(items[end])
                end += 1
            free = room - GAP * (end - 1)
            tall, x = free / ratios if ratios * row >= free else float(row), float(MARGIN)
            for item in items[:end]:
                wide = proportion(item) * tall
                boxes.append((round(x), y, max(1, round(x + wide) - round(x)), round(tall)))
                x += wide + GAP
            y, items = y + round(tall) + UNDER, items[end:]
        return y

    @given(st.integers(1, 1 << 50))
    def test_a_medium_falls_into_a_few_round_stretches(self, size):
        self.assertLessEqual(-(-size // stretch_size(size)), MAX_GROUPS)


class LanesTest(unittest.TestCase):
    """Lanes that are drawn in one call, read from the picture again."""

    def drawn(self, paint, *given):
        application()
        image = QImage(40, 12, QImage.Format.Format_RGB32)
        image.fill(look.colour("panel"))
        painter = QPainter(image)
        paint(painter, QRect(0, 0, 40, 12), *given)
        painter.end()
        blank = look.colour("panel").rgb()
        return [sum(image.pixel(x, y) != blank for y in range(12)) for x in range(40)]

    def test_textures_stand_as_high_as_they_are_dense(self):
        cells = np.repeat(np.array([Texture.UNSEEN, Texture.BLANK, Texture.TEXT, Texture.RANDOM,
                                    Texture.JPEG], np.uint8), 8)
        high = self.drawn(paint_texture, cells)
        self.assertEqual(high[::8], [0, 1, round(0.35 * 12), round(0.8 * 12), 12])
        self.assertEqual([len(set(high[i : i + 8])) for i in range(0, 40, 8)], [1] * 5)

    def test_shares_in_use_and_columns_of_finds(self):
        shares = np.repeat([-1.0, 0.0, 0.25, 1.0], 10)
        self.assertEqual(self.drawn(paint_in_use, shares)[::10], [0, 1, 3, 12])
        parts = np.repeat([0.0, 0.01, 0.5, 1.0], 10)
        self.assertEqual(self.drawn(paint_parts, parts)[::10], [0, 12, 12, 12])
        self.assertEqual(self.drawn(paint_parts, np.zeros(40)), [0] * 40)


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
