"""From a plan and facts to the sheet: every node's every value, each with its origin. Pure.

Order of origins: node, group (role), plan, pool, package, kit; what is derived from other cells is computed.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from typing import Literal

from nimble_stone.core import addressing
from nimble_stone.core.estate import Estate, Facts, Host, room_bytes
from nimble_stone.core.kit.model import Kit, Role, Rule
from nimble_stone.core.package.adapt import ExtraDisk
from nimble_stone.core.package.model import Descriptor
from nimble_stone.core.package.model import Size as PackageSize
from nimble_stone.core.placement import Demand, Placement, Supply, place
from nimble_stone.core.plan.model import Plan

Origin = Literal["kit", "plan", "group", "node", "pool", "computed", "package", "none"]
Kind = Literal["text", "address", "choice", "secret", "number"]


MAX_EXTRA = 32
OVERLAY_BYTES, EMPTY_BYTES = 1 << 20, 256 << 10
"""What an overlay and an empty qcow2 disk take at first."""


@dataclass(frozen=True)
class Column:
    """A column of the sheet. `scope` is where its value usually stands."""

    id: str
    label: str
    kind: Kind
    scope: Literal["plan", "role", "node"]
    required: bool = True
    choices: tuple[str, ...] = ()
    rule: Rule = Rule()
    environment: str = ""


@dataclass(frozen=True)
class Cell:
    """A value and where it comes from."""

    value: str
    origin: Origin


@dataclass(frozen=True)
class Node:
    """One row. Memory and disk in bytes. `size` is None when the named size is none of the package's."""

    id: str
    role: str
    number: int
    cells: Mapping[str, Cell]
    size: PackageSize | None
    thin_bytes: int
    full_bytes: int
    extra: tuple[ExtraDisk, ...] = ()

    def value(self, column: str) -> str:
        """The value of a column, '' where there is none."""
        cell = self.cells.get(column)
        return cell.value if cell else ""

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
class PackageView:
    """What the sheet needs of a package: its descriptor and how many bytes a node's disks take when thin."""

    sha256: str
    descriptor: Descriptor
    thin_bytes: int


@dataclass(frozen=True)
class Sheet:
    """The resolved plan."""

    plan: Plan
    kit: Kit
    package: PackageView | None
    columns: tuple[Column, ...]
    nodes: tuple[Node, ...]
    unplaced: Mapping[str, str] = field(default_factory=dict)
    exhausted: tuple[str, ...] = ()

    def node(self, ident: str) -> Node | None:
        """The row of that id."""
        return next((node for node in self.nodes if node.id == ident), None)


def resolve(plan: Plan, kit: Kit, package: PackageView | None, estate: Estate, taken: Collection[IPv4Address] = ()) -> Sheet:
    """Resolve a plan. `taken`: addresses held by other plans' runs. Cost: O(nodes × (columns + hosts))."""
    columns = columns_of(kit, package, estate, plan)
    rows = [(role, n) for role in kit.roles for n in range(1, _count(plan, role) + 1)]
    sizes = {size.id: size for size in package.descriptor.sizes} if package else {}
    base = {_id(role, n): _written(plan, kit, package, columns, role, n) for role, n in rows}
    hosts = _place(rows, base, sizes, estate, plan)
    for ident, cells in base.items():
        if ident in hosts.hosts and cells["host"].origin == "none":
            cells["host"] = Cell(hosts.hosts[ident], "computed")
        _network_cells(cells, estate)
    _datastores(rows, base, estate, package)
    exhausted = _addresses(base, estate, taken)
    nodes = []
    for role, n in rows:
        cells = base[_id(role, n)]
        extra = _extra(kit, role, cells)
        thin = OVERLAY_BYTES if cells["provisioning"].value == "overlay" else package.thin_bytes if package else 0
        nodes.append(Node(_id(role, n), role.id, n, cells, sizes.get(cells["size"].value), thin + len(extra) * EMPTY_BYTES,
                          (package.descriptor.full_bytes if package else 0) + sum(disk.capacity_bytes for disk in extra), extra))
    return Sheet(plan, kit, package, columns, tuple(nodes), hosts.reasons, tuple(exhausted))


def columns_of(kit: Kit, package: PackageView | None, estate: Estate, plan: Plan) -> tuple[Column, ...]:
    """All columns: the built-in ones, the kit's questions, then what else the package asks."""
    sizes = tuple(size.id for size in package.descriptor.sizes) if package else ()
    columns = [
        Column("name", "Name", "text", "node", rule=Rule(max_length=63, pattern=r"[a-z0-9]([a-z0-9-]*[a-z0-9])?")),
        Column("size", "Size", "choice", "role", choices=sizes),
        Column("host", "Host", "choice", "node", choices=tuple(host.name for host in estate.bay(plan.bay))),
        Column("datastore", "Datastore", "choice", "node"),
        Column("provisioning", "Disks", "choice", "plan", choices=("thin", "full", "overlay")),
        Column("network", "Network", "choice", "plan", choices=tuple(network.name for network in estate.networks)),
        Column("pool", "Pool", "choice", "plan", required=False, choices=tuple(pool.name for pool in estate.pools)),
        Column("address", "Address", "address", "node"),
        Column("prefix", "Prefix", "number", "plan"),
        Column("gateway", "Gateway", "address", "plan"),
        Column("dns", "DNS", "text", "plan", required=False),
        Column("domain", "Domain", "text", "plan", required=False),
        Column("ntp", "NTP", "text", "plan", required=False),
        Column("time_zone", "Time zone", "text", "plan"),
    ]
    for disk in kit.extra_disks:
        columns.append(Column(f"disk.{disk.id}", f"{disk.label}, GiB", "number", "role", required=False))
        if disk.count.most > 1 or disk.count.least == 0:
            columns.append(Column(f"disk.{disk.id}.count", f"{disk.label}: how many", "number", "role", required=False))
    asked = {question.key: question for question in package.descriptor.questions} if package else {}
    for question in kit.questions:
        own = asked.get(question.property)
        rule = question.rule
        if own is not None and own.type == "string":
            rule = rule.model_copy(update={"min_length": max(rule.min_length, own.minimum or 0),
                                           "max_length": min(rule.max_length, own.maximum or rule.max_length),
                                           "choices": rule.choices or own.choices})
        columns.append(Column(question.id, question.label, "secret" if question.secret else "choice" if rule.choices else "text",
                              question.scope, question.required, rule.choices, rule, question.property))
    covered = set(kit.environment) | {question.property for question in kit.questions}
    for own in asked.values():
        if own.asked and own.key not in covered:
            rule = Rule(min_length=own.minimum or 0, max_length=own.maximum or 4096, choices=own.choices) if own.type == "string" else Rule()
            columns.append(Column(own.key, own.label, "secret" if own.secret else "choice" if own.choices else "text", "plan",
                                  not own.default, own.choices, rule, own.key))
    return tuple(columns)


def _id(role: Role, number: int) -> str:
    return f"{role.id}-{number}"


def _count(plan: Plan, role: Role) -> int:
    block = plan.roles.get(role.id)
    return block.count if block else role.count.usual


def _written(plan: Plan, kit: Kit, package: PackageView | None, columns: tuple[Column, ...], role: Role, number: int) -> dict[str, Cell]:
    """What the file says for one node, filled up with the kit's and the package's defaults."""
    own = plan.nodes.get(_id(role, number), {})
    block = plan.roles.get(role.id)
    group = block.values if block else {}
    defaults = {"provisioning": "thin", "time_zone": "UTC"}
    for disk in kit.extra_disks:
        if not disk.roles or role.id in disk.roles:
            defaults |= {f"disk.{disk.id}": str(disk.size_gib.usual), f"disk.{disk.id}.count": str(disk.count.usual)}
    defaults |= {question.id: question.default for question in kit.questions if question.default}
    asked = {question.key: question.default for question in package.descriptor.questions} if package else {}
    cells: dict[str, Cell] = {}
    for column in columns:
        for values, origin in ((own, "node"), (group, "group"), (plan.values, "plan")):
            if column.id in values:
                cells[column.id] = Cell(_text(values[column.id]), origin)  # type: ignore[arg-type]  # origin is one of three literals
                break
        else:
            if column.id in defaults:
                cells[column.id] = Cell(defaults[column.id], "kit")
            elif asked.get(column.environment):
                cells[column.id] = Cell(asked[column.environment], "package")
            else:
                cells[column.id] = Cell("", "none")
    if cells["name"].origin == "none":
        alone = _count(plan, role) == 1 and role.count.most == 1
        pattern = kit.names.replace("-{n}", "") if alone else kit.names
        cells["name"] = Cell(pattern.format(plan=plan.name, short=role.short, n=number, role=role.id), "computed")
    if cells["size"].origin == "none" and package:
        cells["size"] = Cell(next((size.id for size in package.descriptor.sizes if size.default), ""), "package")
    return cells


def _extra(kit: Kit, role: Role, cells: Mapping[str, Cell]) -> tuple[ExtraDisk, ...]:
    """The disks laid on top of the package for one node; what is no number counts as none (a check says so)."""
    found = []
    for disk in kit.extra_disks:
        if disk.roles and role.id not in disk.roles:
            continue
        size = cells[f"disk.{disk.id}"].value
        count = cells[f"disk.{disk.id}.count"].value if f"disk.{disk.id}.count" in cells else "1"
        if size.isdigit() and count.isdigit() and int(size) and int(count) <= MAX_EXTRA and int(size) <= 65_536:
            found += [ExtraDisk(f"{disk.id}{number}", disk.controller, int(size) << 30) for number in range(1, int(count) + 1)]
    return tuple(found)


def _text(value: object) -> str:
    return ("true" if value else "false") if isinstance(value, bool) else str(value)


def _place(rows: list[tuple[Role, int]], base: Mapping[str, dict[str, Cell]], sizes: Mapping[str, PackageSize], estate: Estate,
           plan: Plan) -> Placement:
    supplies = [Supply(host.name, facts.memory_bytes, room_bytes(facts), frozenset(net.name for net in facts.networks if net.active))
                for host, facts in _known(estate, plan.bay)]
    demands = []
    for role, n in rows:
        cells = base[_id(role, n)]
        size = sizes.get(cells["size"].value)
        demands.append(Demand(_id(role, n), size.memory_bytes if size else 0, role.id if role.apart else "", cells["host"].value,
                              cells["network"].value))
    return place(demands, supplies)


def _known(estate: Estate, bay: str) -> list[tuple[Host, Facts]]:
    return [(host, estate.facts[host.name]) for host in estate.bay(bay)
            if host.name in estate.facts and not estate.facts[host.name].trouble and estate.facts[host.name].memory_bytes]


def _network_cells(cells: dict[str, Cell], estate: Estate) -> None:
    pool = estate.pool(cells["pool"].value)
    if cells["network"].origin == "none" and pool:
        cells["network"] = Cell(pool.network, "pool")
    network = estate.network(cells["network"].value)
    if network is None:
        return
    known = {"prefix": str(network.subnet.prefixlen), "gateway": str(network.gateway), "dns": " ".join(map(str, network.dns)),
             "ntp": network.ntp, "domain": network.domain}
    for column, value in known.items():
        if cells[column].origin == "none" and value:
            cells[column] = Cell(value, "pool")


def _datastores(rows: list[tuple[Role, int]], base: Mapping[str, dict[str, Cell]], estate: Estate, package: PackageView | None) -> None:
    """The kit's preferred kind first, then the most room left after what was already given here."""
    given: dict[tuple[str, str], int] = {}
    full = package.descriptor.full_bytes if package else 0
    for role, n in rows:
        cells = base[_id(role, n)]
        facts = estate.facts.get(cells["host"].value)
        if facts is None:
            continue
        if cells["datastore"].origin == "none":
            stores = [store for store in facts.datastores if store.active]
            stores.sort(key=lambda store: (role.datastore != "any" and bool(store.shared) != (role.datastore == "shared"),
                                           given.get(_store_key(facts.host, store.name, store.shared), 0) - store.free_bytes, store.name))
            if stores:
                cells["datastore"] = Cell(stores[0].name, "computed")
        store = facts.datastore(cells["datastore"].value)
        if store:
            key = _store_key(facts.host, store.name, store.shared)
            given[key] = given.get(key, 0) + full


def _store_key(host: str, name: str, shared: str) -> tuple[str, str]:
    return ("", shared) if shared else (host, name)


def _addresses(base: Mapping[str, dict[str, Cell]], estate: Estate, taken: Collection[IPv4Address]) -> list[str]:
    fixed: dict[str, IPv4Address] = {}
    wanting: dict[str, list[str]] = {}
    for ident, cells in base.items():
        parsed = ip(cells["address"].value)
        if parsed:
            fixed[ident] = parsed
        elif cells["address"].origin == "none" and cells["pool"].value:
            wanting.setdefault(cells["pool"].value, []).append(ident)
    exhausted = []
    reserved = set(taken) | {network.gateway for network in estate.networks}
    for name, idents in wanting.items():
        found = addressing.assign(idents, dict(fixed), estate.pool(name), reserved)
        for ident, address in found.items():
            base[ident]["address"] = Cell(str(address), "pool")
            fixed[ident] = address
        exhausted += [ident for ident in idents if ident not in found and estate.pool(name)]
    return exhausted


def ip(text: str) -> IPv4Address | None:
    """The address a text holds, or None."""
    try:
        return IPv4Address(text.strip())
    except ValueError:
        return None
