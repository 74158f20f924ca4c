"""Rules about nodes that become hypervisor hosts of the estate."""

from __future__ import annotations

import re
from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.estate import HOST_NAME
from nimble_stone.core.findings import Finding, Remedy
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.units import count_text


def names(s: Situation) -> Iterator[Finding]:
    """The estate can take each of them under its node's name."""
    for node in s.sheet.nodes:
        role = s.sheet.kit.role(node.role)
        if not node.on_machine or role is None or role.becomes_host is None:
            continue
        host = s.estate.host(node.name)
        ours = host is not None and host.origin is not None and host.origin.run in s.own_runs
        if host is not None and not ours:
            yield _about(node, "host-there", f"The estate has another host {node.name}.")
        elif not re.fullmatch(HOST_NAME, node.name) or len(node.name) > 60:
            yield _about(
                node,
                "host-name",
                f"{node.name} cannot be the name of a host: small letters, digits, dots and dashes"
                " only, at most 60.",
            )


def carrying(s: Situation) -> Iterator[Finding]:
    """A node that is a host of the estate goes, or is made again, only when nothing is on it."""
    changes = s.changes
    for ident in changes.removes if changes else ():
        assert changes is not None
        node = changes.standing[ident].node
        lost = ident in changes.lost
        claimed = (one.name for one in s.claims if one.host == node.name and one.run)
        # what was read of a host that is lost is over; what plans have there is theirs to give up
        seen = () if lost else s.on_built.get(node.name, ())
        names = list(dict.fromkeys((*seen, *claimed)))
        if node.name not in s.on_built or not names:
            continue
        way = f"Give {node.name} up as lost in the plans of these VMs first"
        more = f" and {count_text(len(names) - 3, 'more VM')}" if len(names) > 3 else ""
        yield Finding(
            severity="blocker",
            code="host-carries",
            node=ident if s.sheet.node(ident) else "",
            host=node.value("host"),
            message=f"{node.name} is a host of the estate and has {', '.join(names[:3])}{more}.",
            consequence="They would be lost with it.",
            remedy=Remedy(label=way if lost else f"Empty host {node.name} first, then refresh it"),
        )


def _about(node: Node, code: str, message: str) -> Finding:
    return Finding(
        severity="blocker",
        code=code,
        node=node.id,
        column="name",
        host=node.value("host"),
        message=message,
        consequence="The node becomes a host of the estate at the end, under its own name.",
        remedy=Remedy(label="Give the node another name"),
    )
