"""Filling in what kits write in braces. What is filled in is never itself a template."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

from nimble_stone.core.kit.networks import Balanced
from nimble_stone.core.marks import drive_mark
from nimble_stone.core.plan.sheet import Node, Sheet

_BRACES = re.compile(r"\{([^{}]*)\}")


def filled(template: str, node: Node, sheet: Sheet) -> str:
    """A template without secrets, filled in for a node."""
    return _BRACES.sub(lambda found: value_of(found.group(1), node, sheet), template)


OF_NODE: Mapping[str, Callable[[Node, Sheet], str]] = {
    "n": lambda node, _: str(node.number),
    "role": lambda node, _: node.role,
    "roles": lambda node, _: " ".join(node.roles),
    "mark": lambda node, sheet: drive_mark(sheet.plan.name, node.id),
}
"""What is known of a node besides its columns."""


def value_of(key: str, node: Node, sheet: Sheet) -> str:
    """What a name in braces stands for: a column of the node, of the first node (“first.”), of all
    nodes of its role (“all.”, with blanks between), a list of the kit (“list.”), a count, its
    number in its role, its role or roles, whether it carries one (“carries.”, 1 or 0), the members
    of a balanced service.
    """
    if key.startswith("all."):
        column = key.removeprefix("all.")
        return " ".join(one.value(column) for one in sheet.by_role[node.role])
    if key.startswith("list."):
        return _listed(key.removeprefix("list."), sheet)
    if key == "count":
        return str(len(sheet.nodes))
    if key.startswith("count."):
        return str(sheet.count_of(key.removeprefix("count.")))
    if key in OF_NODE:
        return OF_NODE[key](node, sheet)
    if key.startswith("carries."):
        return "1" if key.removeprefix("carries.") in node.roles else "0"
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


def _listed(ident: str, sheet: Sheet) -> str:
    """A kit's list of nodes, '' for one that it has not."""
    one = next((one for one in sheet.kit.lists if one.id == ident), None)
    if one is None:
        return ""
    return one.between.join(
        filled(one.each, node, sheet) for node in sheet.nodes if node.has_any(one.of)
    )


def is_hash(key: str) -> bool:
    """Whether a name stands for the hash of a password, `hashed.SETTING`."""
    return key.startswith("hashed.")


def members_of(one: Balanced, sheet: Sheet) -> list[str]:
    """Addresses of the nodes that a balanced service hands its clients to, in the order of the
    sheet.
    """
    return [
        node.value("address")
        for node in sheet.nodes
        if node.has_any(one.members) and node.value("address")
    ]
