"""Coded rows of turned pictures, against Pillow's own turning."""

from __future__ import annotations

import unittest

import numpy as np
from PIL import Image, ImageOps
from PySide6.QtCore import QPointF, QRectF

from needlewright.app.widgets.turned import row_line, share_at


class TurnedTest(unittest.TestCase):
    def test_the_line_lies_where_the_last_good_row_is_shown(self):
        for orientation in range(1, 9):
            coded = np.zeros((60, 100), np.uint8)
            coded[:15] = 255
            picture = Image.fromarray(coded)
            picture.getexif()[0x0112] = orientation
            shown = np.asarray(ImageOps.exif_transpose(picture))
            box = QRectF(10, 20, shown.shape[1], shown.shape[0])
            line = row_line(box, 0.25, orientation, 5)
            good = np.argwhere(shown == 255)
            bad = np.argwhere(shown == 0)
            along = 1 if line.dx() == 0 else 0
            place = (line.x1() - box.left()) if along else (line.y1() - box.top())
            with self.subTest(orientation):
                edges = {good[:, along].min(), good[:, along].max() + 1} & {
                    bad[:, along].min(), bad[:, along].max() + 1}
                self.assertEqual({round(place)}, edges)
                self.assertAlmostEqual(share_at(box, line.center(), orientation), 0.25)
                for row, column in (good[0], good[-1]):
                    point = QPointF(10.5 + column, 20.5 + row)
                    self.assertLess(share_at(box, point, orientation), 0.25)


if __name__ == "__main__":
    unittest.main()
