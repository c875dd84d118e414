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

#: Every call that writes to a file or to what is told of it, makes, moves or removes one, or
#: reaches another process: with arguments with which it would succeed. P: a file, Q: nothing yet,
#: D: an empty folder, F: the file, open; A: relative to the folder; O: the parent; B: some bytes.
CALLS = """
 utime:P,0 utimes:P,0 futimesat:A,P,0 utimensat:A,P,0,0 utimensat:F,0,0,0 chmod:P,511 fchmod:F,511
 fchmodat:A,P,511 fchmodat2:A,P,511,0 chown:P,1,1 lchown:P,1,1 fchown:F,1,1 fchownat:A,P,1,1,0
 setxattr:P,X,B,1,0 lsetxattr:P,X,B,1,0 fsetxattr:F,X,B,1,0 setxattrat:A,P,0,X,B,16
 removexattr:P,X lremovexattr:P,X fremovexattr:F,X removexattrat:A,P,0,X truncate:P,0
 ftruncate:F,0 fallocate:F,0,0,9 unlink:P unlinkat:A,P,0 rmdir:D rename:P,Q renameat:A,P,A,Q
 renameat2:A,P,A,Q,0 link:P,Q linkat:A,P,A,Q,0 symlink:P,Q symlinkat:P,A,Q mkdir:Q,511
 mkdirat:A,Q,511 mknod:Q,33188,0 mknodat:A,Q,33188,0 creat:Q,420 open:P,2 open:P,1025 openat:A,P,2
 openat:A,Q,65 openat2:A,P,B,24 open_by_handle_at:A,B,2 file_setattr:A,P,B,24,0 pwrite64:F,B,1,0
 pwritev:F,B,0,0 pwritev2:F,B,0,0,0 copy_file_range:F,0,F,0,1,0 sendfile:F,F,0,1
 splice:F,0,F,0,1,0 ioctl:F,1074292226,B fcntl:F,1024,1 sync:0 syncfs:F fsync:F swapon:P,0
 quotactl:0,P,0,B acct:P mount:P,D,0,4096,0 umount2:D,0 chroot:D pivot_root:D,D fsopen:X,0
 open_tree:A,P,0 move_mount:A,P,A,Q,0 mount_setattr:A,D,0,B,32 memfd_create:X,0 shmget:0,4096,950
 mq_open:X,64,420,0 prlimit64:O,7,0,B prlimit64:0,7,B,0 setrlimit:7,B setpriority:0,O,19
 ioprio_set:1,O,0 sched_setaffinity:O,8,B sched_setscheduler:O,0,B sched_setattr:O,B,0
 migrate_pages:O,8,B,B move_pages:O,0,0,0,0,0 kill:O,0 tkill:O,0 tgkill:O,O,0
 rt_sigqueueinfo:O,0,B pidfd_open:O,0 pidfd_send_signal:F,0,0,0 process_vm_readv:O,B,0,B,0,0
 process_vm_writev:O,B,0,B,0,0 process_madvise:F,B,0,0,0 ptrace:16,O,0,0 kcmp:O,O,0,0,0 fork:0
 vfork:0 clone:17,0,0,0,0 clone3:B,64 execve:P,0,0 execveat:A,P,0,0,0 unshare:1024 setns:F,0
 prctl:23,0 socket:1,1,0 socketpair:1,1,0,B bind:F,B,2 connect:F,B,2 bpf:0,B,8
 perf_event_open:B,0,0,0,0 io_uring_setup:1,B keyctl:0,0,0,0,0 add_key:X,X,B,1,0 userfaultfd:0
 name_to_handle_at:A,P,B,B,0 inotify_init1:0 fanotify_init:0,0 setuid:1 setgid:1 setsid:0
 personality:8 sethostname:X,1 settimeofday:B,0 reboot:0,0,0,0 kexec_load:0,0,0,0
 init_module:B,1,X landlock_create_ruleset:B,8,0
"""
EVERY_CALL = """
import ctypes, json, os, sys
from needlewright.core.checks.confine import confine
folder, calls = sys.argv[1], sys.argv[2:]
lib, libc = ctypes.CDLL("libseccomp.so.2"), ctypes.CDLL(None, use_errno=True)
numbers = {c: lib.seccomp_syscall_resolve_name(c.split(":")[0].encode()) for c in calls}
held = ctypes.create_string_buffer(4096)
names = {"P": "there", "Q": "new", "D": "empty"}
values = {k: ctypes.c_char_p(os.path.join(folder, v).encode()) for k, v in names.items()}
values |= {"F": os.open(os.path.join(folder, "there"), os.O_RDONLY), "A": -100, "B": held,
           "O": os.getppid(), "X": ctypes.c_char_p(b"user.mark")}
missing = confine()
went = []
for call in calls:
    arguments = call.split(":")[1].split(",")
    if numbers[call] < 0:
        continue
    ctypes.set_errno(0)
    done = libc.syscall(numbers[call], *(values[a] if a in values else ctypes.c_long(int(a))
                                         for a in arguments))
    if done != -1 or ctypes.get_errno() not in (1, 38):
        went.append((call, done, ctypes.get_errno()))
tried = sum(n >= 0 for n in numbers.values())
print(json.dumps({"missing": missing, "went": went, "tried": tried}))
"""


class ConfinementTest(unittest.TestCase):
    def test_every_call_that_writes_or_reaches_another_process_is_refused(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            there = Path(folder) / "there"
            there.write_text("kept")
            (Path(folder) / "empty").mkdir()
            os.utime(there, (1_000_000_000, 1_000_000_000))
            before = there.stat()
            told = subprocess.run([sys.executable, "-I", "-c", EVERY_CALL, folder, *CALLS.split()],
                                  capture_output=True, text=True, timeout=60)
            self.assertEqual(told.returncode, 0, told.stderr)
            answer = json.loads(told.stdout)
            if "seccomp" in answer["missing"]:
                self.skipTest("this kernel has no seccomp")
            self.assertEqual(answer["went"], [])
            self.assertGreater(answer["tried"], 90)
            after = there.stat()
            for name in ("st_mode", "st_uid", "st_size", "st_mtime_ns", "st_nlink", "st_ino"):
                self.assertEqual(getattr(before, name), getattr(after, name), name)
            self.assertEqual(sorted(os.listdir(folder)), ["empty", "there"])

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
                pool._send(worker, 7, request, request.message())
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
            "core.phones.child": ("ptpip://127.0.0.1:1", own),
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
