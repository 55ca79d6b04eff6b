"""The fork server: a process with everything imported and the renderer loaded, that forks.

Importing takes 2 s of a processor and loading the kernels another: that is done once.  It has one
thread, so that a fork of it is whole.  Each process may ask for others, over a socket of its own
(socketpair(2)); when that closes, what the process asked for is killed.  The fork server ends with
the process that started it, and has the system end what it forked.
"""

from __future__ import annotations

import atexit
import contextlib
import gc
import os
import pickle
import selectors
import signal
import socket
import sys
import threading
import traceback
from collections.abc import Callable
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from pathlib import Path

import mill_lane.work.child
import mill_lane.work.kinds
import mill_lane.work.worker  # noqa: F401  (what is forked needs them)
from mill_lane.core.progress import silent
from mill_lane.work import warm
from mill_lane.work.forks import NUMBER, client
from mill_lane.work.limits import end_with

LARGEST = 1 << 20  # bytes of a request
MOST_HANDLES = 8


@dataclass
class _Asking:
    """One that may ask: its socket, and the processes it has asked for."""

    channel: socket.socket
    running: set[int] = field(default_factory=set)


class _ForkServer:
    """Forks when asked, and tells how what it forked ended."""

    def __init__(self, root: socket.socket) -> None:
        self.root = _Asking(root)
        self.asking = {root.fileno(): self.root}
        self.status: dict[int, int] = {}  # where the end of a process is to be told
        self.loaded = False
        self.selector = selectors.DefaultSelector()
        self.selector.register(root, selectors.EVENT_READ, self.root)
        # The handler does nothing; the number of the signal in the pipe is what wakes the loop.
        self.rung, self.bell = os.pipe()
        os.set_blocking(self.rung, False)
        os.set_blocking(self.bell, False)
        signal.signal(signal.SIGCHLD, lambda *_: None)
        signal.set_wakeup_fd(self.bell)
        self.selector.register(self.rung, selectors.EVENT_READ)

    def serve(self) -> Callable[[], None]:
        """Fork until nobody asks any more; returns in each process what it is to do."""
        _freeze()
        while True:
            for key, _ in self.selector.select():
                if key.data is None:
                    with contextlib.suppress(BlockingIOError):
                        os.read(self.rung, 4096)
                    self._reap()
                    continue
                work = self._hear(key.data)
                if work is not None:
                    return work
            # The first is the worker, who needs none of this; all others do.
            if self.status and not self.loaded:
                self.loaded = True
                if warm.complete():
                    warm.prepare(silent)
                    _freeze()

    def _hear(self, asking: _Asking) -> Callable[[], None] | None:
        try:
            request, handles, _, _ = socket.recv_fds(asking.channel, LARGEST, MOST_HANDLES)
        except OSError:
            request, handles = b"", []
        if request:
            return self._fork(asking, request, handles)
        if asking is self.root:
            return lambda: None
        for pid in asking.running:
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        self.selector.unregister(asking.channel)
        del self.asking[asking.channel.fileno()]
        asking.channel.close()
        return None

    def _fork(
        self, asking: _Asking, request: bytes, handles: list[int]
    ) -> Callable[[], None] | None:
        status, *pipes = handles
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        parent = os.getpid()
        try:
            pid = os.fork()
        except OSError:  # whoever asked finds the pipe closed
            for handle in handles:
                os.close(handle)
            ours.close()
            theirs.close()
            return None
        if not pid:
            os.close(status)
            ours.close()
            self._leave()
            client.born(theirs)
            return lambda: _work(parent, request, pipes)
        theirs.close()
        for handle in pipes:
            os.close(handle)
        asking.running.add(pid)
        self.status[pid] = status
        self._tell(status, pid)
        new = _Asking(ours)
        self.asking[ours.fileno()] = new
        self.selector.register(ours, selectors.EVENT_READ, new)
        return None

    def _leave(self) -> None:
        """In the new process: be nobody's server."""
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        signal.signal(signal.SIGINT, signal.default_int_handler)
        self.selector.close()
        for asking in self.asking.values():
            asking.channel.close()
        for handle in (self.rung, self.bell, *self.status.values()):
            os.close(handle)

    def _reap(self) -> None:
        while True:
            try:
                pid, how = os.waitpid(-1, os.WNOHANG)
            except ChildProcessError:
                return
            if not pid:
                return
            for asking in self.asking.values():
                asking.running.discard(pid)
            status = self.status.pop(pid, None)
            if status is not None:
                self._tell(status, os.waitstatus_to_exitcode(how))
                os.close(status)

    def _tell(self, status: int, number: int) -> None:
        with contextlib.suppress(OSError):  # whoever asked is gone
            os.write(status, NUMBER.pack(number))


def _freeze() -> None:
    """Have the collector leave alone what is shared: it would be copied by being looked at."""
    gc.collect()
    gc.freeze()


def _work(parent: int, request: bytes, pipes: list[int]) -> None:
    if not end_with(parent):
        return
    try:
        environment, folder, path, target, args = pickle.loads(request)
        os.environ.clear()
        os.environ.update(environment)
        with contextlib.suppress(OSError):
            os.chdir(folder)
        sys.path[:] = path
        target(*(Connection(handle) for handle in pipes), *args)
    except Exception:
        traceback.print_exc()
        sys.exit(1)


def main(channel: socket.socket) -> None:
    """Be the fork server for the process at the other end of a socket."""
    atexit.register(gc.unfreeze)  # at the end everything is to be let go of
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is the server's to handle
    _ForkServer(channel).serve()()


def begin() -> None:
    """Fork the fork server off this process, which has imported everything: that saves its 2 s.

    Where this process has several threads, one is started from nothing when it is needed.
    """
    if threading.active_count() == 1:
        client.begin(_forked)


def _forked(channel: socket.socket) -> int:
    pid = os.fork()
    if pid:
        return pid
    code = 1
    try:
        client.leave()
        with Path(os.devnull).open() as nothing:
            os.dup2(nothing.fileno(), 0)
        main(channel)
        code = 0
    except SystemExit as e:
        code = e.code if isinstance(e.code, int) else 1
    except BaseException:
        traceback.print_exc()
    finally:
        # As at the end of a program, but without what called this function.
        threading._shutdown()  # type: ignore[attr-defined]
        atexit._run_exitfuncs()
        with contextlib.suppress(OSError, ValueError):
            sys.stdout.flush()
            sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    main(socket.socket(fileno=int(sys.argv[1])))
