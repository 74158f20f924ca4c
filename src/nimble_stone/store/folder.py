"""The data folder: readable by its owner only, and held by one server at a time."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import time
from collections.abc import Iterator
from pathlib import Path

from nimble_stone.core.errors import Conflict

DATABASE = "nimble-stone.db"
KEYRING_KEY = "keyring.key"
_PRIVATE = (
    DATABASE,
    f"{DATABASE}-wal",
    f"{DATABASE}-shm",
    KEYRING_KEY,
    "client.json",
    "server.lock",
)


def prepared(folder: Path) -> Path:
    """The folder, made where it is missing; 0700, and its private files 0600, also where they were
    there before.
    """
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    folder.chmod(0o700)
    for name in _PRIVATE:
        with contextlib.suppress(FileNotFoundError):
            (folder / name).chmod(0o600)
    return folder


@contextlib.contextmanager
def held(folder: Path, address: str) -> Iterator[Path]:
    """Hold the folder for one server; `address` tells others where it answers. The hold ends with
    the process,
    however that ends. Raises Conflict when another server holds it, and says which.
    """
    prepared(folder)
    descriptor = os.open(folder / "server.lock", os.O_RDWR | os.O_CREAT, 0o600)
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise Conflict(
                f"{folder} is in use by another Nimble Stone"
                f" server{_holder(os.read(descriptor, 4096))}.",
                code="folder-in-use",
                hint="Stop that server first, or choose another folder with --data.",
            ) from None
        os.ftruncate(descriptor, 0)
        os.pwrite(
            descriptor,
            json.dumps({"pid": os.getpid(), "address": address, "since": time.time()}).encode(),
            0,
        )
        yield folder
    finally:
        os.close(descriptor)


def is_held(folder: Path) -> bool:
    """Whether a server runs on this folder."""
    try:
        descriptor = os.open(folder / "server.lock", os.O_RDWR)
    except FileNotFoundError:
        return False
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    finally:
        os.close(descriptor)
    return False


def _holder(told: bytes) -> str:
    try:
        holder = json.loads(told)
        since = time.strftime("%Y-%m-%d %H:%M:%S UTC", time.gmtime(float(holder["since"])))
        return f": process {int(holder['pid'])}, {str(holder['address'])[:200]}, since {since}"
    except (ValueError, KeyError, TypeError):
        return ""
