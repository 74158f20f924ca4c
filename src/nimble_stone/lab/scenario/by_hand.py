"""What people do on stand-in hosts without this tool."""

from __future__ import annotations

import asyncssh

from nimble_stone.lab.scenario import demo


async def autostart_off(plan: demo.LabPlan, host: str, vm: str) -> None:
    """A VM no longer starts with its host. Raises asyncssh.Error, OSError."""
    await run(plan, host, f"virsh -c qemu:///system autostart --disable {vm}", check=True)


async def run(
    plan: demo.LabPlan, host: str, command: str, *, stdin: str = "", check: bool = False
) -> str:
    """What a command on a host prints. Raises asyncssh.Error, OSError."""
    place = next(one for one in plan.hosts if one.name == host)
    address, port = plan.real(place.address, 22)
    async with asyncssh.connect(
        address,
        port,
        username="root",
        password=demo.PASSWORD,
        known_hosts=None,
        config=None,
        agent_path=None,
    ) as connection:
        found = await connection.run(command, input=stdin, check=check)
        return str(found.stdout)
