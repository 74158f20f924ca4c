"""How a deployment was built at an instant, and what differs between two of them. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from nimble_stone.core.deployment import BuiltNode
from nimble_stone.core.units import size_text

LABELS = {"vcpu": "vCPU", "memory": "Memory", "package": "Package", "vm": "VM", "run": "Run"}
"""Of what is said of a node besides the plan's columns."""


@dataclass(frozen=True)
class Record:
    """A node as it was built: what is said of it, by column."""

    node: str
    role: str
    values: Mapping[str, str]


@dataclass(frozen=True)
class Changed:
    """What changed. `what`: added, removed or changed; label and values only for a changed
    one.
    """

    node: str
    name: str
    what: str
    label: str = ""
    was: str = ""
    now: str = ""


def record_of(one: BuiltNode, vm: str = "") -> Record:
    """`vm`: the UUID of its VM."""
    node = one.node
    values = {column: cell.value for column, cell in node.cells.items() if cell.value}
    values |= {f"disk.{disk.ref}": size_text(disk.capacity_bytes) for disk in node.extra}
    own = {
        "vcpu": str(node.vcpu or ""),
        "memory": size_text(node.memory_bytes) if node.memory_bytes else "",
        "package": one.package.title if one.package else "",
        "vm": vm,
        "run": one.run,
    }
    return Record(node.id, node.role, values | {key: text for key, text in own.items() if text})


def compared(before: Mapping[str, Record], after: Mapping[str, Record]) -> list[Changed]:
    """Node by node, as they are after; those that are gone come last. Cost: O(nodes × columns)."""
    found: list[Changed] = []
    for ident, now in after.items():
        name = now.values.get("name", ident)
        was = before.get(ident)
        if was is None:
            found.append(Changed(ident, name, "added"))
            continue
        for column in dict.fromkeys((*was.values, *now.values)):
            old, new = was.values.get(column, ""), now.values.get(column, "")
            if old != new:
                found.append(Changed(ident, name, "changed", column, old, new))
    gone = [one for ident, one in before.items() if ident not in after]
    return found + [Changed(one.node, one.values.get("name", ""), "removed") for one in gone]
