"""Imports point one way, in no circle, and core knows neither Qt nor sentences."""

from __future__ import annotations

import ast
import unittest
from collections import defaultdict
from functools import cache
from pathlib import Path

import needlewright

PACKAGE = Path(needlewright.__file__).parent
MOST_LINES = 500
#: Rooms from the ground up: each may import from those before it, and from itself.
CORE = ("errors", "codes", "stopping", "registry", "names", "hashing", "temporary", "processes",
        "secrets", "keyrings", "kept_open", "phones", "sources", "kernels", "databases", "decoders",
        "walks", "structures", "formats", "warming", "volumes", "shelves", "checks", "contents",
        "finds", "stitching", "search", "mending", "imaging", "jobfile", "jobs", "delivery")
#: What a package of one file system may use of others.
SHARED = {"exfat": {"fat"}, "former": {"fat", "exfat", "ntfs", "ext"}}
FILE_SYSTEMS = {"fat", "exfat", "ntfs", "ext", "xfs", "f2fs", "btrfs", "hfsplus", "locked",
                "tables", "former"}


@cache
def modules() -> dict[str, Path]:
    found = {}
    for path in PACKAGE.rglob("*.py"):
        name = ".".join(("needlewright", *path.relative_to(PACKAGE).with_suffix("").parts))
        found[name.removesuffix(".__init__")] = path
    return found


@cache
def arrows() -> dict[str, frozenset[str]]:
    """Module -> the modules of ours that it imports, wherever in it."""
    known, found = modules(), defaultdict(set)
    for name, path in known.items():
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("needlewright"):
                for alias in node.names:
                    inner = f"{node.module}.{alias.name}"
                    found[name].add(inner if inner in known else node.module)
            elif isinstance(node, ast.Import):
                found[name].update(a.name for a in node.names if a.name in known)
    return {name: frozenset(found[name]) for name in known}


def room(module: str) -> str:
    parts = module.split(".")
    if parts[1:2] == ["core"]:
        return parts[2] if len(parts) > 2 else "core"
    return parts[1] if len(parts) > 1 else ""


class LayersTest(unittest.TestCase):
    def test_no_circle(self):
        """Depth first: a module that is met again on its own path closes a circle."""
        done: set[str] = set()

        def visit(module, path):
            self.assertNotIn(module, path, " -> ".join([*path, module]))
            if module in done:
                return
            for other in sorted(arrows()[module] - {module}):
                visit(other, [*path, module])
            done.add(module)

        for module in sorted(modules()):
            if not modules()[module].name.startswith("__init__"):
                visit(module, [])

    def test_what_is_found_does_not_go_by_the_clock(self):
        """A busy machine must find the same: budgets are counted in work."""
        steady = {"kernels", "databases", "walks", "structures", "formats", "volumes", "finds",
                  "contents", "mending", "stitching", "delivery"}
        beats = {"needlewright.core.stitching.crew", "needlewright.core.stitching.crew_member"}
        for module, path in modules().items():
            if module.startswith("needlewright.core.") and room(module) in steady and (
                    module not in beats):
                names = {alias.name for node in ast.walk(ast.parse(path.read_text("utf-8")))
                         if isinstance(node, ast.Import) for alias in node.names}
                self.assertNotIn("time", names, module)

    def test_core_points_downwards(self):
        rank = {name: index for index, name in enumerate(CORE)}
        for module, others in arrows().items():
            if not module.startswith("needlewright.core."):
                continue
            self.assertIn(room(module), rank, f"{module} has no place in the house")
            for other in others:
                self.assertTrue(other.startswith("needlewright.core"), f"{module} -> {other}")
                self.assertLessEqual(rank[room(other)], rank[room(module)], f"{module} -> {other}")

    def test_who_may_know_whom(self):
        allowed = {"wording": {"core", "wording"}, "demo": {"core", "demo"},
                   "standins": {"core", "standins", "demo"},
                   "app": {"core", "wording", "app", "demo", "standins"},
                   "commands": {"wording", ""}, "start": {"cli", "commands"},
                   "cli": {"core", "wording", "app", "standins", "cli", "commands", "demo", ""}}
        for module, others in arrows().items():
            top = module.split(".")[1] if "." in module else ""
            for other in others:
                target = other.split(".")[1] if "." in other else ""
                if top in allowed:
                    self.assertIn(target, allowed[top], f"{module} -> {other}")

    def test_file_systems_do_not_know_each_other(self):
        for module, others in arrows().items():
            parts = module.split(".")
            if parts[1:3] != ["core", "volumes"] or len(parts) < 5:
                continue
            for other in others:
                theirs = other.split(".")
                if theirs[1:3] == ["core", "volumes"] and len(theirs) > 4:
                    self.assertIn(theirs[3], {parts[3], *SHARED.get(parts[3], ())},
                                  f"{module} -> {other}")

    def test_formats_do_not_know_steps_and_steps_no_formats_by_name(self):
        names = {path.stem for path in (PACKAGE / "core" / "formats").glob("*.py")}
        plumbing = {"base", "registry", "recognising", "__init__"}
        for module, others in arrows().items():
            if room(module) == "search":
                used = {o.split(".")[-1] for o in others if ".core.formats." in o}
                self.assertFalse(used & (names - plumbing), f"{module} names {used}")

    def test_core_imports_no_qt(self):
        for name, path in modules().items():
            if name.startswith(("needlewright.core", "needlewright.wording")):
                text = path.read_text(encoding="utf-8")
                self.assertNotIn("PySide6", text, name)

    def test_no_module_has_grown_two_jobs(self):
        for name, path in modules().items():
            lines = len(path.read_text(encoding="utf-8").splitlines())
            self.assertLessEqual(lines, MOST_LINES, name)

    def test_every_module_says_what_it_is_for(self):
        for name, path in modules().items():
            tree = ast.parse(path.read_text(encoding="utf-8"))
            self.assertTrue(ast.get_docstring(tree), f"{name} has no docstring")

    def test_only_the_job_file_speaks_sql(self):
        for name, path in modules().items():
            # A stand-in makes what phones hold.
            if any(part in name for part in (".core.jobfile", ".checks.worker_pictures",
                                             ".standins.")):
                continue
            text = path.read_text(encoding="utf-8")
            for word in ("import sqlite3", "SELECT ", "INSERT INTO", "UPDATE finds"):
                self.assertNotIn(word, text, name)

    def test_nothing_opens_a_source_for_writing(self):
        for path in (PACKAGE / "core" / "sources").rglob("*.py"):
            text = path.read_text(encoding="utf-8")
            for word in ("O_RDWR", "O_WRONLY", '"wb"', '"r+b"', "O_CREAT", "write_bytes"):
                if path.name == "map_file.py":
                    continue  # the read map beside an image of ours
                self.assertNotIn(word, text, path.name)
