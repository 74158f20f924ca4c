"""Bare machines: read, and switched on and off."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

from nimble_stone.core import changes
from nimble_stone.core.errors import (
    Conflict,
    InputError,
    NotFound,
    RemoteFailed,
    RemoteTimeout,
    StoneError,
)
from nimble_stone.core.estate import Machine, MachineFacts
from nimble_stone.hosts.redfish import KINDS_OF_RESET, until
from nimble_stone.ports.ports import Ports
from nimble_stone.store import records

SIDE_BY_SIDE = 32
READ_S = 120.0
POWER_S = 120.0
AFTER = {
    "On": "On",
    "ForceOff": "Off",
    "GracefulShutdown": "Off",
    "ForceRestart": "On",
    "GracefulRestart": "On",
    "PowerCycle": "On",
}


async def read(
    ports: Ports,
    machines: Sequence[Machine],
    known: dict[str, MachineFacts],
    *,
    limit_s: float = READ_S,
) -> dict[str, MachineFacts]:
    """Fresh facts, kept. A slow or failing controller does not delay the others; the last facts
    stay, with the trouble noted.
    """
    gate = asyncio.Semaphore(SIDE_BY_SIDE)

    async def one(machine: Machine) -> tuple[str, MachineFacts]:
        async with gate:
            now = ports.clock()
            try:
                async with asyncio.timeout(limit_s), ports.controller(machine) as controller:
                    shown = await ports.reach.certificate(machine.address, machine.port, now)
                    facts = await controller.read_facts(now, shown.odd)
            except StoneError as error:
                facts = MachineFacts(
                    machine=machine.name, tried_at=now, trouble=str(error), trouble_code=error.code
                )
            except TimeoutError:
                facts = MachineFacts(
                    machine=machine.name,
                    tried_at=now,
                    trouble=f"reading it took longer than {limit_s:g} s",
                    trouble_code="remote-timeout",
                )
            before = known.get(machine.name)
            if not facts.trouble and before is not None and before.read_at:
                found = changes.of_machine(before, facts)
                facts = facts.model_copy(
                    update={
                        "changes": found or before.changes,
                        "changed_since": before.read_at if found else before.changed_since,
                    }
                )
            return machine.name, await ports.store.write(records.put_machine_facts, facts)

    return dict(await asyncio.gather(*(one(machine) for machine in machines)))


async def power(ports: Ports, name: str, kind: str, confirmed: str) -> MachineFacts:
    """Switch a machine, and watch until it is so. `confirmed`: its name, typed by the person.

    Raises: InputError without the confirmation, RemoteFailed in the controller's words,
    RemoteTimeout when it did not come about.
    """
    if kind not in KINDS_OF_RESET:
        raise InputError(
            f"there is no {kind}; there are {', '.join(KINDS_OF_RESET)}", code="reset-kind"
        )
    estate = await ports.store.read(records.load_estate)
    machine = estate.machine(name)
    if machine is None:
        raise NotFound(f"the estate has no machine “{name}”")
    if confirmed.strip() != name:
        raise InputError(
            f"type “{name}” to confirm",
            code="unconfirmed",
            hint="Everything on the machine stops.",
        )
    async with ports.lock(f"power {name}"), ports.controller(machine) as controller:
        before = await controller.power_state()
        if AFTER[kind] == before and kind in ("On", "ForceOff", "GracefulShutdown"):
            raise Conflict(f"{name} is {before.lower()} already", code="power-same")
        try:
            await controller.power(kind)
        except RemoteFailed:
            await read(ports, [machine], estate.machine_facts)
            raise
        came = await until(controller, AFTER[kind], POWER_S * max(0.1, ports.pace), ports.pause)
    facts = (await read(ports, [machine], estate.machine_facts))[name]
    if not came:
        raise RemoteTimeout(
            f"{name} accepted {kind}, but the controller does not report it"
            f" {AFTER[kind].lower()} within {POWER_S:g} s (it says {facts.power or 'nothing'})",
            target=name,
            operation=kind,
            hint="Check its console.",
        )
    return facts
