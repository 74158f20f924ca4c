"""A plain SSH command to a stand-in host, beside the product: somebody else at work."""

from __future__ import annotations

import asyncio
from concurrent.futures import ThreadPoolExecutor

import asyncssh

from nimble_stone.lab.scenario import demo
from tests.support.processes import LabProcess


def ssh(lab: LabProcess, host: str, command: str, stdin: str) -> str:
    """Standard output of a command on a stand-in host."""
    plan = next(one for one in lab.plan.hosts if one.name == host)
    address, port = lab.plan.real(plan.address, 22)

    async def run() -> str:
        async with asyncssh.connect(
            address,
            port,
            username="root",
            password=demo.PASSWORD,
            known_hosts=None,
            config=None,
            agent_path=None,
        ) as connection:
            found = await connection.run(command, input=stdin)
            return str(found.stdout)

    # a test that drives a browser has a loop of its own in this thread
    with ThreadPoolExecutor(1) as beside:
        return beside.submit(lambda: asyncio.run(run())).result()
