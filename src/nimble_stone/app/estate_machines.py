"""Bare machines of the estate: refreshed, changed, pinned again."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from nimble_stone.app.application import Application
from nimble_stone.core.errors import NotFound
from nimble_stone.core.estate import Estate, EstateFile, Machine
from nimble_stone.engine import machines
from nimble_stone.reach.https import Certificate
from nimble_stone.store import records


async def machine_of(app: Application, name: str) -> Machine:
    """The machine with this name. Raises NotFound."""
    estate: Estate = await app.store.read(records.load_estate)
    machine = estate.machine(name)
    if machine is None:
        raise NotFound(f"the estate has no machine “{name}”")
    return machine


async def refresh(app: Application, names: Collection[str]) -> None:
    """Read the named machines, or all when none is named."""
    estate: Estate = await app.store.read(records.load_estate)
    chosen = [one for one in estate.machines if not names or one.name in names]
    await machines.read(app, chosen, estate.machine_facts)


async def change(app: Application, name: str, changes: Mapping[str, object]) -> None:
    """Replace members of a machine. Raises NotFound."""
    changed = (await machine_of(app, name)).model_copy(update=dict(changes))
    await app.store.write(records.merge_estate, EstateFile(machines=(changed,)))


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
    await app.store.write(records.drop_pin, place)
    await app.store.write(records.put_pin, place, shown.fingerprint, app.clock())
    await refresh(app, {name})
