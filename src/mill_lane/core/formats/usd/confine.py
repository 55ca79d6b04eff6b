"""Letting a process see no files but those it is to read (Linux, Landlock).

Composition of a stage opens whatever its layers name, by references, expressions, clips and other
means that are evaluated within the library.  So the process that composes is shut in first: it can
open the scene's own folder, its libraries, and nothing else, and has no network.

References
----------
The Linux kernel's documentation, userspace-api/landlock.  The numbers are those of its headers
(linux/landlock.h, asm-generic/unistd.h).
"""

from __future__ import annotations

import ctypes
import os
import struct
import sys
import sysconfig
from collections.abc import Iterable
from pathlib import Path

CREATE_RULESET, ADD_RULE, RESTRICT_SELF = 444, 445, 446
ASK_VERSION = 1
PATH_BENEATH = 1
PR_SET_NO_NEW_PRIVS = 38
READ_FILE, READ_DIR, EXECUTE, WRITE_FILE, TRUNCATE = 1 << 2, 1 << 3, 1 << 0, 1 << 1, 1 << 14
OF_A_FILE = READ_FILE | WRITE_FILE | EXECUTE | TRUNCATE
# How many kinds of access each version of the interface knows.
ACCESS_BITS = {1: 13, 2: 14, 3: 15, 4: 15, 5: 16}
NETWORK_VERSION = 4
NETWORK = 0b11  # to bind, to connect
SYSTEM_FOLDERS = ("/usr/lib", "/usr/lib64", "/lib", "/lib64", "/usr/local/lib", "/usr/share")
SYSTEM_FILES = ("/dev/null", "/dev/urandom", "/etc/ld.so.cache", "/proc/meminfo", "/proc/cpuinfo")


def libraries() -> list[Path]:
    """Folders from which this process may still load code."""
    found = [Path(p) for p in (*sys.path, *sysconfig.get_paths().values(), sys.prefix) if p]
    found.append(Path(__file__).resolve().parents[3])
    return [*found, *(Path(p) for p in (*SYSTEM_FOLDERS, *SYSTEM_FILES))]


def confine(readable: Iterable[Path], writable: Iterable[Path]) -> bool:
    """Shut this process in, and all that it starts; there is no way back.

    Parameters
    ----------
    readable, writable : iterable of Path
        Folders with all that is in them, or single files, beside the libraries.

    Returns
    -------
    bool
        False where the system has no such means; whoever calls has to look at what was opened.
    """
    libc = ctypes.CDLL(None, use_errno=True)
    version = libc.syscall(CREATE_RULESET, None, 0, ASK_VERSION)
    if version < 1:
        return False
    every = (1 << ACCESS_BITS.get(version, 16)) - 1
    network = NETWORK if version >= NETWORK_VERSION else 0
    attributes = struct.pack("QQ", every, network) if network else struct.pack("Q", every)
    handle = libc.syscall(CREATE_RULESET, attributes, len(attributes), 0)
    if handle < 0:
        return False
    reading = READ_FILE | READ_DIR
    rules = [(p, reading) for p in readable] + [(p, every & ~EXECUTE) for p in writable]
    rules += [(p, reading | EXECUTE) for p in libraries()]
    for path, access in rules:
        _allow(libc, handle, path, access & every)
    if libc.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) != 0:
        return False
    done = libc.syscall(RESTRICT_SELF, handle, 0) == 0
    os.close(handle)
    return done


def _allow(libc: ctypes.CDLL, handle: int, path: Path, access: int) -> None:
    try:
        opened = os.open(path, os.O_PATH | os.O_CLOEXEC)
    except OSError:
        return  # what is not there needs no rule
    try:
        if not path.is_dir():
            access &= OF_A_FILE
        rule = struct.pack("=Qi", access, opened)
        libc.syscall(ADD_RULE, handle, PATH_BENEATH, rule, 0)
    finally:
        os.close(opened)
