"""From a plan and facts to the sheet: every node's every value, each with its origin. Pure.

Order of origins: node, group (role), plan, shared values, pool, kit, package; what is derived from
other cells is computed.
"""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from ipaddress import IPv4Address

from nimble_stone.core import drive_choice
from nimble_stone.core.estate import Estate
from nimble_stone.core.installing import packages as installing
from nimble_stone.core.kit import expression
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.roles import Role
from nimble_stone.core.package.adapt import ExtraDisk
from nimble_stone.core.package.model import Size as PackageSize
from nimble_stone.core.placement import Placement
from nimble_stone.core.plan import assignment, carried, drawn, fence, machines
from nimble_stone.core.plan import cells as cell_room
from nimble_stone.core.plan.assignment import Others, Problem, ip
from nimble_stone.core.plan.cells import Cell, Cells, Origin
from nimble_stone.core.plan.columns import (
    FENCE,
    Column,
    Kind,
    any_on_machines,
    columns_of,
    data_drives,
    is_machine_part,
    is_place,
    lives_on_machine,
    network_column,
    on_machines,
)
from nimble_stone.core.plan.fence import Fence
from nimble_stone.core.plan.model import Plan, Scalar
from nimble_stone.core.plan.own_size import size_of
from nimble_stone.core.plan.packages import Packages, PackageView

__all__ = [
    "Cell",
    "Column",
    "Kind",
    "Node",
    "Origin",
    "PackageView",
    "Sheet",
    "columns_of",
    "ip",
    "macs_of",
    "networks_of",
    "resolve",
]

OVERLAY_BYTES, EMPTY_BYTES = 1 << 20, 256 << 10
"""What an overlay and an empty thin disk take at first."""


@dataclass(frozen=True)
class FoundDisk:
    """A disk that was there when its VM was adopted, and how many bytes it holds. `ref`: which of
    the node's it is: its number among the package's own, or the name of a disk that the plan adds;
    '' for one that the plan does not know.
    """

    datastore: str
    volume: str
    ref: str
    capacity_bytes: int


@dataclass(frozen=True)
class Node:
    """One row. Memory and disk in bytes. `size` is None when the named size is none of the
    package's.
    """

    id: str
    role: str
    number: int
    cells: Mapping[str, Cell]
    size: PackageSize | None
    thin_bytes: int
    full_bytes: int
    extra: tuple[ExtraDisk, ...] = ()
    extra_places: tuple[str, ...] = ()
    """The datastore of each extra disk; on a machine, the serial number of its drive."""
    disks_of: str = ""
    """The run that made its extra disks, where a later one replaced its system disk."""
    volumes: tuple[FoundDisk, ...] = ()
    """The disks of a VM that was adopted, in the order of its drives; none where we made it."""

    @property
    def is_adopted(self) -> bool:
        """Whether its VM was made by others."""
        return bool(self.volumes)

    @cached_property
    def by_store(self) -> Mapping[str, tuple[int, int]]:
        """Datastore → (bytes at first, bytes when full) of what lies on it; the first is the node's
        own.
        """
        whole = self.value("provisioning") == "full"
        if self.on_machine:
            return {}
        if not self.extra:
            return {
                self.value("datastore"): (
                    self.full_bytes if whole else self.thin_bytes,
                    self.full_bytes,
                )
            }
        apart_thin, apart_full = (
            len(self.extra) * EMPTY_BYTES,
            sum(disk.capacity_bytes for disk in self.extra),
        )
        full = self.full_bytes - apart_full
        found = {self.value("datastore"): (full if whole else self.thin_bytes - apart_thin, full)}
        for disk, place in zip(self.extra, self.extra_places, strict=True):
            thin, most = found.get(place, (0, 0))
            found[place] = (thin + EMPTY_BYTES, most + disk.capacity_bytes)
        return found

    @cached_property
    def roles(self) -> tuple[str, ...]:
        """Its own role, then those that it carries as well."""
        return (self.role, *carried.named(self.value(carried.ALSO)))

    def has_any(self, roles: Collection[str]) -> bool:
        """Whether it has or carries one of these roles; none named: every role."""
        return not roles or not set(roles).isdisjoint(self.roles)

    @property
    def fence(self) -> Fence | None:
        """The volume that it shares with others."""
        return fence.named(self.value(FENCE))

    @property
    def on_machine(self) -> bool:
        """Whether it lives on a bare machine, which `host` names then."""
        return lives_on_machine(self.cells)

    def value(self, column: str) -> str:
        """The value of a column, '' where there is none."""
        try:
            return self.cells[column].value
        except KeyError:
            return ""

    @property
    def name(self) -> str:
        """The node's name."""
        return self.value("name")

    @property
    def memory_bytes(self) -> int:
        """Memory the node gets."""
        return self.size.memory_bytes if self.size else 0

    @property
    def vcpu(self) -> int:
        """vCPUs the node gets."""
        return self.size.vcpu if self.size else 0


@dataclass(frozen=True)
class Sheet:
    """The resolved plan. `board`: what was placed on what."""

    plan: Plan
    kit: Kit
    packages: Packages
    columns: tuple[Column, ...]
    nodes: tuple[Node, ...]
    unplaced: Mapping[str, str] = field(default_factory=dict)
    exhausted: tuple[str, ...] = ()
    short: Mapping[str, Sequence[str]] = field(default_factory=dict)
    """Column → nodes whose series has nothing left."""
    board: Problem = ((), ())

    @property
    def package(self) -> PackageView | None:
        """The plan's package."""
        return self.packages.main

    @cached_property
    def used(self) -> tuple[PackageView, ...]:
        """The packages that nodes are made from, each once."""
        return self.packages.each(node.role for node in self.nodes)

    @cached_property
    def by_id(self) -> Mapping[str, Node]:
        """Rows by id."""
        return {node.id: node for node in self.nodes}

    @cached_property
    def by_role(self) -> Mapping[str, Sequence[Node]]:
        """Rows of each of the kit's roles, also of those that have none."""
        found: dict[str, list[Node]] = {role.id: [] for role in self.kit.roles}
        for node in self.nodes:
            found[node.role].append(node)
        return found

    @cached_property
    def carriers(self) -> Mapping[str, Sequence[Node]]:
        """Rows that have or carry each of the kit's roles."""
        found: dict[str, list[Node]] = {role.id: [] for role in self.kit.roles}
        for node in self.nodes:
            for ident in node.roles:
                if ident in found:
                    found[ident].append(node)
        return found

    def count_of(self, role: str) -> int:
        """How many nodes of a role there are; of one without nodes of its own, how many carry
        it.
        """
        known = self.kit.role(role)
        rows = self.by_role if known is None or known.own_nodes else self.carriers
        return len(rows.get(role, ()))

    @cached_property
    def by_host(self) -> Mapping[str, Sequence[Node]]:
        """Rows of each host that has any; '' those that have none. Cost: O(nodes), once."""
        found: dict[str, list[Node]] = {}
        for node in self.nodes:
            found.setdefault(node.value("host"), []).append(node)
        return found

    def node(self, ident: str) -> Node | None:
        """The row of that id."""
        return self.by_id.get(ident)

    @cached_property
    def address_columns(self) -> tuple[str, ...]:
        """Columns that hold nodes' addresses, the service network's first."""
        return tuple(
            network_column(ident, "address")
            for ident in ("", *(network.id for network in self.kit.networks if network.addressed))
        )

    def addresses(self) -> Iterator[tuple[Node | None, str, str]]:
        """(node, column, address) of everything that has one; a virtual address has no node."""
        columns = self.address_columns
        for node in self.nodes:
            for column in columns:
                if value := node.value(column):
                    yield node, column, value
        for one in self.kit.virtual if self.nodes else ():
            if value := self.nodes[0].value(f"virtual.{one.id}"):
                yield None, f"virtual.{one.id}", value

    def members(self) -> Iterator[tuple[Node | None, str, str]]:
        """(node, column, member) of everything that no other plan may have: addresses, and what
        pools assigned or a person typed.
        """
        yield from self.addresses()
        for column in self.columns:
            if column.draws == "number" and column.scope == "plan":
                if self.nodes and (member := drawn.member_of(column, self.nodes[0].cells)):
                    yield None, column.id, member
            elif column.draws:
                for node in self.nodes:
                    if member := drawn.member_of(column, node.cells):
                        yield node, column.id, member

    def by_node(self) -> dict[str, tuple[str, ...]]:
        """Node id → all it holds; the first node answers for what belongs to the whole plan."""
        found: dict[str, list[str]] = {}
        for node, _, value in self.members():
            found.setdefault(node.id if node else self.nodes[0].id, []).append(value)
        return {ident: tuple(values) for ident, values in found.items()}


def resolve(
    plan: Plan,
    kit: Kit,
    packages: Packages | PackageView | None,
    estate: Estate,
    taken: Collection[IPv4Address] = (),
    *,
    members: Collection[str] = (),
    shared: Mapping[str, Scalar] | None = None,
    others: Others | None = None,
    held: Mapping[str, str] | None = None,
    prefer: Mapping[str, str] | None = None,
    built: Mapping[str, Mapping[str, str]] | None = None,
    lost: Collection[str] = (),
) -> Sheet:
    """Resolve a plan. `taken`: addresses that others hold, `members` what else; `others`: memory
    other plans will take; `held`, `prefer`: addresses and hosts
    the nodes have had so far, kept where they still fit; `shared`: values the plan includes;
    `built`: node that stands → its values, which take the place of what would be chosen; `lost`:
    excluded hosts and machines on which nothing can stay. Cost:
    O(nodes × (networks + hosts) + roles × columns).
    """
    packages = packages if isinstance(packages, Packages) else Packages(packages)
    packages = installing.as_kit_says(packages, kit)
    columns = columns_of(kit, packages, estate, plan)
    rows = [(role, n) for role in kit.roles for n in range(1, count_of(plan, role, estate) + 1)]
    sizes = {role.id: packages.sizes(role.id) for role in kit.roles}
    thin = {
        role.id: package.thin_bytes if (package := packages.of(role.id)) else 0
        for role in kit.roles
    }
    full = {
        role.id: package.descriptor.full_bytes if (package := packages.of(role.id)) else 0
        for role in kit.roles
    }
    base = cell_room.written(plan, kit, packages, columns, estate, rows, shared or {})
    if built:
        # what belongs to the whole plan, such as a virtual address, new nodes have as well
        wide = {one.id for one in columns if one.scope == "plan"}
        first = next(iter(built.values()))
        shared_by_all = {column: value for column, value in first.items() if column in wide}
        drawn_columns = {one.id for one in columns if one.draws or one.kind == "address"}
        for ident, cells in base.items():
            values = built.get(ident, shared_by_all)
            if _is_to_leave(values, cells, plan, lost):
                values = {
                    name: value
                    for name, value in values.items()
                    if not (is_place(name) or is_machine_part(name))
                }
            _keep(cells, _still_there(values, cells["host"].value, estate), drawn_columns)
    if any_on_machines(kit, plan):
        for cells in base.values():
            machines.without_the_other(cells)
    board = assignment.board(
        rows, base, sizes, estate, plan, kit, others or Others(), prefer or {}, thin
    )
    found = assignment.placed(*board) if board[0] else Placement({}, {})
    stays = {demand.node: demand.fixed for demand in board[0] if demand.fixed}
    for ident, cells in base.items():
        host = found.hosts.get(ident) or stays.get(ident, "")
        if host and cells["host"].origin == "none":
            cells["host"] = Cell(host, "computed")
            _keep(cells, _shared_places((built or {}).get(ident, {}), host, estate), ())
    assignment.datastores(rows, base, estate, kit, full)
    reasons = dict(found.reasons) | machines.choose(
        rows, base, sizes, estate, plan, kit, others or Others(), prefer or {}, full
    )
    exhausted = assignment.addresses(base, kit, estate, taken, held or {})
    short = drawn.from_series(base, columns, estate, members, held or {})
    nodes = tuple(
        _node(role, n, base[f"{role.id}-{n}"], kit, thin[role.id], full[role.id], sizes[role.id])
        for role, n in rows
    )
    return Sheet(plan, kit, packages, columns, nodes, reasons, tuple(exhausted), short, board)


def _is_to_leave(
    values: Mapping[str, str], cells: Cells, plan: Plan, lost: Collection[str]
) -> bool:
    """Whether a VM stands on a host that the plan excludes and that nobody set for it: placement
    finds it another. A node on a bare machine goes nowhere, unless its machine is lost.
    """
    host = values.get("host")
    if cells["host"].origin != "none" or (lives_on_machine(cells) and host not in lost):
        return False
    return host in plan.placement.avoid


def _still_there(values: Mapping[str, str], host: str, estate: Estate) -> Mapping[str, str]:
    """What a node was built with, without what it leaves behind when it is planned elsewhere: of a
    host its datastores, where they are not shared; of a machine its drives and ports.
    """
    if not host or host == values.get("host"):
        return values
    if values.get("on") == "machines":
        return {name: one for name, one in values.items() if not is_machine_part(name)}
    there = _shared_places(values, host, estate)
    return {
        column: value
        for column, value in values.items()
        if column.rpartition(".")[2] != "datastore" or column in there
    }


def _shared_places(values: Mapping[str, str], host: str, estate: Estate) -> Mapping[str, str]:
    """Datastore columns of what a node was built with that are shared and known to a host."""
    facts = estate.facts.get(host)
    shared = {one.name for one in facts.datastores if one.shared} if facts else set()
    return {
        column: value
        for column, value in values.items()
        if column.rpartition(".")[2] == "datastore" and value in shared
    }


def _keep(cells: Cells, values: Mapping[str, str], drawn_columns: Collection[str]) -> None:
    """What nobody wrote down stays as it was built: hosts, datastores, addresses. `drawn_columns`:
    what a pool or a series gives.
    """
    for column, cell in cells.items():
        if cell.origin == "none" and (value := values.get(column)):
            cells[column] = Cell(value, "pool" if column in drawn_columns else "computed")


def inputs_of(sheet: Sheet, node: Node) -> cell_room.Inputs:
    """What a kit's condition may read of a node."""
    counts = {role.id: sheet.count_of(role.id) for role in sheet.kit.roles}
    return cell_room.Inputs(node.cells, node.roles, node.number, counts, len(sheet.nodes))


def holding(sheet: Sheet, nodes: Sequence[Node], when: str) -> list[Node]:
    """The nodes for which a kit's condition holds; '' always does."""
    if not when:
        return list(nodes)
    parsed = expression.parse(when)
    return [node for node in nodes if expression.asked(parsed, inputs_of(sheet, node))]


def networks_of(kit: Kit, node: Node, count: int) -> tuple[str, ...]:
    """The network of each interface: as the kit's network roles say, the service network for all
    that have none.
    """
    named = {net.interface: node.value(network_column(net.id, "network")) for net in kit.networks}
    return tuple(named.get(number) or node.value("network") for number in range(1, count + 1))


def reached(kit: Kit, node: Node) -> str:
    """The address at which this tool reaches a node."""
    return node.value(network_column(kit.managed_on or "", "address"))


def macs_of(kit: Kit, node: Node, count: int) -> tuple[str, ...]:
    """The MAC address of each interface, '' where the hypervisor gives one."""
    named = {net.interface: node.value(network_column(net.id, "mac")) for net in kit.networks} | {
        1: node.value("mac")
    }
    role = kit.role(node.role)
    found = tuple(named.get(number, "") for number in range(1, count + 1))
    if role is None or role.image is None:
        return found
    # its system is told which interface is which by their addresses
    return tuple(mac or _own_mac(node, number) for number, mac in enumerate(found, 1))


def _own_mac(node: Node, number: int) -> str:
    """An address that this node's interface always gets, in the hypervisor's own range."""
    digest = hashlib.sha256(f"{node.name}/{node.id}/{number}".encode()).hexdigest()
    return f"52:54:00:{digest[0:2]}:{digest[2:4]}:{digest[4:6]}"


def count_of(plan: Plan, role: Role, estate: Estate) -> int:
    """How many nodes of a role: what the plan says, or one a host where the kit says so, or the
    usual number.
    """
    if not role.own_nodes:
        return 0
    block = plan.roles.get(role.id)
    if block is not None and block.count is not None:
        return block.count
    if not role.count.per_host:
        return role.count.usual
    there = estate.writable if on_machines(role, plan) else estate.hosts_in
    return min(role.count.most, len(there(plan.bays)))


def _node(
    role: Role,
    n: int,
    cells: Cells,
    kit: Kit,
    thin_bytes: int,
    full_bytes: int,
    sizes: Mapping[str, PackageSize],
) -> Node:
    also = carried.named(cells[carried.ALSO].value) if carried.ALSO in cells else ()
    extra, places = _extra(kit, (role.id, *also), cells)
    thin = OVERLAY_BYTES if cells["provisioning"].value == "overlay" else thin_bytes
    return Node(
        f"{role.id}-{n}",
        role.id,
        n,
        cells,
        size_of(role, sizes, cells),
        thin + len(extra) * EMPTY_BYTES,
        full_bytes + sum(disk.capacity_bytes for disk in extra),
        extra,
        places,
    )


def _extra(
    kit: Kit, roles: Sequence[str], cells: Mapping[str, Cell]
) -> tuple[tuple[ExtraDisk, ...], tuple[str, ...]]:
    """The disks laid on top of the package for one node, and the datastore of each."""
    found: list[ExtraDisk] = []
    places: list[str] = []
    for disk in kit.extra_disks:
        if disk.roles and set(disk.roles).isdisjoint(roles):
            continue
        size, many = assignment.extra_size(disk, cells)
        if lives_on_machine(cells):
            drives = drive_choice.serials(cells[data_drives(disk.id)].value)
            found += [
                ExtraDisk(f"{disk.id}{number}", disk.controller, size)
                for number in range(1, len(drives) + 1)
            ]
            places += drives
            continue
        if size:
            found += [
                ExtraDisk(f"{disk.id}{number}", disk.controller, size)
                for number in range(1, many + 1)
            ]
            places += [cells[f"disk.{disk.id}.datastore"].value or cells["datastore"].value] * many
    return tuple(found), tuple(places)
