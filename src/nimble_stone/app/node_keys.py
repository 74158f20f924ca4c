"""What deployed nodes are known by: SSH host keys and certificates that were pinned when they were
first seen. Where a node shows another one, nothing is sent on that port until a person confirms it.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.app.deployments import standing
from nimble_stone.core.errors import Conflict, NotFound, StoneError
from nimble_stone.core.plan.sheet import reached
from nimble_stone.engine.frozen import thawed
from nimble_stone.store import records, runs

CERTIFICATE = "SHA256 "
"""How the fingerprint of a certificate begins; that of an SSH host key begins “SHA256:”."""


@dataclass(frozen=True)
class NodeKey:
    """What is known of one port. `shown`: its fingerprint now, '' where it cannot be asked, and
    why in `trouble`.
    """

    port: int
    kind: str
    pinned: str
    shown: str
    trouble: str = ""


@dataclass(frozen=True)
class NodeKeys:
    """A node's, by port."""

    node: str
    name: str
    address: str
    keys: tuple[NodeKey, ...]


async def look(app: Application, plan: str, node: str) -> NodeKeys:
    """What is pinned for a node, and what it shows now; nothing is sent to it. Raises NotFound."""
    built = (await standing(app, plan)).get(node)
    if built is None:
        raise NotFound(f"{plan} has no deployed node “{node}”", hint="See the plan's page.")
    run = await thawed(app.store, await app.store.read(runs.get_run, built.run))
    address = reached(run.sheet.kit, built.node)
    pinned = await app.store.read(records.pins)
    own = {
        int(place.removeprefix(f"{address}:")): fingerprint
        for place, fingerprint in pinned.items()
        if place.startswith(f"{address}:")
    }
    keys = await asyncio.gather(*(_asked(app, address, *one) for one in sorted(own.items())))
    return NodeKeys(node, built.node.name, address, tuple(keys))


async def _asked(app: Application, address: str, port: int, pinned: str) -> NodeKey:
    kind = "certificate" if pinned.startswith(CERTIFICATE) else "SSH host key"
    try:
        if kind == "certificate":
            shown = (await app.reach.certificate(address, port, app.clock())).fingerprint
        else:
            shown = await app.reach.ssh.fingerprint(address, port)
    except StoneError as error:
        return NodeKey(port, kind, pinned, "", str(error))
    return NodeKey(port, kind, pinned, shown)


async def confirm(app: Application, plan: str, node: str, confirmed: Mapping[int, str]) -> NodeKeys:
    """Pin what a person confirmed, by port. Raises NotFound, and Conflict where the node shows
    another fingerprint now, or the port has none to replace: then nothing is changed.
    """
    found = await look(app, plan, node)
    shown = {one.port: one.shown for one in found.keys}
    for port, fingerprint in confirmed.items():
        if not fingerprint or shown.get(port) != fingerprint:
            raise Conflict(
                f"{found.name} shows {shown.get(port) or 'nothing'} on port {port} now, not"
                f" {fingerprint}",
                code="key-changed",
                hint="Compare the fingerprints again on the node's console.",
            )
    for port, fingerprint in confirmed.items():
        place = f"{found.address}:{port}"
        await app.store.write(records.replace_pin, place, fingerprint, app.clock())
    return await look(app, plan, node)
