"""Sources: positional, read-only, and clear about what they cannot read."""

import ast
import os
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

import needlewright
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.source import Source, Span
from needlewright.core.sources.windows import BlockReader, Window
from tests.support import FolderTest, noise

PACKAGE = Path(needlewright.__file__).parent


class SpanTest(unittest.TestCase):
    @given(st.integers(0, 100), st.integers(0, 100), st.integers(-20, 220), st.integers(-5, 220))
    def test_a_child_never_leaves_its_parent(self, start, size, offset, length):
        parent = Span(start, start + size)
        try:
            child = parent.take(offset, length)
        except FormatError:
            self.assertTrue(length < 0 or offset < start or offset + length > start + size)
        else:
            self.assertTrue(parent.start <= child.start <= child.stop <= parent.stop)


class ImageFileTest(FolderTest):
    def test_reads_are_positional_and_short_only_at_the_end(self):
        data = noise(10_000)
        source = self.open_image(data)
        for offset, length in ((0, 10), (9_990, 100), (10_000, 5), (20_000, 5), (512, 512)):
            self.assertEqual(source.read_at(offset, length), data[offset : offset + length])
        window = Window(source, Span(1000, 3000))
        self.assertEqual(window.read_at(1990, 100), data[2990:3000])
        self.assertEqual(window.local_path(), (str(source.path), 1000))
        reader = BlockReader(source, 64)
        self.assertEqual([reader.read(i, 3) for i in range(0, 9990, 37)],
                         [data[i : i + 3] for i in range(0, 9990, 37)])

    def test_what_is_no_image_is_refused_with_its_reason(self):
        fifo = self.folder / "pipe"
        os.mkfifo(fifo)
        cases = {"source-missing": self.folder / "none.img", "source-directory": self.folder,
                 "source-empty": self.image(b"", "empty.img"), "source-not-a-file": fifo}
        for code, path in cases.items():
            with self.assertRaises(SourceError) as caught:
                ImageFile(path)
            self.assertEqual(caught.exception.code, code)

    def test_an_image_that_shrinks_says_where(self):
        source = self.open_image(noise(8192))
        os.truncate(source.path, 4096)
        self.assertEqual(len(source.read_at(0, 4096)), 4096)
        with self.assertRaises(SourceError) as caught:
            source.read_at(2048, 4096)
        self.assertEqual(caught.exception.code, "source-shrank")
        self.assertEqual(caught.exception.values["start"], 4096)

    def test_the_descriptor_cannot_write(self):
        source = self.open_image(noise(512))
        with self.assertRaises(OSError):
            os.pwrite(source._fd, b"x", 0)


class ArchitectureTest(unittest.TestCase):
    def modules(self, folder: str) -> list[tuple[Path, ast.Module]]:
        return [(p, ast.parse(p.read_text(encoding="utf-8")))
                for p in sorted((PACKAGE / folder).rglob("*.py"))]

    def imports(self, tree: ast.Module) -> set[str]:
        found = set()
        for node in ast.walk(tree):
            if isinstance(node, ast.Import):
                found |= {alias.name for alias in node.names}
            elif isinstance(node, ast.ImportFrom) and node.module:
                found.add(node.module)
        return found

    def test_imports_point_one_way(self):
        forbidden = {
            "core": ("PySide6", "needlewright.app", "needlewright.wording", "needlewright.demo"),
            "wording": ("PySide6", "needlewright.app", "needlewright.demo"),
            "demo": ("PySide6", "needlewright.app", "needlewright.wording")}
        for folder, names in forbidden.items():
            for path, tree in self.modules(folder):
                for name in self.imports(tree):
                    self.assertFalse(name.startswith(names), f"{path} imports {name}")

    def test_no_source_opens_for_writing(self):
        for path, tree in self.modules("core/sources"):
            for node in ast.walk(tree):
                if isinstance(node, ast.Attribute):
                    self.assertNotIn(node.attr, {
                        "O_RDWR", "O_WRONLY", "pwrite", "pwritev", "write_bytes", "write_text",
                        "truncate", "ftruncate", "mmap"}, path)
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                    self.assertNotEqual(node.func.id, "open", path)
        writers = [n for n in dir(Source) + dir(ImageFile) + dir(MemorySource) if "write" in n]
        self.assertEqual(writers, [])

    def test_no_file_has_outgrown_the_house(self):
        for path in PACKAGE.rglob("*.py"):
            lines = path.read_text(encoding="utf-8").count("\n")
            self.assertLessEqual(lines, 500, path)
