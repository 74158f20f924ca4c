"""Starting the command line as a process of its own, quickly (see zygote.py)."""

from __future__ import annotations

import array
import atexit
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import IO, Any

NOWHERE = "/dev/null"


class _Zygote:
    """The process that the others are forked from; one for each process that tests."""

    def __init__(self) -> None:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._sock, self._lock = ours, threading.Lock()
        with theirs:
            os.set_inheritable(theirs.fileno(), True)
            self._process = subprocess.Popen(
                [sys.executable, "-m", "tests.support.zygote", str(theirs.fileno())],
                pass_fds=[theirs.fileno()],
                stdin=subprocess.DEVNULL,
                cwd=Path(__file__).parents[2],
            )

        atexit.register(self.close)

    def close(self) -> None:
        """End it."""
        self._sock.close()
        self._process.wait(10)

    def ask(self, request: dict[str, Any], files: Sequence[int] = ()) -> dict[str, Any]:
        rights = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", files))] if files else []
        with self._lock:
            self._sock.sendmsg([json.dumps(request).encode()], rights)
            answer = self._sock.recv(1 << 16)
        if not answer:
            raise AssertionError("the process that starts others is gone")
        return dict(json.loads(answer))


_zygotes: dict[int, _Zygote] = {}


def _zygote() -> _Zygote:
    found = _zygotes.get(os.getpid())
    if found is None:
        found = _zygotes[os.getpid()] = _Zygote()
    return found


LOOK_S = 0.02
"""Between two looks whether a process has ended."""


class Started:
    """A process, as `subprocess.Popen` shows one."""

    def __init__(self, pid: int) -> None:
        self.pid = pid
        self.returncode: int | None = None

    def poll(self) -> int | None:
        """Its exit status, None while it runs."""
        if self.returncode is None:
            self.returncode = _zygote().ask({"status": self.pid})["status"]
        return self.returncode

    def wait(self, timeout: float | None = None) -> int:
        """Its exit status, once it has one. Raises TimeoutExpired."""
        end = None if timeout is None else time.monotonic() + timeout
        while (status := self.poll()) is None:
            if end is not None and time.monotonic() > end:
                raise subprocess.TimeoutExpired(f"process {self.pid}", timeout or 0.0)
            time.sleep(LOOK_S)
        return status

    def send_signal(self, number: int) -> None:
        """Unless it has ended: its id is taken by no other before it was asked for its end."""
        if self.poll() is None:
            os.kill(self.pid, number)

    def terminate(self) -> None:
        """Ask it to end."""
        self.send_signal(signal.SIGTERM)

    def kill(self) -> None:
        """End it."""
        self.send_signal(signal.SIGKILL)


def begin(
    words: Sequence[str],
    *,
    stdin: int | None = None,
    stdout: int,
    stderr: int,
    more: Sequence[int] = (),
    env: Mapping[str, str] | None = None,
    cwd: Path | None = None,
) -> Started:
    """Start `nimble-stone` with these words. `stdin` and others are descriptors; `more` are handed
    over under their numbers.
    """
    nothing = os.open(NOWHERE, os.O_RDONLY)
    try:
        request = {
            "words": list(words),
            "env": dict(os.environ if env is None else env),
            "cwd": str(cwd or Path.cwd()),
            "places": [0, 1, 2, *more],
        }
        files = [nothing if stdin is None else stdin, stdout, stderr, *more]
        return Started(_zygote().ask(request, files)["pid"])
    finally:
        os.close(nothing)


def run(
    words: Sequence[str],
    *,
    text: str = "",
    timeout: float = 200,
    env: Mapping[str, str] | None = None,
    cwd: Path | None = None,
) -> subprocess.CompletedProcess[str]:
    """Run it to its end: its exit status and what it printed. Raises TimeoutExpired."""
    with _file(text) as given, _file() as out, _file() as err:
        process = begin(
            words,
            stdin=given.fileno(),
            stdout=out.fileno(),
            stderr=err.fileno(),
            env=env,
            cwd=cwd,
        )
        try:
            process.wait(timeout)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait(10)
            raise
        return subprocess.CompletedProcess(
            ["nimble-stone", *words], process.wait(), _read(out), _read(err)
        )


def _file(text: str = "") -> IO[bytes]:
    found = tempfile.TemporaryFile()  # noqa: SIM115 - whoever asked closes it
    found.write(text.encode())
    found.seek(0)
    return found


def _read(file: IO[bytes]) -> str:
    file.seek(0)
    return file.read().decode()
