"""vCPUs and memory that a plan gives nodes instead of what their size has, where the kit allows it.
Pure.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from nimble_stone.core.kit.roles import Role
from nimble_stone.core.package.model import Size
from nimble_stone.core.plan.cells import Cell
from nimble_stone.core.plan.columns import OWN_MEMORY, OWN_VCPU
from nimble_stone.core.units import GIB


def size_of(role: Role, sizes: Mapping[str, Size], cells: Mapping[str, Cell]) -> Size | None:
    """A node's size, with what the plan gives it instead; None for a size that the package has not.
    What is no number within the kit's limits changes nothing: a finding says so.
    """
    size = sizes.get(cells["size"].value)
    if size is None or role.custom is None:
        return size
    vcpu = allowed(cells, OWN_VCPU, role.custom.vcpu.least, role.custom.vcpu.most)
    gib = allowed(cells, OWN_MEMORY, role.custom.memory_gib.least, role.custom.memory_gib.most)
    return replace(
        size, vcpu=vcpu or size.vcpu, memory_bytes=gib * GIB if gib else size.memory_bytes
    )


def allowed(cells: Mapping[str, Cell], column: str, least: int, most: int) -> int:
    """The whole number in a cell, 0 where there is none within the limits."""
    text = cells[column].value if column in cells else ""
    number = int(text) if text.isascii() and text.isdigit() and len(text) < 7 else 0
    return number if least <= number <= most else 0
