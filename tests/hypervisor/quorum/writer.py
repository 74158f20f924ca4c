"""A client that writes all the time, a key after the other, to whichever member answers. Prints the
longest time between two writes that were taken, whenever that grows: seconds, less what this
machine itself stood still.

Usage: writer.py ADDRESS [ADDRESS …]
"""

from __future__ import annotations

import base64
import json
import sys
import threading
import time
import urllib.request

TICK_S = 0.1
still = 0.0
"""How long this process did not come to run, seconds."""


def watch() -> None:
    """Notice when the machine stands still."""
    global still
    while True:
        before = time.monotonic()
        time.sleep(TICK_S)
        still += max(0.0, time.monotonic() - before - 3 * TICK_S)


def write(address: str, number: int) -> bool:
    """Whether a member took it."""
    coded = base64.b64encode(str(number).encode()).decode()
    body = json.dumps({"key": base64.b64encode(b"tide").decode(), "value": coded}).encode()
    request = urllib.request.Request(f"http://{address}:2379/v3/kv/put", body)
    try:
        with urllib.request.urlopen(request, timeout=4) as answer:
            return b"revision" in answer.read()
    except OSError:
        return False


def main() -> None:
    """Write until the process is ended."""
    threading.Thread(target=watch, daemon=True).start()
    addresses, at, number, longest = sys.argv[1:], 0, 0, 0.0
    last, stood = time.monotonic(), still
    while True:
        if write(addresses[at % len(addresses)], number):
            longest = max(longest, time.monotonic() - last - (still - stood))
            last, stood, number = time.monotonic(), still, number + 1
            print(number, f"{longest:.1f}", flush=True)
            time.sleep(0.8)
        else:
            at += 1


main()
