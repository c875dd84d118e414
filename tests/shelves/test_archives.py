"""Archives and folders as backups: read as the tools that wrote them do, and damaged ones as far
as they go."""

from __future__ import annotations

import bz2
import contextlib
import io
import os
import random
import shutil
import struct
import subprocess
import tarfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import zstandard
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core import secrets
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.shelves.backups import layout_zip
from needlewright.core.shelves.backups.base import layout_of, open_backup
from needlewright.core.shelves.backups.spots import DiskSpot
from needlewright.core.shelves.backups.tar_headers import pax
from needlewright.core.shelves.item_shelf import Item, Placing, clean_path
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.shelf import DistantShelf
from needlewright.wording.phones import listed_line
from tests.examples import examples
from tests.shelves.support import ShelfTest, contents, files, photo, sha256, write_tree

SEVEN = shutil.which("7zz") or shutil.which("7z")


class CompleteTest(ShelfTest):
    """An archive is called complete where its directory or its end proves it, and nowhere else."""

    def line(self, path: Path) -> str:
        shelf = open_source(f"backup:{path}")
        assert isinstance(shelf, DistantShelf)
        try:
            return listed_line(shelf.missing())
        finally:
            shelf.close()

    def test_a_cut_archive_is_not_complete(self):
        whole = self.folder / "whole.zip"
        with zipfile.ZipFile(whole, "w") as made:
            for name, data in files(5).items():
                made.writestr(name, data)
            starts = sorted(info.header_offset for info in made.infolist())
        tar = self.folder / "whole.tar"
        with tarfile.open(tar, "w") as made:
            for name, data in files(5).items():
                info = tarfile.TarInfo(name)
                info.size = len(data)
                made.addfile(info, io.BytesIO(data))
        with tarfile.open(tar) as told:
            last = told.getmembers()[-1].offset
        self.assertIn("complete: all 7 objects", self.line(whole))
        self.assertIn("complete: all 7 objects", self.line(tar))
        members_end = tar.read_bytes().rstrip(b"\0")
        cuts = {"zip": (starts[-1], starts[3], starts[3] + 40),
                "tar": (-(-len(members_end) // 512) * 512, last, last + 100)}
        for suffix, places in cuts.items():
            data = (whole if suffix == "zip" else tar).read_bytes()
            for at in places:
                path = self.folder / f"cut-{at}.{suffix}"
                path.write_bytes(data[:at])
                self.assertTrue(self.line(path).endswith("; not complete."), (suffix, at))

    def test_a_folder_proves_nothing(self):
        tree = write_tree(self.folder / "tree", files())
        self.assertNotIn("complete", self.line(tree))


class TarTest(ShelfTest):
    def packed(self, name: str, *options: str) -> Path:
        """What GNU tar makes of the files."""
        write_tree(self.folder / "tree", files())
        path = self.folder / name
        subprocess.run(["tar", *options, "-cf", path, "-C", self.folder / "tree", "."], check=True)
        return path

    def test_every_way_of_packing(self):
        for name, options in (("a.tar", ()), ("a.tar.gz", ("-z",)), ("a.tar.zst", ("--zstd",)),
                              ("posix.tar", ("--format=posix",)), ("v7.tar", ("--format=v7",)),
                              ("ustar.tar", ("--format=ustar",))):
            with self.subTest(name):
                found, flaws = contents(self.packed(name, *options))
                told = {path.removeprefix("./"): data for path, data in found.items()}
                self.assertEqual((told, flaws), (files(), {}))

    def test_names_that_are_long_and_links(self):
        tree = write_tree(self.folder / "tree", {f"{'reed/' * 40}{'x' * 90}.txt": b"otter\n"})
        os.link(next(tree.rglob("*.txt")), tree / "again.txt")
        for form in ("gnu", "posix"):
            path = self.folder / f"{form}.tar"
            subprocess.run(["tar", f"--format={form}", "-cf", path, "-C", tree, "."], check=True)
            found, _ = contents(path)
            self.assertEqual(set(found.values()), {b"otter\n"})
            self.assertEqual(len(found), 2)

    def test_cut_anywhere_tells_what_is_there(self):
        whole = self.packed("a.tar.gz", "-z").read_bytes()
        plain = {f"./{path}": data for path, data in files().items()}
        chance = random.Random(4)
        for at in (40, *(chance.randrange(600, len(whole)) for _ in range(6))):
            path = self.folder / "cut.tar.gz"
            path.write_bytes(whole[:at])
            if layout_of(DiskSpot(path), is_own=True) is None:
                self.assertLess(at, 600)
                continue
            found, flaws = contents(path)
            for name, data in found.items():
                self.assertTrue(plain[name].startswith(data), name)
                self.assertTrue(data == plain[name] or name in flaws, name)

    def test_a_damaged_header_costs_its_file_alone(self):
        path = self.packed("a.tar")
        data = bytearray(path.read_bytes())
        with tarfile.open(path) as told:
            victim = next(m for m in told if m.name.endswith("FP_0001.jpg"))
        data[victim.offset + 10] ^= 0xFF
        path.write_bytes(data)
        backup = open_backup(path)
        names = {item.path for item in backup.items(lambda: None)}
        self.assertEqual({f"./{p}" for p in files()} - names, {"./DCIM/Camera/FP_0001.jpg"})
        self.assertEqual(backup.facts.complete, False)

    def test_sizes_that_lie_and_holes(self):
        out = io.BytesIO()
        info = tarfile.TarInfo("lies.jpg")
        info.size = 1 << 50
        out.write(info.tobuf(tarfile.GNU_FORMAT))
        path = self.folder / "lies.tar"
        path.write_bytes(out.getvalue()[:512] + photo(1))
        found, flaws = contents(path)
        self.assertEqual(flaws, {"lies.jpg": "backup-cut"})
        self.assertTrue(found["lies.jpg"].startswith(photo(1)[:1000]))

    def test_headers_of_pax_that_lead_nowhere(self):
        """They end; what came before counts."""
        for rest in (b"", b"no length at all here, and no equals", b"0 ", b"5 ", b" ", b"99 x=y\n",
                     b"-3 a=b\n", b"3 \n" * 9):
            self.assertEqual(pax(b"9 path=a\n" + rest).get("path"), "a", rest)

    @examples(300)
    @given(st.binary(max_size=200))
    def test_any_header_of_pax_ends(self, data):
        self.assertLessEqual(sum(map(len, pax(data))), len(data))

    def test_members_without_their_holes(self):
        """In all four ways, as another reader puts them together; and from any byte on."""
        tree, chance = self.folder / "holes", random.Random(4)
        tree.mkdir()
        for name, size, pieces in (("one", 8 << 20, 1), ("many", 12 << 20, 60), ("none", 9000, 0),
                                   ("all hole", 5 << 20, 0)):
            with open(tree / name, "wb") as file:
                file.truncate(size)
                for _ in range(pieces):
                    file.seek(chance.randrange(size // 4096) * 4096)
                    file.write(b"otter" * chance.randrange(1, 2000))
        for options in (("--format=gnu",), ("--format=pax", "--sparse-version=0.0"),
                        ("--format=pax", "--sparse-version=0.1"),
                        ("--format=pax", "--sparse-version=1.0")):
            path = self.folder / "sparse.tar"
            subprocess.run(["tar", "-S", *options, "-cf", path, "-C", tree, "."], check=True)
            self.assertLess(path.stat().st_size, 3 << 20)
            found, flaws = contents(path)
            self.assertEqual(flaws, {}, options)
            with tarfile.open(path) as other:
                told = {m.name: other.extractfile(m).read() for m in other if m.isfile()}
            self.assertEqual({p: sha256(d) for p, d in found.items()},
                             {p: sha256(d) for p, d in told.items()}, options)
            backup = open_backup(path)
            item = next(one for one in backup.items(lambda: None) if one.path.endswith("many"))
            for begin in (0, 1, 4095, 4096, 5 << 20, (12 << 20) - 1, 12 << 20):
                self.assertEqual(b"".join(backup.content(item, begin)),
                                 told[item.path][begin:], (options, begin))
            backup.close()
            with open(tree / "huge", "wb") as file:
                file.truncate(3 << 30)
            subprocess.run(["tar", "-S", *options, "-cf", self.folder / "huge.tar", "-C", tree,
                            "huge"], check=True)
            self.assertEqual(contents(self.folder / "huge.tar"), ({}, {"huge": "backup-bomb"}))
            (tree / "huge").unlink()
            data = bytearray(path.read_bytes())
            for _ in range(60):  # a map that lies costs its own file, or is one of ours
                broken = bytearray(data)
                broken[chance.randrange(2048)] = chance.randrange(256)
                path.write_bytes(broken)
                with contextlib.suppress(NeedlewrightError):
                    open_backup(path).items(lambda: None)

    def test_bombs_are_listed_in_bounded_memory(self):
        path = self.folder / "bomb.tar.gz"
        subprocess.run(f"(head -c 512 {self.packed('a.tar')}; head -c 300000000 /dev/zero) | "
                       f"gzip -1 > {path}", shell=True, check=True)
        backup = open_backup(path)
        self.assertLessEqual(len(backup.items(lambda: None)), 1)


class ZipTest(ShelfTest):
    def made(self, name: str, method: int = zipfile.ZIP_DEFLATED, streamed: bool = False) -> Path:
        path = self.folder / name
        out: io.RawIOBase | Path = _Forward(path) if streamed else path
        with zipfile.ZipFile(out, "w", method) as made:  # type: ignore[arg-type]
            for inside, data in files().items():
                made.writestr(inside, data)
        if isinstance(out, _Forward):
            out.close()
        return path

    def test_every_method(self):
        for method in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2):
            self.assertEqual(contents(self.made("a.zip", method)), (files(), {}))
        self.assertEqual(contents(self.made("streamed.zip", streamed=True)), (files(), {}))

    def test_the_end_is_lost(self):
        for streamed in (False, True):
            whole = self.made("a.zip", streamed=streamed)
            data = whole.read_bytes()
            whole.write_bytes(data[: data.rfind(b"PK\x01\x02", 0, data.find(b"PK\x01\x02") + 4)])
            found, flaws = contents(whole)
            self.assertEqual((found, flaws), (files(), {}), streamed)
            backup = open_backup(whole)
            backup.items(lambda: None)
            self.assertIn("backup-no-directory", backup.facts.troubles)
            backup.close()

    def test_something_in_front_and_a_comment_behind(self):
        path = self.made("a.zip")
        path.write_bytes(b"\x7fprogram" * 100 + path.read_bytes())
        self.assertEqual(contents(path), (files(), {}))

    def test_damage_is_told_of_its_file(self):
        path = self.made("a.zip", zipfile.ZIP_STORED)
        data = bytearray(path.read_bytes())
        at = data.find(photo(2)) + 5000
        data[at] ^= 1
        path.write_bytes(data)
        found, flaws = contents(path)
        self.assertEqual(flaws, {"DCIM/Camera/FP_0002.jpg": "backup-crc"})
        self.assertEqual({p: d for p, d in found.items() if p not in flaws},
                         {p: d for p, d in files().items() if p not in flaws})

    def test_bombs(self):
        """One place that many files claim, and one that says more than Deflate can make."""
        path = self.folder / "bomb.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as made:
            made.writestr("kernel", bytes(20 << 20))
        data = path.read_bytes()
        start = data.find(b"PK\x01\x02")
        end = data.find(b"PK\x05\x06")
        central = bytearray(data[start:end])
        many = bytearray()
        for number in range(200):
            central[46:52] = f"k{number:05}".encode()
            many += central
        tail = bytearray(data[end:])
        struct.pack_into("<HHI", tail, 8, 200, 200, len(many))
        path.write_bytes(data[:start] + bytes(many) + bytes(tail))
        found, flaws = contents(path)
        self.assertEqual((len(flaws), set(flaws.values()), found), (200, {"backup-bomb"}, {}))
        struct.pack_into("<I", central, 24, 0x7FFFFFFF)
        struct.pack_into("<HHI", tail, 8, 1, 1, len(central))
        path.write_bytes(data[:start] + bytes(central) + bytes(tail))
        self.assertEqual(set(contents(path)[1].values()), {"backup-bomb"})

    @unittest.skipUnless(SEVEN, "7-Zip is not here")
    def test_aes_as_another_program_writes_it(self):
        tree = write_tree(self.folder / "tree", files())
        for strength in ("AES128", "AES192", "AES256"):
            path = self.folder / f"{strength}.zip"
            subprocess.run([SEVEN, "a", "-tzip", f"-mem={strength}", "-psedge", path, "."],
                           cwd=tree, check=True, stdout=subprocess.DEVNULL)
            spec = f"backup:{path}"
            heard = self.asked("wrong", "sedge")
            found, flaws = contents(path, spec)
            self.assertEqual((found, flaws), (files(), {}))
            self.assertEqual(heard, [("password", False), ("password", True)])
        data = bytearray(path.read_bytes())
        data[data.find(b"FP_0003.jpg") + 9000] ^= 1
        path.write_bytes(data)
        found, flaws = contents(path, spec)
        self.assertEqual(set(flaws.values()), {"backup-unauthentic"})
        self.assertEqual(len(flaws), 1)

    @unittest.skipUnless(SEVEN, "7-Zip is not here")
    def test_the_old_cipher(self):
        tree, path = write_tree(self.folder / "tree", files()), self.folder / "old.zip"
        subprocess.run([SEVEN, "a", "-tzip", "-mem=ZipCrypto", "-psedge", path, "."], cwd=tree,
                       check=True, stdout=subprocess.DEVNULL)
        spec = f"backup:{path}"
        heard = self.asked(*(f"wrong {n}" for n in range(300)), "sedge")  # one byte tells each
        self.assertEqual(contents(path, spec), (files(), {}))
        self.assertEqual(len(heard), 301)
        with zipfile.ZipFile(path) as other:
            other.setpassword(b"sedge")
            self.assertEqual(other.read("Notes/holts.txt"), files()["Notes/holts.txt"])
        data = bytearray(path.read_bytes())
        data[data.find(b"FP_0003.jpg") + 9000] ^= 1
        path.write_bytes(data)
        self.assertEqual(list(contents(path, spec)[1]), ["DCIM/Camera/FP_0003.jpg"])
        for number, (method, probed) in enumerate(
                (m, p) for m in ("Deflate", "Copy") for p in (1000, 1 << 20)):
            one, data = self.folder / f"one{number}.zip", photo(5) + b"otter\n" * 5000
            alone = write_tree(self.folder / "alone", {"a.txt": data})
            subprocess.run([SEVEN, "a", "-tzip", "-mem=ZipCrypto", f"-mm={method}", "-psedge", one,
                            "."], cwd=alone, check=True, stdout=subprocess.DEVNULL)
            self.asked(*(f"wrong {n}" for n in range(300)), "sedge")
            with mock.patch.object(layout_zip, "PROBED", probed):  # also one larger than that
                self.assertEqual(contents(one), ({"a.txt": data}, {}))

    @unittest.skipUnless(SEVEN, "7-Zip is not here")
    def test_other_methods(self):
        tree = write_tree(self.folder / "tree", files())
        for method in ("LZMA", "xz", "BZip2", "Deflate64", "PPMd"):
            path = self.folder / f"{method}.zip"
            subprocess.run([SEVEN, "a", "-tzip", f"-mm={method}", path, "."], cwd=tree,
                           check=True, stdout=subprocess.DEVNULL)
            found, flaws = contents(path)
            if method in ("LZMA", "xz", "BZip2"):
                self.assertEqual((found, flaws), (files(), {}))
            else:
                self.assertLessEqual(set(flaws.values()), {"backup-method"})
                self.assertEqual(found | {p: files()[p] for p in flaws}, files())

    def test_a_wrong_password_is_told_at_once(self):
        path = self.folder / "none.zip"
        if SEVEN is None:
            self.skipTest("7-Zip is not here")
        write_tree(self.folder / "tree", files())
        subprocess.run([SEVEN, "a", "-tzip", "-mem=AES256", "-psedge", path, "."],
                       cwd=self.folder / "tree", check=True, stdout=subprocess.DEVNULL)
        for known, code in ((None, "secret-wanted"), ("reed", "secret-wrong")):
            if known:
                secrets.keep(f"backup:{path}", secrets.Secret(known))
            with self.assertRaises(SourceError) as caught:
                contents(path, f"backup:{path}")
            self.assertEqual(caught.exception.code, code)


class _Forward(io.RawIOBase):
    """A file that can only be written on, so that sizes come behind the data."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("wb")

    def writable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return False

    def write(self, data) -> int:  # type: ignore[no-untyped-def,override]
        return self._file.write(data)

    def flush(self) -> None:
        if not self._file.closed:
            self._file.flush()

    def close(self) -> None:
        self._file.close()
        super().close()


class HostileTest(ShelfTest):
    def test_broken_archives_break_nothing_else(self):
        """Flipped and exchanged bytes in every kind: an error of ours, or what is there."""
        tree = write_tree(self.folder / "tree", {f"a{n}.txt": bytes([65 + n]) * 900
                                                 for n in range(5)})
        made = {}
        for name, options in (("a.tar", ()), ("a.tar.gz", ("-z",)), ("a.tar.zst", ("--zstd",))):
            subprocess.run(["tar", *options, "-cf", self.folder / name, "-C", tree, "."],
                           check=True)
            made[name] = (self.folder / name).read_bytes()
        with zipfile.ZipFile(self.folder / "a.zip", "w", zipfile.ZIP_DEFLATED) as out:
            for file in tree.iterdir():
                out.write(file, file.name)
        made["a.zip"] = (self.folder / "a.zip").read_bytes()
        chance = random.Random(11)
        for name, data in made.items():
            for _ in range(120):
                broken = bytearray(data)
                for _ in range(chance.choice((1, 3, 12))):
                    at = chance.randrange(len(broken))
                    broken[at : at + 4] = chance.choice((
                        b"\xff\xff\xff\xff", b"\0\0\0\0", chance.randbytes(4), b"\x7f\xff\xff\xff"))
                if chance.random() < 0.3:
                    del broken[chance.randrange(1, len(broken)) :]
                path = self.folder / f"broken-{name}"
                path.write_bytes(broken)
                try:
                    found, _ = contents(path)
                except NeedlewrightError:
                    continue
                self.assertLess(sum(map(len, found.values())), 1 << 22)

    @examples(150)
    @given(st.text(max_size=80))
    def test_paths_stay_inside(self, told):
        clean = clean_path(told)
        parts = clean.split("/")
        self.assertTrue(clean and not clean.startswith("/") and ".." not in parts)
        self.assertTrue(clean.isprintable() or not told.isprintable() or "\n" not in clean)
        self.assertEqual(clean_path(clean), clean)
        clean.encode()

    def test_paths_that_lead_out(self):
        for told, clean in (("../../etc/x", "_/_/etc/x"), ("/etc/x", "etc/x"), ("", "_"),
                            ("a//b/./c", "a/b/c"), ("a\\..\\b", "a/_/b"), ("..", "_"),
                            ("a/b\n.jpg", "a/b<U+000A>.jpg")):
            self.assertEqual(clean_path(told), clean)

    def test_no_two_files_have_one_key(self):
        place = Placing()
        keys = [place.of(Item(path, 1)).entry.key for path in (
            "a", "a", "a//1", "a", "a#1", "../a", "_/a", "a/1", "/a")]
        self.assertEqual(len(set(keys)), len(keys))

    def test_zstandard_and_bzip2_that_make_much(self):
        path = self.folder / "z.tar.zst"
        path.write_bytes(zstandard.compress(bytes(64 << 20)))
        self.assertIsNone(layout_of(DiskSpot(path), is_own=True))
        path = self.folder / "b.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_BZIP2) as out:
            out.writestr("b.bin", bytes(8 << 20))
        self.assertEqual(len(contents(path)[0]["b.bin"]), 8 << 20)
        self.assertLess(len(bz2.compress(bytes(8 << 20))), 1000)


if __name__ == "__main__":
    unittest.main()
