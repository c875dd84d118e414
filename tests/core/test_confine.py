"""What a decoder that was taken over could still do: nothing but answer through its pipe."""

from __future__ import annotations

import contextlib
import json
import os
import select
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from needlewright.core import processes
from needlewright.core.checks import decoding
from needlewright.core.checks.decoding import DecodeRequest, DecoderPool
from needlewright.core.sources.memory import MemorySource
from tests.support import camera_jpeg, jpeg, noise

ATTEMPTS = """
import json, os, signal, socket, sys, threading
from needlewright.core.checks.confine import confine
folder = sys.argv[1]
there = os.path.join(folder, "there")
missing = confine()
def fork():
    if os.fork() == 0:
        os._exit(0)
def truncate_by_mode():
    open(there, "r+").close()
attempts = {
    "connect": lambda: socket.socket().connect(("127.0.0.1", int(sys.argv[2]))),
    "unix": lambda: socket.socket(socket.AF_UNIX),
    "pair": lambda: socket.socketpair(),
    "create": lambda: open(os.path.join(folder, "new"), "w"),
    "append": lambda: open(there, "a"), "update": truncate_by_mode,
    "unlink": lambda: os.unlink(there), "rename": lambda: os.rename(there, there + "2"),
    "truncate": lambda: os.truncate(there, 0), "mkdir": lambda: os.mkdir(there + ".d"),
    "symlink": lambda: os.symlink(there, there + ".l"), "link": lambda: os.link(there, there + "3"),
    "chmod": lambda: os.chmod(there, 0o777), "fork": fork,
    "spawn": lambda: os.posix_spawn("/bin/true", ["true"], {}),
    "exec": lambda: os.execv("/bin/true", ["true"]),
    "kill": lambda: os.kill(os.getppid(), 0), "memfd": lambda: os.memfd_create("x"),
}
done = []
for name, attempt in attempts.items():
    try:
        attempt()
    except (OSError, PermissionError):
        continue
    done.append(name)
thread = threading.Thread(target=lambda: None)  # decoders of some formats start some
thread.start()
thread.join()
print(json.dumps({"missing": missing, "done": done, "read": open(there).read()}))
"""


class ConfinementTest(unittest.TestCase):
    def test_a_confined_process_cannot_connect_write_unlink_or_fork(self) -> None:
        import socket

        with tempfile.TemporaryDirectory() as folder, socket.create_server(("127.0.0.1", 0)) as on:
            (Path(folder) / "there").write_text("kept")
            told = subprocess.run(
                [sys.executable, "-I", "-c", ATTEMPTS, folder, str(on.getsockname()[1])],
                capture_output=True, text=True, check=True, timeout=60)
            answer = json.loads(told.stdout)
            self.assertEqual(answer["read"], "kept")
            self.assertEqual(os.listdir(folder), ["there"])
            if "seccomp" in answer["missing"]:
                self.skipTest("this kernel has no seccomp")
            self.assertEqual(answer["done"], [])

    def test_a_decoder_ends_with_the_program_it_works_for(self) -> None:
        script = ("from needlewright.core.checks.decoding import *;"
                  "from needlewright.core.sources.memory import MemorySource\n"
                  "pool = DecoderPool(1)\n"
                  "pool.submit(1, DecodeRequest(MemorySource(b'x' * 64), ((0, 64),), 'JPEG', 1))\n"
                  "while not list(pool.results(0.1)): pass\n"
                  "print(pool.processes()[0], flush=True)\n"
                  "import os, signal; os.kill(os.getpid(), signal.SIGKILL)")
        told = subprocess.run([sys.executable, "-I", "-c", script], capture_output=True, text=True,
                              timeout=60)
        worker = int(told.stdout)
        with contextlib.suppress(ProcessLookupError):
            ended = os.pidfd_open(worker)
            self.addCleanup(os.close, ended)
            self.assertTrue(select.select([ended], [], [], 30)[0])


class PoolTest(unittest.TestCase):
    def pool(self) -> DecoderPool[int]:
        pool: DecoderPool[int] = DecoderPool(1)
        self.addCleanup(pool.close)
        return pool

    def answer(self, pool: DecoderPool[int], request: DecodeRequest) -> decoding.DecodeReport:
        pool.submit(1, request)
        while True:
            for _, report in pool.results(0.2):
                return report

    def test_bytes_that_only_the_parent_can_read_are_served_piece_by_piece(self) -> None:
        data = jpeg() + noise(3 << 20)
        self.addCleanup(setattr, decoding, "MAX_SENT_BYTES", decoding.MAX_SENT_BYTES)
        decoding.MAX_SENT_BYTES = 1000
        pool = self.pool()
        report = self.answer(pool, DecodeRequest(MemorySource(data), ((0, len(data)),), "JPEG", 1))
        self.assertTrue(report.ok, report)
        self.assertEqual((report.width, report.height), (640, 480))
        blank = MemorySource(bytes(4096))
        again = self.answer(pool, DecodeRequest(blank, ((0, 4096),), "JPEG", 1))
        self.assertEqual(again.error, "undecodable")

    def test_a_worker_that_answers_nonsense_is_replaced(self) -> None:
        request = DecodeRequest(MemorySource(jpeg()), ((0, len(jpeg())),), "JPEG", 1)
        hostile = (b'{"blobs": [99999999999]}\n', b"\xff\n", b"[]\n", b'{"want": [0, 1e9]}\n',
                   b'{"want": [-5, 10]}\n', b'{"ok": 1, "blobs": [0, 0, 0, 0, 0, 0]}\n',
                   b"x" * (decoding.MAX_LINE_BYTES + 1), b'{"blobs": [-1]}\n')
        for said in hostile:
            with self.subTest(said[:30]):
                pool = self.pool()
                worker = pool._start()
                pool._send(worker, 7, request)
                worker.inbox += said
                reports = [worker.inbox, *pool.results(5.0)]
                while len(reports) < 2:
                    reports += pool.results(1.0)
                key, report = reports[1]
                self.assertEqual((key, report.error), (7, decoding.LOST_TO_CRASH))
                self.assertTrue(self.answer(pool, request).ok)

    def test_a_preview_is_shown_as_decoded_and_never_as_its_own_bytes(self) -> None:
        photo = camera_jpeg()
        start = photo.index(b"\xff\xd8\xff", 2)
        stop = photo.index(b"\xff\xd9", start) + 2
        broken = photo[: len(photo) // 2]
        report = self.answer(self.pool(), DecodeRequest(
            MemorySource(broken), ((0, len(broken)),), "JPEG", 1, (start, stop), inset=True))
        self.assertTrue(report.inset.startswith(b"\xff\xd8\xff"))
        self.assertNotIn(report.inset, photo)


HOSTILE = ("PIL", "bagit", "json", "platformdirs", "numpy", "struct", "random", "needlewright",
           "multiprocessing", "concurrent", "numba", "av", "sqlite3", "httpx", "cryptography",
           "cheroot", "wsgidav", "defusedxml", "plistlib")


class HostileFolderTest(unittest.TestCase):
    """A stranger's modules in the working directory and in PYTHONPATH."""

    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.trace = self.folder / "ran"
        for name in HOSTILE:
            (self.folder / f"{name}.py").write_text(
                f"open({str(self.trace)!r}, 'a').write({name!r} + chr(10))\n"
                "raise SystemExit('hostile')\n")

    def run_there(self, *command: str, stdin: str = "") -> subprocess.CompletedProcess[str]:
        surroundings = {**os.environ, "PYTHONPATH": str(self.folder), "PYTHONSTARTUP":
                        str(self.folder / "PIL.py")}
        done = subprocess.run(command, cwd=self.folder, env=surroundings, input=stdin,
                              capture_output=True, text=True, timeout=300)
        self.assertFalse(self.trace.exists(), self.trace.exists() and self.trace.read_text())
        return done

    def test_every_kind_of_child_is_started_isolated(self) -> None:
        """Each child as the program itself starts it, with arguments that end it soon."""
        own = str(os.getpid())
        children = {
            "core.checks.decode_worker": (own,),
            "core.imaging.hash_child": ("0", "1", "sha256", "0", "1"),
            "core.stitching.crew_member": (own, "0"),
            "core.imaging.reader_child": ("/nowhere", "0", "1"),
            "core.phones.child": ("ptpip://127.0.0.1:1",),
            "standins.phone": ("/nowhere", "/nowhere"),
            "standins.album": ("/nowhere", "/nowhere"),
            "standins.sync": ("/nowhere", "/nowhere"),
            "standins.survey_backups": ("/dev/null/nowhere",),
            "standins.reader": ("/nowhere", "/nowhere", "/nowhere", "/nowhere"),
            "demo": (str(self.folder / "PIL.py"),),
        }
        source = Path(processes.__file__).parents[1]
        started = {line.split('"')[1].removeprefix("needlewright.")
                   for path in source.rglob("*.py") for line in path.read_text().splitlines()
                   if '"needlewright.' in line and "Registry(" not in line
                   and "also=" not in line}
        self.assertEqual(started - set(children), set())
        for module, arguments in children.items():
            with self.subTest(module):
                self.run_there(*processes.command(f"needlewright.{module}", *arguments))

    def test_a_whole_run_imports_nothing_from_where_it_was_started(self) -> None:
        card = self.folder / "card.img"
        card.write_bytes(bytes(4096) + camera_jpeg() + bytes(1 << 16))
        script = Path(sys.executable).parent / "needlewright"
        # The program itself is the user's own choice; it starts its children from there.
        done = subprocess.run(
            [sys.executable, "-I", str(script), "run", "card.img", "--job", "job", "--to", "bag"],
            cwd=self.folder, env={**os.environ, "PYTHONPATH": str(self.folder)},
            capture_output=True, text=True, timeout=300)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertFalse(self.trace.exists(), self.trace.exists() and self.trace.read_text())
        self.assertTrue((self.folder / "bag" / "bagit.txt").exists())

    def test_the_module_form_drops_the_working_directory(self) -> None:
        surroundings = {k: v for k, v in os.environ.items() if k != "PYTHONPATH"}
        (self.folder / "needlewright.py").unlink()
        for name in ("json", "struct", "random", "sqlite3", "platformdirs"):
            self.assertTrue((self.folder / f"{name}.py").exists())
        done = subprocess.run([sys.executable, "-m", "needlewright", "--version"], cwd=self.folder,
                              env=surroundings, capture_output=True, text=True, timeout=60)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertFalse(self.trace.exists())
