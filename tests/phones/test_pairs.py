"""A still and its clip are one: known by name, folder and length, and moved together."""

from __future__ import annotations

import threading
import unittest

from needlewright.app.choosing import _moved
from needlewright.app.viewmodels.board import shown_of
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.pairs import partners, with_partners
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.demo import clips
from needlewright.standins.phone.start import FieldPhone
from tests.support import FolderTest, camera_jpeg, png


class PairsTest(FolderTest):
    def test_what_goes_together(self):
        camera = self.folder / "inner" / "DCIM" / "Camera"
        other = camera / "more"
        other.mkdir(parents=True)
        short, long = (clips.encode("mp4", "libx264", None, 7, frames, (160, 120))
                       for frames in (50, 160))
        for name, data in (
                ("FP_0001.jpg", camera_jpeg(1, 320, 240)), ("fp_0001.MP4", short),
                ("FP_0002.jpg", camera_jpeg(2, 320, 240)), ("FP_0002.mp4", long),
                ("FP_0003.jpg", camera_jpeg(3, 320, 240)), ("FP_0003.png", png()),
                ("FP_0003.mp4", short), ("FP_0004.jpg", camera_jpeg(4, 320, 240)),
                ("more/FP_0004.mp4", short)):
            (camera / name).write_bytes(data)
        phone = FieldPhone([{"label": "Inner", "kind": "inner",
                             "folder": str(self.folder / "inner")}])
        self.addCleanup(phone.close)
        phone.open()
        job, row = job_for_image(self.folder / "job", phone.address)
        with job:
            list(run_search(job, row, Plan(("kept-copies",), patience=20.0), threading.Event()))
            rows = {row.name: row for row in job.matching()}
            found = {job.rows([number])[0].name: row.name
                     for number, row in partners(job, rows.values()).items()}
            self.assertEqual(found, {"FP_0001.jpg": "fp_0001.MP4", "fp_0001.MP4": "FP_0001.jpg"})
            still, clip, alone = (rows[name].id for name in (
                "FP_0001.jpg", "fp_0001.MP4", "FP_0004.jpg"))
            self.assertEqual(with_partners(job, [alone, still, clip]), [alone, still, clip])
            self.assertEqual(_moved(job, [clip, alone], True), [clip, alone, still])
            self.assertEqual(job.reviews.tray_size()[0], 3)
            self.assertEqual(_moved(job, [still], False), [still, clip])
            self.assertEqual(job.reviews.tray_size()[0], 1)
            self.assertEqual(shown_of(job, still).partner.id, clip)
            self.assertIsNone(shown_of(job, alone).partner)


if __name__ == "__main__":
    unittest.main()
