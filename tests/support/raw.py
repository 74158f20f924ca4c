"""A plain SSH command to a stand-in host, beside the product: somebody else at work."""

from __future__ import annotations

import asyncio
from concurrent.futures import ThreadPoolExecutor

from nimble_stone.lab.scenario import by_hand
from tests.support.processes import LabProcess


def ssh(lab: LabProcess, host: str, command: str, stdin: str) -> str:
    """Standard output of a command on a stand-in host."""
    # a test that drives a browser has a loop of its own in this thread
    with ThreadPoolExecutor(1) as beside:
        return beside.submit(
            lambda: asyncio.run(by_hand.run(lab.plan, host, command, stdin=stdin))
        ).result()
