"""The installation's authority and the certificates of a run's nodes. Keys lie in the keyring; what
was made once is never made again.
"""

from __future__ import annotations

from collections.abc import Callable

from nimble_stone.core.errors import NotFound
from nimble_stone.core.kit.model import Certificate
from nimble_stone.core.plan.filled import filled
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.engine.world import World
from nimble_stone.keyring import certificates
from nimble_stone.keyring.certificates import Pair

AUTHORITY = "authority"
Making = Callable[[], Pair]


async def authority(world: World) -> Pair:
    """The authority that signs for nodes; made the first time somebody needs it."""
    return await _kept(
        world, AUTHORITY, "certificate", lambda: certificates.make_authority(world.clock())
    )


async def of_node(world: World, run: str, sheet: Sheet, node: Node, wanted: Certificate) -> Pair:
    """The pair of a node: the one that was brought, or one made for this run. Raises NotFound,
    FormatError.
    """
    value = node.value(f"certificate.{wanted.id}")
    if value.startswith("keyring:"):
        brought = certificates.unpacked(await world.open_for_plan(sheet.plan.name, value))
        world.hide(brought.key)
        return brought
    maker = await authority(world)
    return await _kept(
        world,
        f"run/{run}/certificate/{wanted.id}/{node.id}",
        "certificate",
        lambda: certificates.issue(maker, names(sheet, node, wanted), world.clock()),
    )


def names(sheet: Sheet, node: Node, wanted: Certificate) -> list[str]:
    """The names a node's certificate must bear."""
    return [
        name
        for template in wanted.names
        if (name := filled(template, node, sheet)) and not name.endswith(".")
    ]


async def _kept(world: World, name: str, kind: str, make: Making) -> Pair:
    async with world.lock(f"keyring {name}"):
        try:
            found = certificates.unpacked(await world.open_secret(f"keyring:{name}"))
        except NotFound:
            found = make()
            await world.keep_secret(name, found.packed(), kind)
    world.hide(found.key)
    return found
