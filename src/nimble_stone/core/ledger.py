"""The consequences beside the wall: datastores now and after, addresses of the pools, what falls if
a host is lost. Pure.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import Any

from nimble_stone.core.estate import Estate
from nimble_stone.core.plan.drawn import in_use
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.series import condensed, number_of, text_of
from nimble_stone.core.units import count_text

MAX_CELLS, MAX_MEMBERS = 256, 4096


@dataclass(frozen=True)
class StoreLine:
    """A datastore the plan uses: bytes used now, after with thin disks, and at worst when they
    fill.
    """

    name: str
    host: str
    capacity_bytes: int
    used_bytes: int
    thin_bytes: int
    full_bytes: int
    nodes: int


@dataclass(frozen=True)
class PoolLine:
    """A pool the plan draws on. `cells`: one letter per address in order: '.' free, 'x' excluded,
    't' taken by others, 'p' planned, '!' in conflict.
    """

    name: str
    first: str
    last: str
    free: int
    cells: str
    kind: str = "ipv4"


@dataclass(frozen=True)
class LossLine:
    """What falls when a host is lost."""

    host: str
    text: str
    nodes: int


def stores(sheet: Sheet, estate: Estate) -> list[StoreLine]:
    """One line per datastore that gets a disk, the fullest at worst first. The copies that nodes'
    disks are made from are counted, one of each package.
    """
    use: dict[tuple[str, str], list[tuple[int, int]]] = defaultdict(list)
    made_from: dict[tuple[str, str], dict[str, None]] = defaultdict(dict)  # roles, in order
    known = {}
    for node in sheet.nodes:
        facts = estate.facts.get(node.value("host"))
        for name, sizes in node.by_store.items():
            store = facts.datastore(name) if facts else None
            if facts is None or store is None:
                continue
            key = ("", store.name) if store.shared else (facts.host, store.name)
            known[key] = store
            use[key].append(sizes)
            if name == node.value("datastore"):
                made_from[key][node.role] = None
    copies = {
        key: sum(package.thin_bytes for package in sheet.packages.each(made_from[key]))
        for key in use
    }
    lines = [
        StoreLine(
            name,
            host,
            known[host, name].capacity_bytes,
            known[host, name].capacity_bytes - known[host, name].free_bytes,
            sum(thin for thin, _ in sizes) + copies[host, name],
            sum(full for _, full in sizes) + copies[host, name],
            len(sizes),
        )
        for (host, name), sizes in use.items()
    ]
    return sorted(
        lines,
        key=lambda line: (
            -(line.used_bytes + line.full_bytes) / max(1, line.capacity_bytes),
            line.host,
            line.name,
        ),
    )


def _first_of(marks: Mapping[str, bool], otherwise: str) -> str:
    """The first mark that is true."""
    return next((mark for mark, true in marks.items() if true), otherwise)


@dataclass(frozen=True)
class _Holders:
    """Who has a member of a pool or series; None: free."""

    held: str | None
    found: str | None
    reserved: str | None
    excluded: bool

    @property
    def state(self) -> str:
        """What counts first: who holds it, who was found with it, whom it is kept for."""
        states = {
            "held": self.held is not None,
            "found": self.found is not None,
            "reserved": self.reserved is not None,
            "excluded": self.excluded,
        }
        return _first_of(states, "free")

    @property
    def by(self) -> str:
        """Its name, '' for none."""
        known = (self.held, self.found, self.reserved)
        return next((name for name in known if name is not None), "")


def pools(
    sheet: Sheet, estate: Estate, taken: Collection[str], conflicts: Collection[str]
) -> list[PoolLine]:
    """One line per pool that gives an address. At most 256 cells are drawn."""
    planned = {value for _, _, value in sheet.addresses()}
    lines = []
    for name in dict.fromkeys(node.value("pool") for node in sheet.nodes):
        pool = estate.pool(name)
        if pool is None:
            continue
        gateways = {str(network.gateway) for network in estate.networks}
        cells, free, kept_out = [], 0, pool.kept_out()
        for number in range(int(pool.first), int(pool.last) + 1):
            address = str(type(pool.first)(number))
            kept = type(pool.first)(number) in kept_out or address in gateways
            mark = _first_of(
                {
                    "!": address in conflicts,
                    "p": address in planned,
                    "t": address in taken,
                    "x": kept,
                },
                ".",
            )
            free += mark == "."
            cells.append(mark)
        lines.append(
            PoolLine(name, str(pool.first), str(pool.last), free, "".join(cells[:MAX_CELLS]))
        )
    return lines


def series(sheet: Sheet, estate: Estate, taken: Collection[str]) -> list[PoolLine]:
    """One line per series the plan draws from, like those of pools."""
    lines = []
    drawing = [column for column in sheet.columns if column.draws]
    for name in dict.fromkeys(
        node.value(column.series) for column in drawing for node in sheet.nodes
    ):
        found = estate.one_series(name)
        if found is None:
            continue
        planned = {
            number
            for column in drawing
            if column.draws == found.kind
            for node in sheet.nodes
            if node.value(column.series) == name
            and (number := number_of(found.kind, node.value(column.id))) is not None
        }
        excluded, gone = found.gone(()), found.gone({*taken, *in_use(estate)})
        marks = (
            _first_of({"p": number in planned, "x": number in excluded, "t": number in gone}, ".")
            for number in range(found.low, min(found.high, found.low + MAX_CELLS - 1) + 1)
        )
        size = found.high - found.low + 1
        free = size - sum(found.low <= number <= found.high for number in gone | planned)
        lines.append(PoolLine(name, found.first, found.last, free, "".join(marks), found.kind))
    return lines


def series_members(estate: Estate, held: Mapping[str, str]) -> list[dict[str, Any]]:
    """Every series with each of its members (at most 4,096), like `pool_members`."""
    found_by = {
        mac: guest.name
        for facts in estate.facts.values()
        for guest in facts.guests
        for mac in guest.macs
    }
    found_by |= {
        text: f"{facts.host}, {one.name}"
        for facts in estate.facts.values()
        for one in facts.interfaces
        for text in (
            one.mac.lower(),
            *(address.partition("/")[0] for address in one.addresses if ":" in address),
        )
        if text
    }
    lines = []
    for one in estate.series:
        excluded, members, free, gap, run = one.gone(()), [], 0, 0, 0
        for number in range(one.low, min(one.high, one.low + MAX_MEMBERS - 1) + 1):
            member = one.member(number)
            given = one.reserved.get(text_of(one.kind, number))
            who = _Holders(held.get(member), found_by.get(member), given, number in excluded)
            state, by = who.state, who.by
            run = run + 1 if state == "free" else 0
            free, gap = free + (state == "free"), max(gap, run)
            members.append({"address": member.rpartition("#")[2], "state": state, "by": by})
        lines.append(
            {
                "name": one.name,
                "kind": one.kind,
                "order": one.order,
                "excluded": condensed(one.kind, one.excluded),
                "reserved": "\n".join(f"{member} {whom}" for member, whom in one.reserved.items()),
                "network": one.network,
                "first": one.first,
                "last": one.last,
                "size": one.high - one.low + 1,
                "free": free + one.high - one.low + 1 - len(members),
                "largest_gap": gap,
                "members": members,
            }
        )
    return lines


def pool_members(estate: Estate, held: Mapping[str, str]) -> list[dict[str, Any]]:
    """Every pool with each of its addresses (at most 4,096): state and by whom. `held`: address →
    who holds it. Cost: O(addresses + interfaces).
    """
    found: dict[str, str] = {
        str(network.gateway): f"gateway of {network.name}" for network in estate.networks
    }
    found |= {str(address): "name server" for network in estate.networks for address in network.dns}
    for facts in estate.facts.values():
        found |= {
            address.partition("/")[0]: f"{facts.host}, {one.name}"
            for one in facts.interfaces
            for address in one.addresses
        }
    # both have them
    found |= {one.address: one.name for one in (*estate.hosts, *estate.machines)}  # type: ignore[attr-defined]
    lines = []
    for pool in estate.pools:
        excluded = set(pool.excluded)
        members, free, gap, run = [], 0, 0, 0
        size = int(pool.last) - int(pool.first) + 1
        for number in range(
            int(pool.first), min(int(pool.last), int(pool.first) + MAX_MEMBERS - 1) + 1
        ):
            address = str(type(pool.first)(number))
            plain = IPv4Address(number)
            given = pool.reserved.get(plain)
            who = _Holders(held.get(address), found.get(address), given, plain in excluded)
            state, by = who.state, who.by
            run = run + 1 if state == "free" else 0
            free, gap = free + (state == "free"), max(gap, run)
            members.append({"address": address, "state": state, "by": by})
        lines.append(
            {
                "name": pool.name,
                "kind": "ipv4",
                "order": pool.order,
                "excluded": condensed("ipv4", [str(address) for address in pool.excluded]),
                "reserved": "\n".join(f"{member} {whom}" for member, whom in pool.reserved.items()),
                "network": pool.network,
                "first": str(pool.first),
                "last": str(pool.last),
                "size": size,
                "free": free,
                "largest_gap": gap,
                "members": members,
            }
        )
    return lines + series_members(estate, held)


def losses(sheet: Sheet) -> list[LossLine]:
    """Per host that carries nodes: what is lost with it, the worst first."""
    totals = {role: len(nodes) for role, nodes in sheet.carriers.items()}
    by_host: dict[str, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    for node in sheet.nodes:
        if node.value("host"):
            for ident in node.roles:
                by_host[node.value("host")][ident] += 1
    lines = []
    for host, roles in by_host.items():
        parts = []
        for role, count in roles.items():
            left = totals[role] - count
            label = sheet.kit.role(role)
            name = label.label if label else role
            if left:
                parts.append(f"{left} of {totals[role]} {name} left")
            else:
                parts.append(f"{name} down" if totals[role] == 1 else f"no {name} left")
        lines.append(LossLine(host, ", ".join(parts), len(sheet.by_host[host])))
    return sorted(lines, key=lambda line: (-line.nodes, line.host))


def spread_text(sheet: Sheet) -> str:
    """'3 nodes on 3 hosts', '6 nodes on 6 machines', '4 nodes on 1 host and 3 machines'."""
    placed = [node for node in sheet.nodes if node.value("host")]
    machines = {node.value("host") for node in placed if node.on_machine}
    hosts = {node.value("host") for node in placed} - machines
    where = [count_text(len(hosts), "host")] if hosts or not machines else []
    where += [count_text(len(machines), "machine")] if machines else []
    return f"{count_text(len(sheet.nodes), 'node')} on {' and '.join(where)}"
