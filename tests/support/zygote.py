"""Processes of the command line, forked from one that has imported it: to start Python and import
all of it takes seconds, and tests start hundreds of them. Each is a process of its own, as its
users start it, with its own arguments, environment and files; it may be killed like any other.

Run as a module, with the number of a socket. A request names what is to be run, with standard
input, output and error and further files as descriptors (SCM_RIGHTS); the answer names the process.
"""

from __future__ import annotations

import array
import atexit
import fcntl
import gc
import importlib
import json
import os
import random
import signal
import socket
import sys
import threading
import traceback
from typing import Any

LOADED = (
    "nimble_stone.cli.main",
    "nimble_stone.server.app",
    "nimble_stone.lab.serve",
    "nimble_stone.engine.trial",
    "uvicorn",
)
MOST_FILES = 16
HIGH = 500
"""Where received files are kept while they are put in their places."""


def _received(sock: socket.socket) -> tuple[dict[str, Any], list[int]]:
    files = array.array("i")
    room = socket.CMSG_LEN(MOST_FILES * files.itemsize)
    data, ancillary, _, _ = sock.recvmsg(1 << 20, room)
    for level, kind, content in ancillary:
        if (level, kind) == (socket.SOL_SOCKET, socket.SCM_RIGHTS):
            files.frombytes(content[: len(content) - len(content) % files.itemsize])
    return (json.loads(data) if data else {}), list(files)


def _placed(received: list[int], wanted: list[int]) -> None:
    """Put received files where they are wanted."""
    high = [fcntl.fcntl(one, fcntl.F_DUPFD, HIGH) for one in received]
    for one in received:
        os.close(one)
    for one, place in zip(high, wanted, strict=True):
        os.dup2(one, place, inheritable=True)
        os.close(one)


def _run(request: dict[str, Any], files: list[int]) -> int:
    """As if it had been started: its exit status."""
    _placed(files, request["places"])
    os.environ.clear()
    os.environ.update(request["env"])
    os.chdir(request["cwd"])
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    random.seed()
    sys.argv = ["nimble-stone", *request["words"]]
    try:
        from nimble_stone.cli.entry import main

        main()
        return 0
    except SystemExit as end:
        if end.code is None or isinstance(end.code, int):
            return end.code or 0
        print(end.code, file=sys.stderr)
        return 1
    except BaseException:
        traceback.print_exc()
        return 1


def _end(status: int) -> None:
    """What an interpreter does at its end."""
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except OSError:
            status = status or 120
    os._exit(status)


def serve(number: int) -> None:
    """Fork what is asked for until the asking side is gone."""
    sock = socket.socket(fileno=number)
    for name in LOADED:
        importlib.import_module(name)
    # reads the kits that ship, as each server does when it starts
    importlib.import_module("nimble_stone.app.kits").shipped()
    gc.collect()
    gc.freeze()
    ended: dict[int, int] = {}
    while True:
        request, files = _received(sock)
        if not request:
            return
        if "status" in request:
            status = _status(request["status"], ended)
            sock.send(json.dumps({"status": status}).encode())
            continue
        child = os.fork()
        if child == 0:
            sock.close()
            _end(_run(request, files))
        for one in files:
            os.close(one)
        sock.send(json.dumps({"pid": child}).encode())


def _status(pid: int, ended: dict[int, int]) -> int | None:
    """A process's exit status, None while it runs. Until it was asked for, no other has its id."""
    if pid not in ended:
        found, status = os.waitpid(pid, os.WNOHANG)
        if found == 0:
            return None
        ended[pid] = os.waitstatus_to_exitcode(status)
    return ended[pid]


if __name__ == "__main__":
    serve(int(sys.argv[1]))
