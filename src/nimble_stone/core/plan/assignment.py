"""Hosts, datastores and addresses for nodes that have none yet. Changes the cells it is given."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from ipaddress import IPv4Address

from nimble_stone.core import addressing
from nimble_stone.core.estate import Estate, Facts, Host, Network, room_bytes
from nimble_stone.core.kit.disks import ExtraDisk
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.roles import Role
from nimble_stone.core.package.model import Size as PackageSize
from nimble_stone.core.placement import Demand, Group, Placement, Supply, place
from nimble_stone.core.plan.cells import UNUSED, Cell, Cells
from nimble_stone.core.plan.columns import lives_on_machine, network_column
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.own_size import size_of
from nimble_stone.core.separation import Separation, stronger

MAX_EXTRA, MAX_EXTRA_GIB = 32, 65_536
"""Most extra disks of one kind a node gets, and how large each may be."""
Rows = list[tuple[Role, int]]
Problem = tuple[tuple[Demand, ...], tuple[Supply, ...]]


@dataclass(frozen=True)
class Others:
    """Memory in bytes by host that others will take: `coming` by runs that stand or are under way,
    `planned` by plans that may never be run.
    """

    coming: Mapping[str, int] = field(default_factory=dict)
    planned: Mapping[str, int] = field(default_factory=dict)


@lru_cache(maxsize=64)
def placed(demands: tuple[Demand, ...], supplies: tuple[Supply, ...]) -> Placement:
    """`place`, remembered: most edits of a plan leave its placement alone."""
    return place(demands, supplies)


def board(
    rows: Rows,
    base: Mapping[str, Cells],
    sizes: Mapping[str, Mapping[str, PackageSize]],
    estate: Estate,
    plan: Plan,
    kit: Kit,
    others: Others,
    prefer: Mapping[str, str],
    thin_bytes: Mapping[str, int],
) -> Problem:
    """What is to be placed and what there is to place it on. `prefer`: where nodes stand already;
    `sizes` and `thin_bytes` by role.
    """
    supplies = tuple(
        Supply(
            host.name,
            facts.memory_bytes,
            max(0, room_bytes(facts) - others.coming.get(host.name, 0)),
            frozenset(net.name for net in facts.networks if net.active),
            vcpus_left(facts, plan.placement.overcommit),
            (
                sum(store.free_bytes for store in facts.datastores if store.active)
                if facts.datastores
                else None
            ),
            others.planned.get(host.name, 0),
            host.domains,
        )
        for host, facts in known_hosts(estate, plan.bays)
        if host.name not in plan.placement.avoid
    )
    # A host that does not answer keeps the nodes that stand on it: silence moves no node, a person
    # does (`avoid`).
    silent = (
        {host.name for host in estate.hosts_in(plan.bays)}
        - {supply.host for supply in supplies}
        - set(plan.placement.avoid)
    )
    demands = []
    groups = _groups(kit, plan)
    for role, n in rows:
        cells = base[f"{role.id}-{n}"]
        if lives_on_machine(cells):
            continue
        there = prefer.get(f"{role.id}-{n}", "")
        stays = there if there in silent else ""
        size = size_of(role, sizes[role.id], cells)
        names = (
            cells[network_column(ident, "network")].value
            for ident in ("", *(network.id for network in kit.networks))
        )
        demands.append(
            Demand(
                f"{role.id}-{n}",
                size.memory_bytes if size else 0,
                role.id if role.apart or role.count.per_host else "",
                cells["host"].value or stays,
                tuple(dict.fromkeys(name for name in names if name)),
                size.vcpu if size else 0,
                thin_bytes[role.id],
                there,
                f"{role.beside}-{n}" if role.beside else "",
                role.label,
                groups.get(role.id, ()),
            )
        )
    return tuple(demands), supplies


def separations(kit: Kit, plan: Plan) -> list[Separation]:
    """What the kit and the plan say of nodes that are kept apart, beside a role's own `apart`."""
    return stronger((*kit.separate, *plan.placement.separate))


def _groups(kit: Kit, plan: Plan) -> dict[str, tuple[Group, ...]]:
    """The groups of each role."""
    found: dict[str, tuple[Group, ...]] = {}
    labels = {role.id: role.label for role in kit.roles}
    for rule in separations(kit, plan):
        words = f"of {' or '.join(labels.get(one, one) for one in rule.roles)}"
        group = Group(rule.key, rule.by, rule.must, words)
        for role in rule.roles:
            found[role] = (*found.get(role, ()), group)
    return found


def vcpus_left(facts: Facts, overcommit: float) -> int | None:
    """vCPUs that may still be promised; None where threads are not known."""
    if not facts.threads:
        return None
    return max(
        0,
        int(facts.threads * overcommit)
        - sum(guest.vcpu for guest in facts.guests if guest.running),
    )


def known_hosts(estate: Estate, bays: Collection[str]) -> list[tuple[Host, Facts]]:
    """Hosts of some bays whose facts are known and without trouble."""
    return [
        (host, facts)
        for host in estate.hosts_in(bays)
        if (facts := estate.facts.get(host.name)) and not facts.trouble and facts.memory_bytes
    ]


def datastores(
    rows: Rows, base: Mapping[str, Cells], estate: Estate, kit: Kit, full_bytes: Mapping[str, int]
) -> None:
    """Every disk of every node: the kit's preferred kind first, then the most room left after what
    was already given here. `full_bytes` by role.
    """
    given: dict[tuple[str, str], int] = {}
    for role, n in rows:
        cells = base[f"{role.id}-{n}"]
        facts = estate.facts.get(cells["host"].value)
        if facts is None:
            continue
        _lay(cells, "datastore", role.datastore, full_bytes[role.id], facts, given)
        for disk in kit.extra_disks:
            column = f"disk.{disk.id}.datastore"
            size, many = extra_size(disk, cells)
            if cells[column].origin == "none" and size * many == 0:
                cells[column] = UNUSED
            elif disk.datastore == "same" and cells[column].origin == "none":
                cells[column] = Cell(cells["datastore"].value, "computed")
            if cells[column].origin != "unused":
                _lay(
                    cells,
                    column,
                    "any" if disk.datastore == "same" else disk.datastore,
                    size * many,
                    facts,
                    given,
                )


def _lay(
    cells: Cells,
    column: str,
    request: str,
    size_bytes: int,
    facts: Facts,
    given: dict[tuple[str, str], int],
) -> None:
    """Choose a datastore where none is named, and count what lies on it."""
    if cells[column].origin == "none":
        stores = [store for store in facts.datastores if store.active]
        stores.sort(
            key=lambda store: (
                request != "any" and bool(store.shared) != (request == "shared"),
                given.get(_store_key(facts.host, store.name, store.shared), 0) - store.free_bytes,
                store.name,
            )
        )
        if stores:
            cells[column] = Cell(stores[0].name, "computed")
    store = facts.datastore(cells[column].value)
    if store:
        key = _store_key(facts.host, store.name, store.shared)
        given[key] = given.get(key, 0) + size_bytes


def extra_size(disk: ExtraDisk, cells: Mapping[str, Cell]) -> tuple[int, int]:
    """(bytes of each, how many) of a kit's extra disk; what is no number, or beyond all measure,
    counts as none (a check says so).
    """
    size = cells[f"disk.{disk.id}"].value
    many = cells[f"disk.{disk.id}.count"].value if f"disk.{disk.id}.count" in cells else "1"
    if (
        size.isdigit()
        and many.isdigit()
        and 0 < int(size) <= MAX_EXTRA_GIB
        and int(many) <= MAX_EXTRA
    ):
        return int(size) << 30, int(many)
    return 0, 0


def _store_key(host: str, name: str, shared: str) -> tuple[str, str]:
    return ("", shared) if shared else (host, name)


def addresses(
    base: Mapping[str, Cells],
    kit: Kit,
    estate: Estate,
    taken: Collection[IPv4Address],
    held: Mapping[str, str],
) -> list[str]:
    """Addresses for nodes (each network role) and for the kit's virtual addresses. Answers with the
    ids of nodes that found a pool exhausted.

    Virtual addresses come from a pool's other end, so that a growing cluster does not push them
    about; `held` (“node/column” → address) is kept
    where it is free.
    """
    reserved = set(taken) | in_use(estate) | _dynamic(estate.networks)
    columns = [
        (network_column(ident, "address"), network_column(ident, "pool"))
        for ident in ("", *(one.id for one in kit.networks if one.addressed))
    ]
    fixed: dict[str, IPv4Address] = {}
    wanting: dict[str, list[tuple[str, str]]] = {}
    for column, pool in columns:
        for ident, cells in base.items():
            cell = cells[column]
            if cell.value:
                parsed = ip(cell.value)
                if parsed:
                    fixed[f"{ident}/{column}"] = parsed
            elif cell.origin == "none" and cells[pool].value:
                wanting.setdefault(cells[pool].value, []).append((ident, column))
    exhausted: list[str] = []
    used = _virtual(base, kit, estate, reserved | set(fixed.values()), held)
    for name, wants in wanting.items():
        pool_found = estate.pool(name)
        if pool_found is None:
            continue
        kept = _still(
            wants,
            held,
            pool_found.first,
            pool_found.last,
            reserved | used | set(fixed.values()) | pool_found.kept_out(),
        )
        found = (
            addressing.assign(
                [f"{ident}/{column}" for ident, column in wants],
                fixed | kept,
                pool_found,
                reserved | used,
            )
            | kept
        )
        for ident, column in wants:
            address = found.get(f"{ident}/{column}")
            if address is None:
                exhausted.append(ident)
            else:
                base[ident][column] = Cell(str(address), "pool")
                fixed[f"{ident}/{column}"] = address
    return exhausted


def _still(
    wants: list[tuple[str, str]],
    held: Mapping[str, str],
    first: IPv4Address,
    last: IPv4Address,
    gone: set[IPv4Address],
) -> dict[str, IPv4Address]:
    kept: dict[str, IPv4Address] = {}
    for ident, column in wants:
        address = ip(held.get(f"{ident}/{column}", ""))
        if address is not None and first <= address <= last and address not in gone:
            kept[f"{ident}/{column}"] = address
            gone.add(address)
    return kept


def _virtual(
    base: Mapping[str, Cells],
    kit: Kit,
    estate: Estate,
    gone: set[IPv4Address],
    held: Mapping[str, str],
) -> set[IPv4Address]:
    """Give each virtual address, the same in every node's cells."""
    used: set[IPv4Address] = set()
    first = next(iter(base.values()), None)
    for one in kit.virtual if first is not None else ():
        column = f"virtual.{one.id}"
        cell = first[column] if first else None
        typed = ip(cell.value) if cell else None
        if typed is not None:
            used.add(typed)
            continue
        pool = (
            estate.pool(first[network_column(one.network or "", "pool")].value) if first else None
        )
        if pool is None or (cell and cell.value):
            continue
        before = ip(held.get(f"/{column}", ""))
        span, kept_out = range(int(pool.first), int(pool.last) + 1), pool.kept_out()
        free = (IPv4Address(number) for number in (reversed(span) if pool.order == "up" else span))
        if (
            before is not None
            and pool.first <= before <= pool.last
            and before not in gone
            and before not in kept_out
            and before not in used
        ):
            address: IPv4Address | None = before
        else:
            address = next(
                (a for a in free if a not in gone and a not in used and a not in kept_out), None
            )
        if address is not None:
            used.add(address)
            given = Cell(str(address), "pool")
            for cells in base.values():
                cells[column] = given
    return used


@lru_cache(maxsize=8)
def _dynamic(networks: tuple[Network, ...]) -> frozenset[IPv4Address]:
    """All addresses that DHCP hands out somewhere, as far as they are not too many to be told apart
    one by one.
    """
    return frozenset(
        IPv4Address(number)
        for network in networks
        if network.dynamic_first and network.dynamic_last
        for number in range(
            int(network.dynamic_first),
            min(int(network.dynamic_last), int(network.dynamic_first) + 65_535) + 1,
        )
    )


def in_use(estate: Estate) -> set[IPv4Address]:
    """Addresses that gateways, name servers, hosts and machines of the estate have themselves.
    Cost: O(interfaces).
    """
    found = {network.gateway for network in estate.networks} | {
        address for network in estate.networks for address in network.dns
    }
    own = [
        *(host.address for host in estate.hosts),
        *(machine.address for machine in estate.machines),
    ]
    own += [
        address.partition("/")[0]
        for facts in estate.facts.values()
        for interface in facts.interfaces
        for address in interface.addresses
    ]
    return found | {address for text in own if (address := ip(text))}


@lru_cache(maxsize=16384)
def ip(text: str) -> IPv4Address | None:
    """The address a text holds, or None."""
    try:
        return IPv4Address(text.strip())
    except ValueError:
        return None
