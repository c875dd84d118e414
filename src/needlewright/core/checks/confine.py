"""Leaves this process only what a decoder needs: to compute, to read, and to answer its parent.

Linux: a seccomp filter that lists what is allowed (seccomp(2), made by libseccomp(3), which knows
the numbers of system calls of every architecture), Landlock (landlock(7), rights of its ABI 1 to 5)
and prctl(2). What the kernel or the library lacks is left out, and told. A decoder that was taken
over by a hostile picture can still compute, and read what we could read; it can tell nobody but
the pipe to its parent.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import fcntl
import os
import resource
import struct

PR_SET_NO_NEW_PRIVS, PR_SET_DUMPABLE, PR_SET_NAME, PR_SET_VMA = 38, 4, 15, 0x53564D41
CREATE_RULESET, RESTRICT_SELF = 444, 446  # the same on every architecture
RULESET_VERSION = 1
#: Rights on files by the ABI that brought them: all of ABI 1 but reading; then refer, truncate.
WRITE_RIGHTS = {1: 0b1_1111_1111_0011, 2: 1 << 13, 3: 1 << 14, 5: 1 << 15}
NETWORK_ABI, NETWORK_RIGHTS = 4, 0b11
SCOPE_ABI, SCOPES = 6, 0b11  # abstract sockets, signals
OPEN_FILES, MORE_THREADS = 64, 32

# libseccomp, seccomp.h
ALLOW, REFUSE = 0x7FFF0000, 0x00050000  # … with the error number in the lower half
EVERY_THREAD = 4  # SCMP_FLTATR_CTL_TSYNC
EQUAL, MASKED = 4, 7  # SCMP_CMP_EQ, SCMP_CMP_MASKED_EQ
UNKNOWN_CALL = -1
WRITING = os.O_WRONLY | os.O_RDWR | os.O_CREAT | os.O_TRUNC | os.O_APPEND
TEMPORARY = 0x400000  # O_TMPFILE without its O_DIRECTORY
CLONE_THREAD = 0x10000

#: What a decoder may do whatever the arguments: compute, read what is open, look at what there is,
#: answer. `write` writes to what was open before: the pipe; Landlock lets nothing be opened for it.
ALLOWED = """
 read readv pread64 preadv preadv2 write writev lseek _llseek close close_range dup dup2 dup3
 fstat stat lstat newfstatat fstatat64 fstat64 stat64 lstat64 statx statfs fstatfs statfs64
 fstatfs64 access faccessat faccessat2 readlink readlinkat getcwd getdents getdents64 fadvise64
 readahead mmap mmap2 munmap mremap mprotect madvise mincore brk membarrier futex futex_time64
 futex_waitv set_robust_list get_robust_list rseq set_tid_address exit exit_group restart_syscall
 sched_yield sched_getaffinity sched_getparam sched_getscheduler sched_get_priority_max
 sched_get_priority_min getpriority gettid getpid getppid getuid geteuid getgid getegid getresuid
 getresgid getgroups getpgrp getpgid getsid clock_gettime clock_gettime64 clock_getres
 clock_getres_time64 clock_nanosleep clock_nanosleep_time64 nanosleep gettimeofday time times
 getrusage getrlimit ugetrlimit sysinfo uname getcpu getrandom rt_sigaction rt_sigprocmask
 rt_sigreturn rt_sigpending rt_sigtimedwait sigaltstack poll ppoll select pselect6 arch_prctl
"""
#: Told not to exist, so that libraries take another way; all others are told to be forbidden.
ABSENT = ("clone3", "openat2", "io_uring_setup")


class _Compare(ctypes.Structure):
    """scmp_arg_cmp: which argument, how, with what."""

    _fields_ = [("arg", ctypes.c_uint), ("op", ctypes.c_int), ("a", ctypes.c_uint64),
                ("b", ctypes.c_uint64)]


def _narrowed() -> list[tuple[str, list[tuple[int, int, int, int]]]]:
    """(call, (argument, comparison, mask or value, value) of each) that is allowed only so."""
    reading = WRITING | TEMPORARY
    rules = [
        ("open", [(1, MASKED, reading, 0)]), ("openat", [(2, MASKED, reading, 0)]),
        ("clone", [(0, MASKED, CLONE_THREAD, CLONE_THREAD)]),
        ("tgkill", [(0, EQUAL, os.getpid(), 0)]),  # a library that ends this process
        # What limits this process has; those of others, and new ones, are none of its business.
        ("prlimit64", [(0, EQUAL, 0, 0), (2, EQUAL, 0, 0)]),
    ]
    rules += [("fcntl", [(1, EQUAL, what, 0)]) for what in (
        fcntl.F_GETFD, fcntl.F_SETFD, fcntl.F_GETFL, fcntl.F_DUPFD, fcntl.F_DUPFD_CLOEXEC)]
    rules += [("ioctl", [(1, EQUAL, what, 0)]) for what in (
        0x5401, 0x541B, 0x5450, 0x5451)]  # TCGETS, FIONREAD, FIONCLEX, FIOCLEX
    rules += [("prctl", [(0, EQUAL, what, 0)]) for what in (PR_SET_NAME, PR_SET_VMA)]
    return rules


def _seccomp() -> bool:
    """Whether the filter is in force."""
    try:
        lib = ctypes.CDLL("libseccomp.so.2", use_errno=True)
    except OSError:
        return False
    lib.seccomp_init.restype = ctypes.c_void_p
    lib.seccomp_init.argtypes = [ctypes.c_uint32]
    lib.seccomp_rule_add_array.argtypes = [
        ctypes.c_void_p, ctypes.c_uint32, ctypes.c_int, ctypes.c_uint, ctypes.c_void_p]
    lib.seccomp_attr_set.argtypes = [ctypes.c_void_p, ctypes.c_int, ctypes.c_uint32]
    lib.seccomp_load.argtypes = lib.seccomp_release.argtypes = [ctypes.c_void_p]
    made = lib.seccomp_init(REFUSE | errno.EPERM)
    if not made:
        return False

    def add(action: int, name: str, arguments: list[tuple[int, int, int, int]]) -> bool:
        number = lib.seccomp_syscall_resolve_name(name.encode())
        if number == UNKNOWN_CALL:
            return True  # this library knows no such call, and it stays forbidden
        rules = (_Compare * len(arguments))(*(_Compare(*one) for one in arguments))
        return bool(lib.seccomp_rule_add_array(made, action, number, len(arguments), rules) == 0)

    try:
        lib.seccomp_attr_set(made, EVERY_THREAD, 1)
        added = [add(ALLOW, name, []) for name in ALLOWED.split()]
        added += [add(ALLOW, name, arguments) for name, arguments in _narrowed()]
        added += [add(REFUSE | errno.ENOSYS, name, []) for name in ABSENT]
        return all(added) and lib.seccomp_load(made) == 0
    finally:
        lib.seccomp_release(made)


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
        if _seccomp():
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
