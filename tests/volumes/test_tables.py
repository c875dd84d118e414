"""Partition tables as sfdisk writes them, and damaged; what stands where no table says so."""

import random
import struct
import subprocess
import unittest

from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.memory import MemorySource
from needlewright.core.volumes.base import VolumeState
from needlewright.core.volumes.finding import find_volumes, lost_volumes
from needlewright.core.volumes.registry import tables
from tests.support import FolderTest, noise
from tests.support_volumes import load

MIB = 1 << 20


class TablesTest(FolderTest):
    def medium(self, layout: str, size: int = 64 * MIB):
        """A medium with the table that sfdisk makes of `layout`."""
        path = self.folder / "drive.img"
        with path.open("wb") as out:
            out.truncate(size)
        subprocess.run(["sfdisk", "-q", str(path)], input=layout.encode(), check=True,
                       capture_output=True)
        return path

    def put(self, path, offset: int, name: str) -> None:
        source, _ = load(name)
        inner = source.save(self.folder / "inner.img").read_bytes()
        with path.open("r+b") as out:
            out.seek(offset)
            out.write(inner)

    def volumes(self, path):
        with ImageFile(path) as source:
            return find_volumes(source)

    def told_by_sfdisk(self, path):
        told = subprocess.run(["sfdisk", "-d", str(path)], check=True, capture_output=True).stdout
        found = []
        for line in told.decode().splitlines():
            if "start=" in line and "type=5" not in line.replace(" ", ""):
                start, size = (int(line.split(f"{key}=")[1].split(",")[0])
                               for key in ("start", "size"))
                found.append((start * 512, (start + size) * 512))
        return found

    def test_extended_partitions(self):
        path = self.medium("label: dos\n,8M,c\n,20M,5\n,8M,7\n,6M,83\n,6M,c\n")
        with ImageFile(path) as source:
            read = tables()["mbr"].read(source)
        spans = sorted((p.span.start, p.span.stop) for p in read.partitions)
        self.assertEqual(spans, sorted(self.told_by_sfdisk(path)))
        self.assertEqual(len(spans), 4)
        self.assertEqual(read.problems, ())

    def test_gpt_and_its_copy(self):
        path = self.medium("label: gpt\nsize=16M, name=\"survey\"\nsize=8M\n")
        self.put(path, self.told_by_sfdisk(path)[0][0], "exfat")
        layout = self.volumes(path)
        self.assertEqual((layout.volumes[0].facts.kind, layout.volumes[0].named_by),
                         ("exfat", "gpt"))
        with path.open("r+b") as out:
            out.seek(512 + 40)
            out.write(b"\xff" * 8)
        damaged = self.volumes(path)
        self.assertEqual([v.span for v in damaged.volumes], [v.span for v in layout.volumes])
        self.assertIn("table-header-wrong", [p.code for p in damaged.problems])

    def test_without_any_table(self):
        path = self.medium("label: dos\n,16M,7\n")
        start = self.told_by_sfdisk(path)[0][0]
        self.put(path, start, "exfat")
        with path.open("r+b") as out:
            out.write(bytes(512))
        volumes = self.volumes(path).volumes
        self.assertEqual([(v.span.start, v.facts.kind, v.facts.state) for v in volumes],
                         [(start, "exfat", VolumeState.LOST)])

    def test_lost_boot_sectors_by_their_copies(self):
        for name, sectors in (("fat32", 6), ("exfat", 12)):
            with self.subTest(name):
                source, _ = load(name)
                damaged = source.overlaid()
                damaged.write(0, bytes(512))
                volumes = find_volumes(damaged).volumes
                self.assertEqual([v.facts.state for v in volumes], [VolumeState.DAMAGED])
                block = damaged.read_at(0, MIB)
                lost = list(lost_volumes(block, 0, damaged))
                self.assertEqual([v.span.start for v in lost], [0])
                self.assertGreater(sectors, 0)

    def test_loops_and_ends_are_told(self):
        path = self.medium("label: dos\n,20M,5\n,8M,7\n")
        with path.open("r+b") as out:  # the second link of the chain leads back to the first
            start = struct.unpack("<I", ImageFile(path).read_at(446 + 8, 4))[0]
            out.seek(start * 512 + 446 + 16)
            out.write(struct.pack("<BxxxBxxxII", 0, 5, 0, 2048))
        with ImageFile(path) as source:
            self.assertIn("table-loop", [p.code for p in tables()["mbr"].read(source).problems])

    def test_encrypted_volumes_are_named(self):
        head = b"LUKS\xba\xbe\x00\x02" + bytes(16) + b"vault".ljust(48, b"\0")
        luks = find_volumes(MemorySource(head.ljust(MIB, b"\0"))).volumes
        self.assertEqual([(v.facts.kind, v.facts.state, v.facts.label) for v in luks],
                         [("luks2", VolumeState.LOCKED, "vault")])
        path = self.medium("label: dos\n,16M,83\n")
        with path.open("r+b") as out:
            out.seek(self.told_by_sfdisk(path)[0][0])
            out.write(random.Random(5).randbytes(16 * MIB))
        self.assertEqual([v.facts.kind for v in self.volumes(path).volumes], ["looks-encrypted"])

    def test_noise_holds_nothing(self):
        self.assertEqual(find_volumes(MemorySource(noise(8 * MIB))).volumes, [])


if __name__ == "__main__":
    unittest.main()
