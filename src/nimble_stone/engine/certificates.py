"""The installation's authority and the certificates of a run's nodes. Keys lie in the keyring; what
was made once is never made again.
"""

from __future__ import annotations

from collections.abc import Callable

from nimble_stone.core.errors import NotFound
from nimble_stone.core.kit.networks import Certificate
from nimble_stone.core.plan.filled import filled
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.keyring import certificates
from nimble_stone.keyring.certificates import Pair
from nimble_stone.ports.ports import Ports

AUTHORITY = "authority"
Making = Callable[[], Pair]


async def authority(ports: Ports) -> Pair:
    """The authority that signs for nodes; made when it is first needed."""
    return await _kept(
        ports, AUTHORITY, "certificate", lambda: certificates.make_authority(ports.clock())
    )


async def of_node(ports: Ports, run: str, sheet: Sheet, node: Node, wanted: Certificate) -> Pair:
    """The pair of a node: the one that was brought, or one made for this run, and one more for each
    time that it was renewed. Raises NotFound, FormatError.
    """
    value = node.value(f"certificate.{wanted.id}")
    if value.startswith("keyring:"):
        brought = certificates.unpacked(await ports.open_for_plan(sheet.plan.name, value))
        ports.hide(brought.key)
        return brought
    maker = await authority(ports)
    when = "".join(one for one in value if one.isdigit())
    return await _kept(
        ports,
        "/".join(filter(None, (f"run/{run}/certificate/{wanted.id}/{node.id}", when))),
        "certificate",
        lambda: certificates.issue(maker, names(sheet, node, wanted), ports.clock()),
    )


def names(sheet: Sheet, node: Node, wanted: Certificate) -> list[str]:
    """The names a node's certificate must bear."""
    return [
        name
        for template in wanted.names
        if (name := filled(template, node, sheet)) and not name.endswith(".")
    ]


async def _kept(ports: Ports, name: str, kind: str, make: Making) -> Pair:
    async with ports.lock(f"keyring {name}"):
        try:
            found = certificates.unpacked(await ports.open_secret(f"keyring:{name}"))
        except NotFound:
            found = make()
            await ports.keep_secret(name, found.packed(), kind)
    ports.hide(found.key)
    return found
