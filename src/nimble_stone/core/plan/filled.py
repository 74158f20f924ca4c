"""Filling in what kits write in braces. What is filled in is never itself a template."""

from __future__ import annotations

import re

from nimble_stone.core.kit.model import Balanced
from nimble_stone.core.plan.sheet import Node, Sheet

_BRACES = re.compile(r"\{([^{}]*)\}")


def filled(template: str, node: Node, sheet: Sheet) -> str:
    """A template without secrets, filled in for a node."""
    return _BRACES.sub(lambda found: value_of(found.group(1), node, sheet), template)


def value_of(key: str, node: Node, sheet: Sheet) -> str:
    """What a name in braces stands for: a column of the node, of the first node (“first.”), of all
    nodes of its role (“all.”, with blanks between), a count, a role, the members of a balanced
    service.
    """
    if key.startswith("all."):
        column = key.removeprefix("all.")
        return " ".join(one.value(column) for one in sheet.by_role[node.role])
    if key == "count":
        return str(len(sheet.nodes))
    if key.startswith("count."):
        return str(len(sheet.by_role.get(key.removeprefix("count."), ())))
    if key == "role":
        return node.role
    if key.startswith("balanced."):
        one = next(
            (one for one in sheet.kit.balanced if one.id == key.removeprefix("balanced.")), None
        )
        return (
            " ".join(f"{address}:{one.member_port}" for address in members_of(one, sheet))
            if one
            else ""
        )
    return (
        sheet.nodes[0].value(key.removeprefix("first."))
        if key.startswith("first.")
        else node.value(key)
    )


def members_of(one: Balanced, sheet: Sheet) -> list[str]:
    """Addresses of the nodes that a balanced service hands its clients to, in the order of the
    sheet.
    """
    return [
        node.value("address")
        for node in sheet.nodes
        if node.role in one.members and node.value("address")
    ]
