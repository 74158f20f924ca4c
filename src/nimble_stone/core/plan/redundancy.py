"""How the plan's data lies on its data disks: the ways the product knows, side by side, and the one
the answers choose. Pure.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

from nimble_stone.core import storage_layout
from nimble_stone.core.findings import Edit
from nimble_stone.core.kit.disks import RedundancyScheme
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.storage_layout import DataDisk, Layout, Scheme


@dataclass(frozen=True)
class Way:
    """A way the product knows, what it comes to on the plan's disks, whether the plan's answers
    choose it, and the edits that would.
    """

    layout: Layout
    chosen: bool
    edits: tuple[Edit, ...]


def data_disks(sheet: Sheet) -> list[DataDisk]:
    """The disks that data is laid on; each host is lost as a whole."""
    return [disk for node in sheet.nodes for disk in _of_node(sheet, node)]


def _of_node(sheet: Sheet, node: Node) -> list[DataDisk]:
    kinds = sheet.kit.data_layout.disks if sheet.kit.data_layout else ()
    return [
        DataDisk(node.value("host") or node.id, f"{node.name} {disk.ref}", disk.capacity_bytes)
        for disk in node.extra
        if any(disk.ref.startswith(kind) and disk.ref[len(kind) :].isdigit() for kind in kinds)
    ]


def ways(sheet: Sheet) -> list[Way]:
    """Every way of the kit on the plan's disks; none where the kit lays no data or there is no disk
    yet. Cost: O(disks + ways × hosts × log hosts).
    """
    disks = data_disks(sheet)
    if not disks or sheet.kit.data_layout is None:
        return []
    return [
        Way(
            storage_layout.layout(disks, Scheme(way.pieces, way.spare)),
            _chosen(sheet, way),
            tuple(
                Edit(path=("values", column), value=value) for column, value in way.answers.items()
            ),
        )
        for way in sheet.kit.data_layout.schemes
    ]


def current(sheet: Sheet) -> Layout | None:
    """What the plan's answers choose."""
    return next((way.layout for way in ways(sheet) if way.chosen), None)


def growth(sheet: Sheet, role: str) -> Callable[[int], int] | None:
    """What may be stored if the role had so many nodes, each like its first one and on a host of
    its own, so that all can be made whole again after losing a host (bytes); None where the role
    stores nothing. Cost: O(disks) once, then O(nodes × log nodes) for each number.
    """
    layout, first = sheet.kit.data_layout, next(iter(sheet.by_role.get(role, ())), None)
    if layout is None or first is None:
        return None
    way = next((one for one in layout.schemes if _chosen(sheet, one)), None)
    own = sum(disk.size_bytes for disk in _of_node(sheet, first))
    if way is None or not own:
        return None
    scheme = Scheme(way.pieces, way.spare)
    others: Counter[str] = Counter()
    for node in sheet.nodes:
        if node.role != role:
            for disk in _of_node(sheet, node):
                others[disk.domain] += disk.size_bytes
    return lambda count: storage_layout.safe_bytes([*others.values(), *[own] * count], scheme)


def _chosen(sheet: Sheet, way: RedundancyScheme) -> bool:
    return all(sheet.nodes[0].value(column) == value for column, value in way.answers.items())
