"""Processes that read USD, forked from one that has loaded what they read with.

A process of its own takes a second to load that, and tests open hundreds of stages.  What they do
then is the same: each is shut in by itself, ends by itself, and is heard by the same lines.
`alone` has them begin as the program does.
"""

from __future__ import annotations

import contextlib
import io
import os
import signal
import socket
import struct
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any
from unittest.mock import patch

from mill_lane.core.formats.usd import guard

NUMBER = struct.Struct("q")
LARGEST = 1 << 16  # bytes of a command
_began = guard.Popen  # as the program does it
_alone = threading.Lock()
_server: socket.socket | None = None


class Reader:
    """What `guard` knows of a process: its output, that it can be killed, and how it ended."""

    def __init__(self, command: list[str], **_: Any) -> None:
        ours, theirs = os.pipe()
        told, tell = os.pipe()
        self.stdout, self._told = io.FileIO(ours), told
        at = command.index("-m") + 2
        with _alone:
            request = "\0".join([os.getcwd(), *command[at:]]).encode()
            socket.send_fds(_channel(), [request], [theirs, tell])
        os.close(theirs)
        os.close(tell)
        self._pid = self._number()
        self.returncode: int | None = None

    def _number(self) -> int:
        return int(NUMBER.unpack(os.read(self._told, NUMBER.size))[0])

    def wait(self) -> None:
        """Until it has ended."""
        if self.returncode is None:
            self.returncode = self._number()
            os.close(self._told)

    def kill(self) -> None:
        """End it at once."""
        if self.returncode is None:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self._pid, signal.SIGKILL)

    def __enter__(self) -> Reader:
        return self

    def __exit__(self, *_: object) -> None:
        self.stdout.close()
        self.wait()


def _channel() -> socket.socket:
    """The way to the process that forks; it ends with this one."""
    global _server
    if _server is None:
        _server, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        command = [sys.executable, "-m", __name__, str(theirs.fileno())]
        _began(command, stdin=subprocess.DEVNULL, pass_fds=[theirs.fileno()])
        theirs.close()
    return _server


def forked() -> None:
    """From now on, have this process's readers forked."""
    patch.object(guard, "Popen", Reader).start()


@contextmanager
def alone() -> Iterator[None]:
    """While it lasts, each begins as a program of its own."""
    with patch.object(guard, "Popen", _began):
        yield


def main(channel: socket.socket) -> None:
    """Fork readers, one after another, until nobody asks any more."""
    import scipy.sparse.csgraph  # noqa: F401  (what is forked needs them)

    import mill_lane.core.formats.gltf
    import mill_lane.core.formats.usd.read  # noqa: F401
    from mill_lane.core.formats.usd.__main__ import run

    while True:
        request, handles, _, _ = socket.recv_fds(channel, LARGEST, 2)
        if not request:
            return
        out, tell = handles
        pid = os.fork()
        if not pid:
            channel.close()
            os.dup2(out, 1)
            os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
            for handle in handles:
                os.close(handle)
            status = 1  # as where an error is not caught
            try:
                folder, *arguments = request.decode().split("\0")
                os.chdir(folder)
                status = run(arguments)
                sys.stdout.flush()
            finally:
                os._exit(status)
        os.close(out)
        os.write(tell, NUMBER.pack(pid))
        os.write(tell, NUMBER.pack(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])))
        os.close(tell)


if __name__ == "__main__":
    main(socket.socket(fileno=int(sys.argv[1])))
