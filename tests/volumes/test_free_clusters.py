"""Which clusters are in use: against the file systems' own tools, on volumes they made here."""

import re
import shutil
import subprocess
import unittest

from needlewright.core.sources.files import ImageFile
from needlewright.core.volumes.finding import find_volumes, open_volume
from tests.support import FolderTest, noise

MIB = 1 << 20


def told(*command):
    return subprocess.run([str(c) for c in command], check=True, capture_output=True,
                          text=True).stdout


class FreeClustersTest(FolderTest):
    def volume(self, tool, size, *options, name="card.img"):
        """A volume made by `tool`, its files copied in where the tool can do that."""
        if shutil.which(tool) is None:
            self.skipTest(f"{tool} is not installed")
        path = self.folder / name
        with path.open("wb") as out:
            out.truncate(size)
        told(tool, *options, path)
        return path

    def files(self):
        place = self.folder / "files"
        (place / "DCIM" / "104BRKFD").mkdir(parents=True)
        for number in range(24):
            (place / "DCIM" / "104BRKFD" / f"BF_{number:04d}.JPG").write_bytes(
                noise(3000 * number + 17, number))
        (place / "otters.csv").write_text("05:58;Reedmouth weir;3\n" * 900)
        return place

    def map_of(self, path):
        source = ImageFile(path)
        self.addCleanup(source.close)
        volumes = find_volumes(source).volumes
        self.assertEqual(len(volumes), 1)
        return open_volume(source, volumes[0]).allocation()

    def free(self, allocation):
        """Numbers of the clusters that are free, by the volume's own counting of bytes."""
        return {cluster for start, stop in allocation.runs(want_used=False).tolist()
                for cluster in range(start // allocation.unit, stop // allocation.unit)}

    def test_ext_agrees_with_dumpe2fs_block_by_block(self):
        for kind, block in (("ext2", 1024), ("ext3", 2048), ("ext4", 4096)):
            with self.subTest(kind):
                files = self.files()
                path = self.volume("mkfs.ext4", 40 * MIB, "-q", "-F", "-t", kind, "-b", block,
                                   "-d", files, name=f"{kind}.img")
                told("debugfs", "-w", "-R", "rm /DCIM/104BRKFD/BF_0020.JPG", path)
                shutil.rmtree(files)
                wanted = set()
                for line in told("dumpe2fs", path).splitlines():
                    found = re.match(r"\s+Free blocks: (.+)", line)
                    for part in found[1].split(", ") if found else ():
                        first, _, last = part.partition("-")
                        wanted |= set(range(int(first), int(last or first) + 1))
                self.assertGreater(len(wanted), 1000)
                self.assertEqual(self.free(self.map_of(path)), wanted)

    def test_fat_agrees_with_its_checker(self):
        for bits, size in ((12, 4 * MIB), (16, 40 * MIB), (32, 80 * MIB)):
            with self.subTest(bits):
                options = ("-F", bits) + (("-s", 1) if bits == 32 else ())
                path = self.volume("mkfs.fat", size, *options, name=f"fat{bits}.img")
                files = self.files()
                told("mcopy", "-i", path, "-s", files / "DCIM", "::")
                told("mdel", "-i", path, "::DCIM/104BRKFD/BF_0019.JPG")
                shutil.rmtree(files)
                used, every = re.search(r"(\d+)/(\d+) clusters",
                                        told("fsck.fat", "-n", path)).groups()
                allocation = self.map_of(path)
                self.assertEqual(allocation.count, int(every))
                self.assertEqual(allocation.count - len(self.free(allocation)), int(used))

    def test_xfs_agrees_with_its_debugger(self):
        path = self.volume("mkfs.xfs", 320 * MIB, "-q", "-f")
        freed = told("xfs_db", "-r", "-c", "freesp -d", path)
        blocks_a_group = int(re.search(r"agblocks = (\d+)", told(
            "xfs_db", "-r", "-c", "sb 0", "-c", "p agblocks", path))[1])
        wanted = set()
        for line in freed.splitlines():
            found = re.fullmatch(r"\s*(\d+)\s+(\d+)\s+(\d+)\s*", line)
            if found:
                group, first, count = (int(n) for n in found.groups())
                at = group * blocks_a_group + first
                wanted |= set(range(at, at + count))
        self.assertGreater(len(wanted), 10_000)
        # Blocks that the group keeps for its own trees count as free there; they are in no map.
        free = self.free(self.map_of(path))
        self.assertLess(len(free ^ wanted), 200)

    def test_ntfs_agrees_with_its_own_count(self):
        path = self.volume("mkfs.ntfs", 40 * MIB, "-q", "-F", "-f", "-c", 4096)
        if shutil.which("ntfsinfo") is None:
            self.skipTest("ntfsinfo is not installed")
        report = told("ntfsinfo", "-m", path)
        free = int(re.search(r"Free Clusters:\s+(\d+)", report)[1])
        self.assertEqual(len(self.free(self.map_of(path))), free)


if __name__ == "__main__":
    unittest.main()
