"""Takes from this process what a decoder never needs: network, writing, unlinking, processes.

Linux: seccomp filters (seccomp(2), linux/filter.h, linux/seccomp.h), Landlock (landlock(7), rights
of its ABI 1 to 5) and prctl(2), called through ctypes. What the kernel lacks is left out, and told.
A decoder that was taken over by a hostile picture can still compute, and read what we could read;
it can tell nobody but the pipe to its parent.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import platform
import resource
import struct
import sys
from dataclasses import dataclass

PR_SET_NO_NEW_PRIVS, PR_SET_SECCOMP, PR_SET_DUMPABLE = 38, 22, 4
SECCOMP_MODE_FILTER = 2
ALLOW, KILL = 0x7FFF0000, 0x80000000
REFUSE = 0x00050000  # … with the error number in the lower half
EPERM, ENOSYS = 1, 38
LOAD, EQUAL, AT_LEAST, BITS, RETURN = 0x20, 0x15, 0x35, 0x45, 0x06
NUMBER_AT, ARCH_AT, ARGUMENTS_AT = 0, 4, 16  # in seccomp_data
X32 = 0x40000000
CLONE_THREAD = 0x10000
WRITING = os.O_WRONLY | os.O_RDWR | os.O_CREAT | os.O_TRUNC | os.O_APPEND
TEMPORARY = 0x400000  # O_TMPFILE without its O_DIRECTORY
CREATE_RULESET, RESTRICT_SELF = 444, 446  # the same on every architecture
RULESET_VERSION = 1
#: Rights on files by the ABI that brought them: all of ABI 1 but reading; then refer, truncate.
WRITE_RIGHTS = {1: 0b1_1111_1111_0011, 2: 1 << 13, 3: 1 << 14, 5: 1 << 15}
NETWORK_ABI, NETWORK_RIGHTS = 4, 0b11
SCOPE_ABI, SCOPES = 6, 0b11  # abstract sockets, signals
OPEN_FILES, MORE_THREADS = 64, 32


@dataclass(frozen=True, slots=True)
class _Machine:
    """`arch`: AUDIT_ARCH_…; the numbers of system calls."""

    arch: int
    refused: tuple[int, ...]
    opening: tuple[tuple[int, int], ...]  # (call, index of its flags)
    unknown: tuple[int, ...]  # told not to exist, so that libraries take another way
    clone: int
    tgkill: int


# socket connect bind listen accept accept4 sendto sendmsg sendmmsg socketpair; fork vfork execve
# execveat; creat unlink unlinkat rename renameat renameat2 mkdir mkdirat rmdir link linkat symlink
# symlinkat mknod mknodat chmod fchmod fchmodat chown fchown lchown fchownat truncate ftruncate
# utimensat setxattr lsetxattr fsetxattr; kill tkill ptrace process_vm_readv process_vm_writev
# pidfd_getfd pidfd_open; mount umount2 pivot_root chroot unshare setns bpf perf_event_open keyctl
# add_key request_key init_module finit_module delete_module kexec_load reboot swapon
# userfaultfd open_by_handle_at; io_uring_setup; memfd_create; shmget msgget semget mq_open
_X86_64 = _Machine(
    0xC000003E,
    (41, 42, 49, 50, 43, 288, 44, 46, 307, 53, 57, 58, 59, 322, 85, 87, 263, 82, 264, 316, 83, 258,
     84, 86, 265, 88, 266, 133, 259, 90, 91, 268, 92, 93, 94, 260, 76, 77, 280, 188, 189, 190, 62,
     200, 101, 310, 311, 438, 434, 165, 166, 155, 161, 272, 308, 321, 298, 250, 248, 249, 175, 313,
     176, 246, 169, 167, 323, 304, 425, 319, 29, 68, 64, 240),
    ((2, 1), (257, 2)), (437, 435), 56, 234)
_AARCH64 = _Machine(
    0xC00000B7,
    (198, 203, 200, 201, 202, 242, 206, 211, 269, 199, 221, 281, 35, 38, 276, 34, 37, 36, 33, 52,
     53, 55, 54, 45, 46, 88, 5, 6, 7, 129, 130, 117, 270, 271, 438, 434, 40, 39, 41, 51, 97, 268,
     280, 241, 219, 217, 218, 105, 273, 106, 104, 142, 224, 282, 265, 425, 279, 194, 186, 190, 180),
    ((56, 2),), (437, 435), 220, 131)
_MACHINES = {"x86_64": _X86_64, "aarch64": _AARCH64}

Instruction = tuple[int, int, int, int]  # code, jump if true, jump if false, operand


def _program(machine: _Machine, own: int) -> list[Instruction]:
    """The filter: `own` is the process that may be signalled. Each rule is complete in itself."""
    lines: list[Instruction] = [
        (LOAD, 0, 0, ARCH_AT), (EQUAL, 1, 0, machine.arch), (RETURN, 0, 0, KILL),
        (LOAD, 0, 0, NUMBER_AT)]
    if machine is _X86_64:
        lines += [(AT_LEAST, 0, 1, X32), (RETURN, 0, 0, KILL)]
    for number in machine.refused:
        lines += [(EQUAL, 0, 1, number), (RETURN, 0, 0, REFUSE | EPERM)]
    for number in machine.unknown:
        lines += [(EQUAL, 0, 1, number), (RETURN, 0, 0, REFUSE | ENOSYS)]
    for number, index in machine.opening:
        lines += [(EQUAL, 0, 4, number), (LOAD, 0, 0, ARGUMENTS_AT + 8 * index),
                  (BITS, 0, 1, WRITING | TEMPORARY), (RETURN, 0, 0, REFUSE | EPERM),
                  (RETURN, 0, 0, ALLOW)]
    lines += [(EQUAL, 0, 4, machine.clone), (LOAD, 0, 0, ARGUMENTS_AT),
              (BITS, 1, 0, CLONE_THREAD), (RETURN, 0, 0, REFUSE | EPERM), (RETURN, 0, 0, ALLOW)]
    lines += [(EQUAL, 0, 4, machine.tgkill), (LOAD, 0, 0, ARGUMENTS_AT),
              (EQUAL, 1, 0, own), (RETURN, 0, 0, REFUSE | EPERM), (RETURN, 0, 0, ALLOW)]
    return [*lines, (RETURN, 0, 0, ALLOW)]


class _Filter(ctypes.Structure):
    _fields_ = [("length", ctypes.c_ushort), ("lines", ctypes.c_void_p)]


def _seccomp(libc: ctypes.CDLL) -> bool:
    machine = _MACHINES.get(platform.machine())
    if machine is None or sys.maxsize < 1 << 32:
        return False
    lines = _program(machine, os.getpid())
    packed = b"".join(struct.pack("=HBBI", *line) for line in lines)
    held = ctypes.create_string_buffer(packed, len(packed))
    program = _Filter(len(lines), ctypes.addressof(held))
    return bool(libc.prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, ctypes.byref(program), 0, 0) == 0)


def _landlock(libc: ctypes.CDLL) -> bool:
    """Refuse all writing to files, and the network, without an exception for any place."""
    version = libc.syscall(CREATE_RULESET, None, ctypes.c_size_t(0), RULESET_VERSION)
    if version < 1:
        return False
    rights = sum(bits for abi, bits in WRITE_RIGHTS.items() if abi <= version)
    fields = [rights]
    if version >= NETWORK_ABI:
        fields.append(NETWORK_RIGHTS)
    if version >= SCOPE_ABI:
        fields.append(SCOPES)
    rules = struct.pack(f"={len(fields)}Q", *fields)
    ruleset = libc.syscall(CREATE_RULESET, rules, ctypes.c_size_t(len(rules)), 0)
    if ruleset < 0:
        return False
    try:
        return bool(libc.syscall(RESTRICT_SELF, ruleset, 0) == 0)
    finally:
        os.close(ruleset)


def confine() -> list[str]:
    """Confine this process for good; returns the names of what this kernel could not take away."""
    libc = _libc()
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_NOFILE, (OPEN_FILES, OPEN_FILES))
    libc.prctl(PR_SET_DUMPABLE, 0, 0, 0, 0)
    missing = ["landlock", "seccomp"]
    if libc.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0:
        if _landlock(libc):
            missing.remove("landlock")
        if _seccomp(libc):
            missing.remove("seccomp")
    if "seccomp" in missing:  # or else a limit that counts the user's other processes as well
        _limit_processes()
    return missing


def _limit_processes() -> None:
    """A few threads more than the user has now: decoders of some formats need one or two."""
    threads = 0
    for entry in os.scandir("/proc"):
        if entry.name.isdigit():
            with contextlib.suppress(OSError):
                if entry.stat().st_uid == os.getuid():
                    threads += len(os.listdir(f"/proc/{entry.name}/task"))
    _, hard = resource.getrlimit(resource.RLIMIT_NPROC)
    most = threads + MORE_THREADS
    if hard == resource.RLIM_INFINITY or most < hard:
        resource.setrlimit(resource.RLIMIT_NPROC, (most, most))


def _libc() -> ctypes.CDLL:
    libc = ctypes.CDLL(None, use_errno=True)
    libc.syscall.restype = ctypes.c_long
    libc.prctl.restype = ctypes.c_int
    libc.prctl.argtypes = [ctypes.c_int, *[ctypes.c_void_p] * 4]
    return libc
