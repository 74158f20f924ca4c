"""Loopback networks for tests, leased: however many test processes and suites run side by side on a
machine, no two labs have the same addresses.
"""

from __future__ import annotations

import fcntl
import os
import tempfile
from pathlib import Path
from typing import IO

FIRST, LAST = 48, 158
"""127.48 to 127.159, two networks a lease; what lies above is `kit try`'s."""
_held: dict[int, IO[bytes]] = {}


def lease() -> int:
    """An even number N: 127.N.0.0/16 and 127.N+1.0.0/16 are this process's until it ends. The
    kernel takes the lock back however the process ends. Raises OSError when all are taken.
    """
    folder = Path(tempfile.gettempdir()) / f"nimble-stone-loopback-{os.getuid()}"
    folder.mkdir(mode=0o700, exist_ok=True)
    for octet in range(FIRST, LAST + 1, 2):
        file = (folder / str(octet)).open("wb")
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.close()
            continue
        _held[octet] = file
        return octet
    raise OSError(f"all loopback networks of tests are leased; see {folder}")


def release(octet: int) -> None:
    """Let others have it: the lab that used it has ended."""
    file = _held.pop(octet, None)
    if file is not None:
        file.close()
