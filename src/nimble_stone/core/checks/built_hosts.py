"""Rules about nodes that become hypervisor hosts of the estate."""

from __future__ import annotations

import re
from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.estate import HOST_NAME
from nimble_stone.core.findings import Finding, Remedy
from nimble_stone.core.plan.sheet import Node


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
