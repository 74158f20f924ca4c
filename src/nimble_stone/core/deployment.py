"""What of a plan stands, and what differs between the plan and that. Pure.

Several runs may have built a deployment: the first one all of it, later ones nodes that were added
or made again. A node stands as the last run that made it left it.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace

from nimble_stone.core import adoption
from nimble_stone.core.adoption import Existing
from nimble_stone.core.kit.changing import Way
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.columns import OF_DISKS, OF_PLACE, OWN_MEMORY, OWN_VCPU, is_place
from nimble_stone.core.plan.packages import Packages, PackageView
from nimble_stone.core.plan.sheet import Node, Sheet


@dataclass(frozen=True)
class BuiltNode:
    """A node that stands: as it was resolved by the run that made it."""

    node: Node
    run: str
    package: PackageView | None = None
    """What it was made from."""

    @property
    def values(self) -> Mapping[str, str]:
        """Column → value."""
        return {column: cell.value for column, cell in self.node.cells.items() if cell.value}

    def new_columns(self, planned: Node) -> tuple[str, ...]:
        """Columns that the planned node has a value for and this one has not."""
        return tuple(
            column
            for column, cell in planned.cells.items()
            if cell.value and not self.node.value(column)
        )


@dataclass(frozen=True)
class Part:
    """What one run did to a deployment, the runs in the order of their beginning. `adds`: nodes it
    made; `gone`: nodes that it has taken away, which no rollback brings back; `resized`: nodes of
    earlier runs that it gave other vCPUs and memory, or larger disks; `upgraded`: those whose
    system disk it replaced. `undone`: it was rolled back, so that what it made is gone.
    """

    run: str
    nodes: tuple[Node, ...]
    adds: frozenset[str]
    gone: frozenset[str] = frozenset()
    undone: bool = False
    resized: frozenset[str] = frozenset()
    upgraded: frozenset[str] = frozenset()
    packages: Packages = Packages()


def built(parts: Sequence[Part]) -> dict[str, BuiltNode]:
    """Node id → the node that stands, in the order in which they came first: whichever node was
    made again meanwhile, the first one stays the first. Cost: O(nodes of all runs).
    """
    found: dict[str, BuiltNode] = {}
    came = dict.fromkeys(node.id for part in parts for node in part.nodes)
    for part in parts:
        for ident in part.gone:
            found.pop(ident, None)
        if part.undone:
            continue
        for node in part.nodes:
            if node.id in part.adds or node.id in part.upgraded:
                found[node.id] = BuiltNode(node, part.run, part.packages.of(node.role))
            elif node.id in part.resized and node.id in found:
                # its VM still bears the mark of the run that made it
                found[node.id] = replace(found[node.id], node=node)
    return {ident: found[ident] for ident in came if ident in found}


@dataclass(frozen=True)
class Growth:
    """A data disk of a node that is to be larger, or that it gets: `was_bytes` is 0 then. Bytes."""

    node: str
    name: str
    disk: str
    was_bytes: int
    now_bytes: int


@dataclass(frozen=True)
class Upgrade:
    """A node that gets another version of its package. `way`: as the kit says it for its role
    (“drive” where that means the system drive of a bare machine), '' where it does not say, so that
    the node stays as it is; `was` and `now`: the packages' titles.
    """

    node: str
    name: str
    role: str
    way: str
    was: str
    now: str


@dataclass(frozen=True)
class Move:
    """A node that goes to another host, or its own disks to another datastore, with a restart."""

    node: str
    name: str
    was_host: str
    now_host: str
    was_store: str
    now_store: str


@dataclass(frozen=True)
class Alter:
    """Settings of a node that get other values, as the kit says under `changing`. `how`: its id
    there; `way`: call, restart or again; `columns`: which settings.
    """

    node: str
    name: str
    how: str
    label: str
    way: Way
    columns: tuple[str, ...]
    interrupts: str = ""


OF_SIZE = ("size", OWN_VCPU, OWN_MEMORY)
"""Columns that say how many vCPUs and how much memory a node has."""


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
    sized: tuple[str, ...] = ()
    """Those of `repairs` that were found with other vCPUs or memory."""
    stage: str = ""
    """Stage of the setup that is run again, '' none."""
    resizes: tuple[str, ...] = ()
    """Nodes that get other vCPUs and memory, each with a restart."""
    grows: tuple[Growth, ...] = ()
    """Disks that get larger while their VMs run."""
    upgrades: tuple[Upgrade, ...] = ()
    """Nodes planned with another version of their package, in the order of the upgrade."""
    moves: tuple[Move, ...] = ()
    """Nodes that go to another host or datastore."""
    alters: tuple[Alter, ...] = ()
    """Settings that get other values."""
    adopts: Mapping[str, Existing] = field(default_factory=dict)
    """Nodes whose VMs others made and that are marked as ours; `standing` has them as they are."""
    lost: tuple[str, ...] = ()
    """Those of `removes` whose hosts are lost: what is there of them is left there."""
    alone: bool = False
    """Whether the run looks after nodes that stand, and what else is planned waits."""

    @property
    def any(self) -> bool:
        """Whether there is something to do."""
        again = self.repairs or self.stage or self.in_place or self.moves or self.alters
        return bool(self.adopts or self.adds or self.removes or again or self.resizes or self.grows)

    @property
    def in_place(self) -> tuple[str, ...]:
        """Nodes whose system disk is replaced; their VMs and further disks stay."""
        return tuple(one.node for one in self.upgrades if one.way == IN_PLACE)

    @property
    def rewritten(self) -> tuple[str, ...]:
        """Nodes on bare machines whose system drive is written again; they are made again, but stay
        in their cluster, and their data drives keep what they hold.
        """
        return tuple(one.node for one in self.upgrades if one.way == WRITTEN)

    @property
    def altered(self) -> tuple[str, ...]:
        """Nodes that stay and are otherwise afterwards."""
        grown, moved = (one.node for one in self.grows), (one.node for one in self.moves)
        return tuple(dict.fromkeys((*self.resizes, *grown, *moved, *self.reset)))

    @property
    def reset(self) -> tuple[str, ...]:
        """Nodes whose settings get other values while they stay."""
        return tuple(dict.fromkeys(one.node for one in self.alters if one.way != AGAIN))

    @property
    def remade(self) -> tuple[str, ...]:
        """Nodes that are removed and made again."""
        return tuple(ident for ident in self.adds if ident in self.removes)


@dataclass(frozen=True)
class Wanted:
    """What a person wants of nodes that stand: to be repaired, to be made again, or a stage of the
    setup to be run again. Such a run does nothing else, so that a broken node does not wait for
    the rest of a plan.
    """

    remade: tuple[str, ...] = ()
    repairs: tuple[str, ...] = ()
    removes: tuple[str, ...] = ()
    """Nodes that a person agreed to lose; a run removes no others."""
    stage: str = ""
    """Stage of the setup, by its id."""
    sized: tuple[str, ...] = ()
    """Nodes that were found with other vCPUs or memory than they were built with."""
    adopts: Mapping[str, Existing] = field(default_factory=dict)
    """Node id → the VM of others that is to be that node."""
    lost: tuple[str, ...] = ()
    """Hosts and machines that are lost for good: their nodes are made again elsewhere."""

    @property
    def alone(self) -> bool:
        """Whether what else is planned waits."""
        return bool(self.remade or self.repairs or self.stage or self.adopts or self.lost)


def changes(sheet: Sheet, standing: Mapping[str, BuiltNode], wanted: Wanted = Wanted()) -> Changes:
    """What differs between a plan and what stands. Cost: O(nodes × columns)."""
    if wanted.adopts:
        there = adoption.as_deployed(sheet, wanted.adopts)
        new = {
            ident: BuiltNode(node, "", sheet.packages.of(node.role))
            for ident, node in there.items()
        }
        return Changes(standing={**standing, **new}, adopts=wanted.adopts, alone=True)
    if repairs := tuple(ident for ident in standing if ident in wanted.repairs):
        vms = [ident for ident in repairs if not standing[ident].node.on_machine]
        sized = tuple(ident for ident in vms if ident in wanted.sized)
        return Changes(standing=standing, repairs=repairs, sized=sized, alone=True)
    if again := tuple(ident for ident in standing if ident in wanted.remade):
        return Changes(again, again, standing=standing, alone=True)
    if wanted.lost:
        lost = tuple(
            node.id
            for node in sheet.nodes
            if node.id in standing and standing[node.id].node.value("host") in wanted.lost
        )
        return Changes(lost, lost, standing=standing, lost=lost, alone=True)
    if wanted.stage:
        return Changes(standing=standing, stage=wanted.stage, alone=True)
    planned = {node.id: node for node in sheet.nodes}
    adds = tuple(ident for ident in planned if ident not in standing)
    removes = tuple(ident for ident in reversed(list(standing)) if ident not in planned)
    upgrades = _upgrades(sheet, standing)
    # one thing at a time: what an upgrade touches gets its settings with the next run
    alters = _alters(sheet, standing, {one.node for one in upgrades if one.way})
    remade = (
        *(one.node for one in upgrades if one.way in (AGAIN, WRITTEN)),
        *(one.node for one in alters if one.way == AGAIN),
        *(ident for ident, node in planned.items() if _changes_machine(standing.get(ident), node)),
    )
    again = tuple(dict.fromkeys(remade))
    alters = tuple(one for one in alters if one.way == AGAIN or one.node not in again)
    adds, removes = (*adds, *again), (*removes, *again)
    swapped = {one.node for one in upgrades if one.way == IN_PLACE}
    # what an upgrade touches gets its size with it; its disks grow afterwards
    staying = [
        (standing[ident].node, node)
        for ident, node in planned.items()
        if ident in standing and ident not in swapped.union(again)
    ]
    moves = tuple(one for was, now in staying if (one := _move(sheet.kit, was, now)))
    moved = {one.node for one in moves}
    alters = tuple(one for one in alters if one.node not in moved)
    reset = {(one.node, column) for one in alters for column in one.columns}
    # one thing at a time: a node that moves is as large as before, until the next run
    staying = [(was, now) for was, now in staying if now.id not in moved]
    resizes = tuple(now.id for was, now in staying if _is_resized(was, now))
    grows = tuple(one for was, now in staying for one in _growths(was, now))
    larger = {one.node for one in grows}
    differs = tuple(
        Differs(ident, node.name, column.id, column.label, was, now)
        for ident, node in planned.items()
        if ident in standing and ident not in again
        for column in sheet.columns
        if (now := node.value(column.id)) != (was := standing[ident].node.value(column.id))
        and not (ident in resizes and column.id in OF_SIZE)
        and not (ident in swapped and column.id in (*standing[ident].new_columns(node), *OF_SIZE))
        and not (ident in moved and is_place(column.id))
        and (ident, column.id) not in reset
        and not (ident in larger and column.id.startswith(OF_DISKS))
    )
    return Changes(
        adds,
        removes,
        differs,
        standing,
        resizes=resizes,
        grows=grows,
        upgrades=upgrades,
        moves=moves,
        alters=alters,
    )


def _alters(
    sheet: Sheet, standing: Mapping[str, BuiltNode], without: Collection[str]
) -> tuple[Alter, ...]:
    """What the kit says how to change, node by node in the order of the sheet."""
    if not sheet.kit.changing:
        return ()
    found = []
    for node in sheet.nodes:
        if node.id not in standing or node.id in without:
            continue
        built = standing[node.id].node
        changed: dict[str, list[str]] = {}
        for column in sheet.columns:
            if node.value(column.id) != built.value(column.id) and (
                one := sheet.kit.changing_of(node.role, column.id)
            ):
                changed.setdefault(one.id, []).append(column.id)
        found += [
            Alter(node.id, built.name, one.id, one.label, one.way, tuple(columns), one.interrupts)
            for one in sheet.kit.changing
            if (columns := changed.get(one.id))
            # neither a bare machine nor an adopted VM has a config ISO that could be replaced
            and not (one.way == "restart" and (built.on_machine or built.is_adopted))
        ]
    return tuple(found)


def _changes_machine(built: BuiltNode | None, planned: Node) -> bool:
    """Whether a node is planned on another bare machine: there it is made again."""
    if built is None or not (built.node.on_machine and planned.on_machine):
        return False
    return planned.value("host") not in ("", built.node.value("host"))


def _altered(built: Node, planned: Node, columns: Collection[str]) -> Node:
    """A node with other values of some settings."""
    cells = {column: planned.cells[column] for column in columns if column in planned.cells}
    gone = {column for column in columns if column not in planned.cells}
    kept = {column: cell for column, cell in built.cells.items() if column not in gone}
    return replace(built, cells={**kept, **cells})


def _move(kit: Kit, built: Node, planned: Node) -> Move | None:
    """A node that is planned elsewhere, where it can go there: its disks are files of their own,
    and nothing of it is kept by its host alone.
    """
    where = [*OF_PLACE, *(column for column in planned.cells if is_place(column))]
    role = kit.role(planned.role)
    if all(built.value(column) == planned.value(column) for column in where) or role is None:
        return None
    if built.on_machine or planned.on_machine or not planned.value("host") or built.is_adopted:
        return None
    own = role.vm.tpm or role.vm.secure_boot or role.installer or (role.image and role.image.args)
    same = [one.ref for one in built.extra] == [one.ref for one in planned.extra]
    if own or not same or built.value("provisioning") == "overlay" or built.fence:
        return None
    return Move(
        built.id,
        built.name,
        built.value("host"),
        planned.value("host"),
        built.value("datastore"),
        planned.value("datastore"),
    )


def _moved(built: Node, planned: Node) -> Node:
    """A node as it was built, at its new place."""
    cells = {column: cell for column, cell in planned.cells.items() if is_place(column)}
    return replace(built, cells={**built.cells, **cells}, extra_places=planned.extra_places)


IN_PLACE, AGAIN, WRITTEN = "system", "again", "drive"
"""Ways of an upgrade: two that kits name, and what the first of them is on a bare machine."""


def _upgrades(sheet: Sheet, standing: Mapping[str, BuiltNode]) -> tuple[Upgrade, ...]:
    """Nodes that were made from another package than the one that is planned for their role."""
    found = []
    for node in sheet.nodes:
        built, package = standing.get(node.id), sheet.packages.of(node.role)
        if built is None or built.package is None or package is None:
            continue
        if built.package.sha256 == package.sha256 or built.node.on_machine != node.on_machine:
            continue
        said = sheet.kit.upgrading_of(node.role)
        way: str = said.way if said else ""
        if node.on_machine and way == IN_PLACE:
            # its data drives are where it was: on another machine it begins anew
            way = AGAIN if _changes_machine(built, node) else WRITTEN
        if built.node.is_adopted and way == IN_PLACE:
            # nothing here knows what else its definition holds
            way = ""
        was, now = built.package.title, package.title
        found.append(Upgrade(node.id, built.node.name, node.role, way, was, now))
    return tuple(found)


def _growths(built: Node, planned: Node) -> list[Growth]:
    """Data disks that are planned larger, or are new, where all that the node has stay; disks only
    grow.
    """
    was = {disk.ref: disk.capacity_bytes for disk in built.extra}
    now = {disk.ref: disk.capacity_bytes for disk in planned.extra}
    stay = all(now.get(ref, 0) >= size for ref, size in was.items())
    if not stay or built.on_machine or planned.on_machine:
        return []
    return [
        Growth(built.id, built.name, ref, was.get(ref, 0), size)
        for ref, size in now.items()
        if size > was.get(ref, 0)
    ]


def _is_resized(built: Node, planned: Node) -> bool:
    """Whether a node is planned with other vCPUs or memory; a machine has what it has."""
    if built.on_machine or planned.on_machine or not (planned.vcpu and planned.memory_bytes):
        return False
    return (built.vcpu, built.memory_bytes) != (planned.vcpu, planned.memory_bytes)


def _resized(built: Node, planned: Node) -> Node:
    """A node as it was built, but for its vCPUs and memory."""
    fresh = {column: planned.cells[column] for column in OF_SIZE if column in planned.cells}
    return replace(built, size=planned.size, cells={**built.cells, **fresh})


def _grown(built: Node, planned: Node) -> Node:
    """A node as it was built, but for its data disks: those that it has lie where they are."""
    fresh = {column: cell for column, cell in planned.cells.items() if column.startswith(OF_DISKS)}
    more = sum(one.capacity_bytes for one in planned.extra) - sum(
        one.capacity_bytes for one in built.extra
    )
    lies = {disk.ref: place for disk, place in zip(built.extra, built.extra_places, strict=True)}
    new = zip(planned.extra, planned.extra_places, strict=True)
    return replace(
        built,
        extra=planned.extra,
        extra_places=tuple(lies.get(disk.ref, place) for disk, place in new),
        full_bytes=built.full_bytes + more,
        cells={**built.cells, **fresh},
    )


def _upgraded(built: BuiltNode, planned: Node) -> Node:
    """A node whose system disk is replaced: as it was built, with the size that is planned, and
    with what only the new version asks.
    """
    fresh = (*built.new_columns(planned), *OF_SIZE)
    cells = {column: planned.cells[column] for column in fresh if column in planned.cells}
    return replace(
        built.node,
        size=planned.size,
        cells={**built.node.cells, **cells},
        thin_bytes=planned.thin_bytes,
        full_bytes=planned.full_bytes,
        disks_of=built.node.disks_of or built.run,
    )


def as_built(sheet: Sheet, found: Changes) -> tuple[Node, ...]:
    """The nodes after a change: those that stay as they were built, the others as planned."""
    stands = {ident: one.node for ident, one in found.standing.items()}
    planned = {node.id: node for node in sheet.nodes}
    stands |= {ident: _resized(stands[ident], planned[ident]) for ident in found.resizes}
    stands |= {one.node: _moved(stands[one.node], planned[one.node]) for one in found.moves}
    for ident in {one.node for one in found.grows}:
        stands[ident] = _grown(stands[ident], planned[ident])
    stands |= {one: _upgraded(found.standing[one], planned[one]) for one in found.in_place}
    for alter in found.alters:
        if alter.way != AGAIN:
            ident = alter.node
            stands[ident] = _altered(stands[ident], planned[ident], alter.columns)
    new = {ident: planned[ident] for ident in found.adds if ident in planned}
    return tuple((stands | new)[ident] for ident in (stands if found.alone else planned))
