"""Copies of package disks on datastores: sent once, recognised by name and digest, kept until
no node uses them and a person deletes them.
"""

from __future__ import annotations

import hashlib

from nimble_stone.core.errors import Conflict, NotFound, StoneError
from nimble_stone.core.estate import Estate
from nimble_stone.core.runs.states import ACTIVE
from nimble_stone.ports.ports import Ports
from nimble_stone.store import library, records, runs
from nimble_stone.store.library import Copy

LAYOUT = "qcow2/1"  # changes whenever the same disk would be written in other bytes


def name_of(package: str, disk: str) -> str:
    """The volume's name: the same content has the same name on every datastore."""
    return f"ns-base-{hashlib.sha256(f'{LAYOUT} {package} {disk}'.encode()).hexdigest()[:20]}"


def place_of(estate: Estate, host: str, datastore: str) -> str:
    """Where a datastore really lies: its export when it is shared, else host and name."""
    facts = estate.facts.get(host)
    store = facts.datastore(datastore) if facts else None
    return store.shared if store and store.shared else f"{host}:{datastore}"


async def users(ports: Ports, copy: Copy, besides: str = "") -> list[str]:
    """Runs that need the copy: those under way, and those with nodes that build on it. `besides` is
    left out.
    """
    estate = await ports.store.read(records.load_estate)
    found = []
    for row in await ports.store.read(runs.runs):
        if copy.package not in row.packages or row.state == "undone" or row.id == besides:
            continue
        nodes = [
            values
            for values in row.doc["plan"].get("nodes", {}).values()
            if place_of(estate, str(values.get("host", "")), str(values.get("datastore", "")))
            == copy.place
        ]
        if nodes and (
            row.state in ACTIVE or any(values.get("provisioning") == "overlay" for values in nodes)
        ):
            found.append(f"run {row.id} of {row.plan}")
    return found


async def clear(ports: Ports, package: str) -> tuple[int, list[str]]:
    """Remove the unused copies of a package from their datastores: (how many, why others
    stayed).
    """
    cleared, kept = 0, []
    for copy in await ports.store.read(library.copies, package):
        where = f"{copy.datastore} ({copy.host})"
        async with ports.lock(f"copy {copy.place} {copy.name}"):
            if needed := await users(ports, copy):
                kept.append(f"{where}: used by {', '.join(needed[:3])}")
                continue
            try:
                host = await ports.driver(await ports.host(copy.host))
                await host.storage.refresh(copy.datastore)
                if await host.storage.volume(copy.datastore, copy.name) is not None:
                    await host.storage.delete(copy.datastore, copy.name)
            except (StoneError, NotFound, Conflict) as error:
                kept.append(f"{where}: {error}")
                continue
            await ports.store.write(library.drop_copy, copy.place, copy.name)
            cleared += 1
    return cleared, kept
