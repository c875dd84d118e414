"""A new format is one module: nothing else in the core must know of it."""

from __future__ import annotations

import unittest
import zlib

from needlewright.core.errors import FormatError
from needlewright.core.formats import mp4, recognising, registry
from needlewright.core.formats.base import Format, Signature
from needlewright.core.sources.source import Source
from needlewright.core.stitching.base import formats_by_hand, joiner_for
from needlewright.core.stitching.chained.chains import base as chains
from needlewright.core.walks import Break, Facts, Kind, Walk
from tests.support import FolderTest, finds_on, jpeg, medium, noise, scene

MAGIC = b"\0\0\0\x10ftypott \0\0\0\0"


def whole(seed: int, size: int = 20_000) -> bytes:
    """The magic, a length, a body, and a sum over it."""
    body = noise(size, seed)
    return MAGIC + size.to_bytes(4, "big") + body + zlib.crc32(body).to_bytes(4, "big")


def walk(source: Source, start: int, stop: int) -> Walk:
    size = int.from_bytes(source.read_at(start + 16, 4), "big")
    if not 0 < size <= 1 << 20:
        raise FormatError("size-odd", offset=start)
    body = source.read_at(start + 20, min(size, stop - start - 20))
    end = source.read_at(start + 20 + len(body), 4)
    good = len(body) == size and end == zlib.crc32(body).to_bytes(4, "big")
    broken = None if good else Break("checksum-wrong", start + 20, start + 20)
    return Walk(start, start + 24 + size if good else start + 20 + len(body), good, broken,
                1.0 if good else 0.1, Facts())


OTTER = Format("ottr", Kind.PHOTO, "ott1", (Signature(MAGIC),), lambda head: head[:16] == MAGIC,
               walk, aliases={"ottx": "ott1"}, brands=(b"ott ",), joined="around", checked=True,
               object_formats={"ott1": 0xB8FE})


class NewFormatTest(FolderTest):
    def setUp(self):
        super().setUp()
        registry.formats()
        registry.register(OTTER)
        self.addCleanup(self.forget)
        self.forget_lists()

    def forget_lists(self):
        recognising._by_extension.cache_clear()
        mp4._others.cache_clear()

    def forget(self):
        del registry._formats._entries["ottr"]
        self.forget_lists()

    def test_it_is_known_by_its_name_and_by_what_it_begins_with(self):
        self.assertIs(recognising.format_of_name("card/0712.OTTX"), OTTER)
        self.assertEqual(recognising.kind_of_name("a.ott1"), (Kind.PHOTO, "ottr", "ott1"))
        self.assertEqual(recognising.recognise(whole(1)[:64]), [OTTER])  # and it is no clip
        self.assertEqual(recognising.object_format_of_name("card/0712.OTTX"), 0xB8FE)

    def test_it_is_found_among_others(self):
        photo = jpeg(scene(5, 64, 48))
        found = finds_on(self.open_image(medium([(4096, whole(1)), (65_536, photo)], 1 << 17)))
        self.assertEqual([(f.format, f.start, f.content.size) for f in found],
                         [("ottr", 4096, len(whole(1))), ("jpeg", 65_536, len(photo))])

    def test_it_is_joined_as_it_says(self):
        way = joiner_for("ottr")
        self.assertEqual((way.name, way.endless), ("around", True))
        self.assertNotIn("ottr", formats_by_hand())
        self.assertIn("gif", formats_by_hand())
        self.assertIsNone(joiner_for("nobody's"))


    def test_its_items_are_followed_as_its_module_says(self):
        def follow(source: Source, bad: int) -> chains.Next:
            return chains.Next(0, bad, 4, chains.exact(b"weir"))

        self.assertIsNone(chains.chain_of("ottr"))
        chains.register("ottr", follow)
        self.addCleanup(chains._chains._entries.pop, "ottr")
        self.assertIs(chains.chain_of("ottr"), follow)
        with self.assertRaises(ValueError):
            chains.register("png", follow)  # has one


class NamesTest(unittest.TestCase):
    def test_devices_are_told_the_number_of_iso_15740(self):
        for name, number in {
                "BF_0001.JPG": 0x3801, "x.jpeg": 0x3801, "x.Png": 0x380B, "x.gif": 0x3807,
                "x.bmp": 0x3804, "x.tiff": 0x380D, "x.wav": 0x3008, "x.mp3": 0x3009,
                "x.avi": 0x300A, "x.MPEG": 0x300B, "x.mov": 0x300D, "x.mp4": 0xB982,
                "x.3gp": 0xB984, "x.heic": 0x3000, "x.dng": 0x3000, "x.otter": 0x3000,
                "jpg": 0x3000, "": 0x3000}.items():
            self.assertEqual(recognising.object_format_of_name(name), number, name)

    def test_every_other_name_leads_to_an_extension_of_its_own_format(self):
        for form in registry.formats().values():
            own = {v.extension for v in (form.plain, *form.variants)}
            self.assertLessEqual(set(form.aliases.values()), own, form.name)
            for other in form.aliases:
                self.assertIs(recognising.format_of_name(f"x.{other}"), form)


if __name__ == "__main__":
    unittest.main()
