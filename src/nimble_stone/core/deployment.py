"""What of a plan stands, and what differs between the plan and that. Pure.

Several runs may have built a deployment: the first one all of it, later ones nodes that were added
or made again. A node stands as the last run that made it left it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nimble_stone.core.plan.sheet import Node, Sheet


@dataclass(frozen=True)
class BuiltNode:
    """A node that stands: as it was resolved by the run that made it."""

    node: Node
    run: str

    @property
    def values(self) -> Mapping[str, str]:
        """Column → value."""
        return {column: cell.value for column, cell in self.node.cells.items() if cell.value}


@dataclass(frozen=True)
class Part:
    """What one run did to a deployment, the runs in the order of their beginning. `adds`: nodes it
    made; `gone`: nodes that it has taken away, which no rollback brings back. `undone`: it was
    rolled back, so that what it made is gone.
    """

    run: str
    nodes: tuple[Node, ...]
    adds: frozenset[str]
    gone: frozenset[str] = frozenset()
    undone: bool = False


def built(parts: Sequence[Part]) -> dict[str, BuiltNode]:
    """Node id → the node that stands. Cost: O(nodes of all runs)."""
    found: dict[str, BuiltNode] = {}
    for part in parts:
        for ident in part.gone:
            found.pop(ident, None)
        if part.undone:
            continue
        for node in part.nodes:
            if node.id in part.adds:
                found[node.id] = BuiltNode(node, part.run)
    return found


@dataclass(frozen=True)
class Differs:
    """A value that is planned otherwise than it was built."""

    node: str
    name: str
    column: str
    label: str
    was: str
    now: str


@dataclass(frozen=True)
class Changes:
    """What a run would do to a deployment. `adds` and `removes` are node ids; a node that is made
    again is in both. `differs` stays as it was built.
    """

    adds: tuple[str, ...] = ()
    removes: tuple[str, ...] = ()
    differs: tuple[Differs, ...] = ()
    standing: Mapping[str, BuiltNode] = field(default_factory=dict)
    """What stands now, by node id."""
    repairs: tuple[str, ...] = ()
    """Nodes whose VM is defined and started again as it was built."""

    @property
    def any(self) -> bool:
        """Whether there is something to do."""
        return bool(self.adds or self.removes or self.repairs)

    @property
    def remade(self) -> tuple[str, ...]:
        """Nodes that are removed and made again."""
        return tuple(ident for ident in self.adds if ident in self.removes)

    @property
    def alone(self) -> bool:
        """Whether the run looks after nodes that stand, and what else is planned waits."""
        return bool(self.repairs or self.remade)


@dataclass(frozen=True)
class Wanted:
    """What a person wants of nodes that stand: to be repaired, or to be made again. Such a run does
    nothing else, so that a broken node does not wait for the rest of a plan.
    """

    remade: tuple[str, ...] = ()
    repairs: tuple[str, ...] = ()
    removes: tuple[str, ...] = ()
    """Nodes that a person agreed to lose; a run removes no others."""


def changes(sheet: Sheet, standing: Mapping[str, BuiltNode], wanted: Wanted = Wanted()) -> Changes:
    """What differs between a plan and what stands. Cost: O(nodes × columns)."""
    if repairs := tuple(ident for ident in standing if ident in wanted.repairs):
        return Changes(standing=standing, repairs=repairs)
    if again := tuple(ident for ident in standing if ident in wanted.remade):
        return Changes(again, again, standing=standing)
    planned = {node.id: node for node in sheet.nodes}
    adds = tuple(ident for ident in planned if ident not in standing)
    removes = tuple(ident for ident in reversed(list(standing)) if ident not in planned)
    differs = tuple(
        Differs(ident, node.name, column.id, column.label, was, now)
        for ident, node in planned.items()
        if ident in standing
        for column in sheet.columns
        if (now := node.value(column.id)) != (was := standing[ident].node.value(column.id))
    )
    return Changes(adds, removes, differs, standing)


def as_built(sheet: Sheet, found: Changes) -> tuple[Node, ...]:
    """The nodes after a change: those that stay as they were built, the others as planned."""
    stands = {ident: one.node for ident, one in found.standing.items()}
    planned = {node.id: node for node in sheet.nodes}
    new = {ident: planned[ident] for ident in found.adds if ident in planned}
    return tuple((stands | new)[ident] for ident in (stands if found.alone else planned))
