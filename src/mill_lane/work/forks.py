"""Processes of this program, asked of the fork server: they begin within milliseconds."""

from __future__ import annotations

import contextlib
import os
import pickle
import signal
import socket
import struct
import sys
import threading
from collections.abc import Callable, Sequence
from multiprocessing.connection import Connection, wait
from typing import Any

NUMBER = struct.Struct("q")  # a process's number, then how it ended
GONE = -int(signal.SIGKILL)  # what is told where the fork server is gone, and all with it


class Process:
    """A process that was asked for.

    Attributes
    ----------
    pid : int
    sentinel : int
        A file descriptor that is readable once it has ended, for `multiprocessing.connection.wait`.
    """

    def __init__(self, status: int) -> None:
        self.sentinel = status
        self._alone = threading.Lock()
        self._code: int | None = None
        found = _number(status)
        if found is None:
            os.close(status)
            raise ConnectionError("the fork server is gone")
        self.pid = found

    @property
    def exit_code(self) -> int | None:
        """How it ended, negative for a signal; None while it runs."""
        with self._alone:
            if self._code is None and wait([self.sentinel], 0):
                code = _number(self.sentinel)
                self._code = GONE if code is None else code
            return self._code

    def alive(self) -> bool:
        """Whether it runs."""
        return self.exit_code is None

    def join(self, seconds: float | None = None) -> None:
        """Wait until it has ended, so long at most."""
        if self.alive():
            wait([self.sentinel], seconds)

    def terminate(self) -> None:
        """Ask it to end."""
        self._send(signal.SIGTERM)

    def kill(self) -> None:
        """End it at once."""
        self._send(signal.SIGKILL)

    def _send(self, number: signal.Signals) -> None:
        if self.alive():
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, number)

    def __del__(self) -> None:
        with contextlib.suppress(OSError):
            os.close(self.sentinel)


class _Client:
    """This process's way to the fork server."""

    def __init__(self) -> None:
        self.channel: socket.socket | None = None
        self.server: int | None = None  # its process, where this one started it
        self.alone = threading.Lock()

    def born(self, channel: socket.socket) -> None:
        """Be a process that was forked, and has this channel."""
        self.channel, self.server, self.alone = channel, None, threading.Lock()

    def start(self, target: Callable[..., None], pipes: Sequence[Connection], args: Any) -> Process:
        request = pickle.dumps((dict(os.environ), os.getcwd(), list(sys.path), target, args))
        ours, theirs = os.pipe()
        try:
            handles = [theirs, *(p.fileno() for p in pipes)]
            with self.alone:
                self._send(request, handles)
        except BaseException:
            os.close(ours)
            raise
        finally:
            os.close(theirs)
        return Process(ours)

    def _send(self, request: bytes, handles: list[int]) -> None:
        if self.channel is not None:
            try:
                socket.send_fds(self.channel, [request], handles)
                return
            except ConnectionError:
                if self.server is None:  # that of the process which asked for this one
                    raise
                os.waitpid(self.server, 0)
        self.begin(_run)
        assert self.channel is not None
        socket.send_fds(self.channel, [request], handles)

    def begin(self, start: Callable[[socket.socket], int]) -> None:
        """Have a fork server, begun with its end of the channel."""
        self.channel, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            try:
                self.server = start(theirs)
            except BaseException:
                self.leave()
                raise

    def leave(self) -> None:
        """Ask for nothing any more."""
        if self.channel is not None:
            self.channel.close()
            self.channel = None


def _run(channel: socket.socket) -> int:
    """Start a fork server from nothing, as where this process has threads."""
    handle = str(channel.fileno())
    command = [sys.executable, "-m", "mill_lane.work.fork_server", handle]
    channel.set_inheritable(True)
    nothing = (os.POSIX_SPAWN_OPEN, 0, os.devnull, os.O_RDONLY, 0)
    return os.posix_spawn(sys.executable, command, os.environ, file_actions=[nothing])


client = _Client()


def start(target: Callable[..., None], *args: Any, pipes: Sequence[Connection] = ()) -> Process:
    """Have a function called in a process of its own, which begins within some milliseconds.

    Parameters
    ----------
    target : callable
        Of a module.
    *args
        What it gets after its pipes.
    pipes : sequence of Connection
        Ends that it gets; those here may be closed.

    Raises
    ------
    OSError
        Where no process can be had.
    """
    return client.start(target, pipes, args)


def _number(handle: int) -> int | None:
    """A number that the fork server wrote; None where it is gone."""
    try:
        found = os.read(handle, NUMBER.size)
    except OSError:
        return None
    return int(NUMBER.unpack(found)[0]) if len(found) == NUMBER.size else None
