"""Hawser's own word that it is at work, for a watch that sees no sign of life: over a socket in
memory, since the disk may be what hangs. Only the same person's processes are believed; nothing is
heard but that somebody asks.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import socket
import struct
import threading
from collections.abc import Callable
from pathlib import Path

ANSWER_WAIT_S = 1.0  # seconds an answer is waited for: a frozen process gives none
LONGEST = 64  # bytes of an answer
PEER = struct.Struct("3i")  # process, user, group


def _name(path: Path) -> str:
    """The socket's name, of no file, made from that of the sign of life without looking at the
    disk."""
    return "\0hawser-" + hashlib.sha256(str(path.absolute()).encode()).hexdigest()[:32]


class Voice:
    """Answers whoever asks with the seconds since Hawser was last at work, as `idle` tells them.
    Where there is no such socket on this system, nobody is answered."""

    def __init__(self, path: Path, idle: Callable[[], float]) -> None:
        self._idle, self._ended = idle, threading.Event()
        self._server = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            with contextlib.suppress(OSError):
                self._server.bind(_name(path))
                self._server.listen()
                threading.Thread(target=self._answer, name="voice", daemon=True).start()
        except BaseException:  # a line that nobody answers
            self._server.close()
            raise

    def _answer(self) -> None:
        while True:
            try:
                line, _ = self._server.accept()
            except OSError:  # ended, or for the moment there is no room for one more line
                if self._ended.wait(ANSWER_WAIT_S):
                    return
                continue
            with line, contextlib.suppress(OSError):
                line.settimeout(ANSWER_WAIT_S)
                line.sendall(f"{self._idle():.3f}".encode())

    def end(self) -> None:
        """Nobody is answered any more."""
        self._ended.set()
        with contextlib.suppress(OSError):
            self._server.shutdown(socket.SHUT_RDWR)  # wakes who waits for the next to ask
        self._server.close()


def idle_of(path: Path) -> float | None:
    """For how many seconds the Hawser of this sign of life has not been at work, as it says itself;
    None where it says nothing, or another person's process does."""
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
            line.settimeout(ANSWER_WAIT_S)
            line.connect(_name(path))
            _, user, _ = PEER.unpack(
                line.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, PEER.size)
            )
            return float(line.recv(LONGEST)) if user == os.getuid() else None
    except (OSError, ValueError):
        return None
