"""Bare machines of the estate: refreshed, changed, pinned again."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from nimble_stone.app import machine_use
from nimble_stone.app.application import Application
from nimble_stone.app.estate import estate_of
from nimble_stone.core.errors import NotFound
from nimble_stone.core.estate import EstateFile, Machine
from nimble_stone.engine import machines
from nimble_stone.reach.https import Certificate
from nimble_stone.store import records


async def machine_of(app: Application, name: str) -> Machine:
    """The machine with this name. Raises NotFound."""
    estate = await estate_of(app)
    machine = estate.machine(name)
    if machine is None:
        raise NotFound(f"the estate has no machine “{name}”")
    return machine


async def refresh(app: Application, names: Collection[str]) -> None:
    """Read the named machines, or all when none is named."""
    estate = await estate_of(app)
    chosen = [one for one in estate.machines if not names or one.name in names]
    await machines.read(app, chosen, estate.machine_facts)


async def change(app: Application, name: str, changes: Mapping[str, object]) -> None:
    """Replace members of a machine. Raises NotFound."""
    changed = (await machine_of(app, name)).model_copy(update=dict(changes))
    await app.store.write(records.merge_estate, EstateFile(machines=(changed,)))


async def remove(app: Application, name: str) -> None:
    """Take a machine out of the estate; the machine itself is not touched. Raises NotFound, and
    Conflict while a node lives there or a run works on it.
    """
    await machine_of(app, name)
    async with machine_use.free(app, {name}):
        await app.store.write(records.drop_machine, name)


async def certificate(app: Application, name: str) -> Certificate:
    """The certificate that its controller presents now. Raises NotFound, Unreachable."""
    machine = await machine_of(app, name)
    return await app.reach.certificate(machine.address, machine.port, app.clock())


async def pin_again(app: Application, name: str) -> None:
    """Replace the pinned certificate by the one presented now, after a person compared its
    fingerprint; then read the machine.
    """
    machine = await machine_of(app, name)
    shown = await app.reach.certificate(machine.address, machine.port, app.clock())
    place = f"{machine.address}:{machine.port}"
    await app.store.write(records.replace_pin, place, shown.fingerprint, app.clock())
    await refresh(app, {name})
