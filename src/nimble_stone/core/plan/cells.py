"""What the file says for each node, filled up with defaults: the cells before hosts, datastores and
addresses are chosen.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from nimble_stone.core.estate import Estate, Network
from nimble_stone.core.kit import expression
from nimble_stone.core.kit.expression import Value
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.roles import Role
from nimble_stone.core.plan import carried
from nimble_stone.core.plan.carried import ALSO
from nimble_stone.core.plan.columns import (
    NO_BOND,
    ON,
    SYSTEM_RULE,
    Column,
    data_rule,
    network_column,
)
from nimble_stone.core.plan.model import Plan, Scalar
from nimble_stone.core.plan.packages import Packages

Origin = Literal[
    "kit", "plan", "group", "node", "shared", "pool", "computed", "package", "none", "unused"
]
"""Where a value comes from. “unused”: the node has no such column, or its condition does not hold.
"""


@dataclass(frozen=True, slots=True)
class Cell:
    """A value and where it comes from."""

    value: str
    origin: Origin


Cells = dict[str, Cell]
MADE_HERE = "made here"
"""What a certificate's cell says while no pair is uploaded: this installation's own
authority makes one for each node.
"""
_RENEWED = re.compile(rf"{MADE_HERE}, \d{{4}}-\d\d-\d\d \d\d:\d\d:\d\d")


def is_made_here(value: str) -> bool:
    """Whether a certificate's cell says that the pair is made here, once or with the time."""
    return value == MADE_HERE or _RENEWED.fullmatch(value) is not None


NOTHING, UNUSED = Cell("", "none"), Cell("", "unused")


def written(
    plan: Plan,
    kit: Kit,
    packages: Packages,
    columns: tuple[Column, ...],
    estate: Estate,
    rows: list[tuple[Role, int]],
    shared: Mapping[str, Scalar],
) -> dict[str, Cells]:
    """Node id → its cells. What holds for a whole role is calculated once. Cost: O(roles ×
    columns + nodes × own values).
    """
    also = carried.shared_out(plan, kit, rows, shared)
    there = Counter(role.id for role, _ in rows)
    there.update(ident for roles in also.values() for ident in roles)
    counts = {role.id: there[role.id] for role in kit.roles}
    alone_in = Counter(role.id for role, _ in rows)
    groups: dict[Sequence[str], Cells] = {}
    for role, n in rows:
        kind = (role.id, *also[f"{role.id}-{n}"])
        if kind not in groups:
            groups[kind] = _group(plan, kit, packages, columns, kind, shared)
    ready = {kind: _settled(dict(cells), kit, estate) for kind, cells in groups.items()}
    conditional = [column for column in columns if column.when]
    conditions = {column.id: expression.parse(column.when) for column in conditional}
    found: dict[str, Cells] = {}
    for role, n in rows:
        ident = f"{role.id}-{n}"
        kind, own = (role.id, *also[ident]), plan.nodes.get(ident, {})
        cells = dict(ready[kind])
        if own:
            said = {column.id: own[column.id] for column in columns if column.id in own}
            typed = {column: Cell(text_of(value), "node") for column, value in said.items()}
            cells = _settled({**groups[kind], **typed}, kit, estate)
        if ALSO in cells and cells[ALSO].origin == "none" and also[ident]:
            cells[ALSO] = Cell(", ".join(also[ident]), "computed")
        if cells["name"].origin == "none":
            cells["name"] = Cell(_name(plan, kit, role, n, alone_in[role.id] == 1), "computed")
        for column in conditional:
            if not expression.asked(
                conditions[column.id], Inputs(cells, kind, n, counts, len(rows))
            ):
                cells[column.id] = UNUSED
        found[ident] = cells
    return found


def _name(plan: Plan, kit: Kit, role: Role, n: int, alone: bool) -> str:
    """A node's name by the kit's pattern."""
    numbered = not alone or role.count.most > 1
    pattern = kit.names if numbered else kit.names.replace("-{n}", "")
    return pattern.format(plan=plan.name, short=role.short, n=n, role=role.id)


class Inputs(Mapping[str, Value]):
    """What a condition may read of a node: its cells, its roles (its own first) and number, how
    many nodes have or carry each of the kit's roles, and how many nodes there are.
    """

    def __init__(
        self,
        cells: Mapping[str, Cell],
        roles: Sequence[str],
        n: int,
        counts: Mapping[str, int],
        total: int,
    ) -> None:
        self._cells = cells
        self._more: dict[str, Value] = {
            "role": roles[0],
            "roles": " ".join(roles),
            "n": float(n),
            "count": float(total),
        }
        self._more |= {f"count.{ident}": float(many) for ident, many in counts.items()}
        self._more |= {f"carries.{ident}": float(ident in roles) for ident in counts}

    def __getitem__(self, key: str) -> Value:
        if key in self._more:
            return self._more[key]
        return self._cells[key].value

    def __iter__(self) -> Iterator[str]:
        return iter([*self._more, *self._cells])

    def __len__(self) -> int:
        return len(self._more) + len(self._cells)


def _group(
    plan: Plan,
    kit: Kit,
    packages: Packages,
    columns: tuple[Column, ...],
    kind: Sequence[str],
    shared: Mapping[str, Scalar],
) -> Cells:
    """What holds for nodes of one kind before their own values. `kind`: the role that they are of,
    then those that they carry as well.
    """
    role = kit.role(kind[0])
    assert role is not None
    block, package = plan.roles.get(role.id), packages.of(role.id)
    defaults = {"provisioning": "thin", "time_zone": "UTC"} | {
        network_column(ident, "addressing"): "static"
        for ident in ("", *(n.id for n in kit.networks))
    }
    defaults |= {"use": kit.uses[0]} if kit.uses else {}
    defaults |= {f"certificate.{one.id}": MADE_HERE for one in kit.certificates}
    for disk in kit.extra_disks:
        defaults |= {
            f"disk.{disk.id}": str(disk.size_gib.usual),
            f"disk.{disk.id}.count": str(disk.count.usual),
        }
    defaults |= {SYSTEM_RULE: role.system_drive} | {
        data_rule(disk.id): disk.drives for disk in kit.extra_disks
    }
    defaults |= {
        network_column(ident, "bond"): NO_BOND for ident in ("", *(n.id for n in kit.networks))
    }
    defaults |= {ON: "hosts" if role.lives_on == "either" else role.lives_on}
    defaults |= {question.id: question.default for question in kit.questions if question.default}
    asked = {
        question.key: question.default
        for one in (packages.main, package)
        if one
        for question in one.descriptor.questions
    }
    size = (
        next((size.id for size in package.descriptor.sizes if size.default), "") if package else ""
    )
    cells: Cells = {}
    for column in columns:
        if column.id == ON and role.id not in column.roles:
            # the kit leaves no choice
            cells[ON] = Cell(role.lives_on, "kit")
            continue
        if column.roles and not set(kind) & set(column.roles):
            cells[column.id] = UNUSED
            continue
        levels: tuple[tuple[Mapping[str, Scalar], Origin], ...] = (
            (block.values if block else {}, "group"),
            *((values, "group") for values in _of_carried(plan, column, kind)),
            (plan.values, "plan"),
            (shared, "shared"),
            (defaults, "kit"),
        )
        for values, origin in levels:
            if column.id in values:
                cells[column.id] = Cell(text_of(values[column.id]), origin)
                break
        else:
            default = asked.get(column.environment, "")
            cells[column.id] = Cell(default, "package") if default else NOTHING
    if cells["size"].origin == "none" and package:
        offered = [
            own for own in role.sizes if any(one.id == own for one in package.descriptor.sizes)
        ]
        cells["size"] = (
            Cell(offered[0], "kit") if offered and size not in role.sizes else Cell(size, "package")
        )
    return cells


def _of_carried(plan: Plan, column: Column, kind: Sequence[str]) -> list[Mapping[str, Scalar]]:
    """What the plan says for roles that a node carries as well, of columns that are theirs."""
    blocks = [plan.roles.get(ident) for ident in kind[1:] if ident in column.roles]
    return [block.values for block in blocks if block is not None]


def _settled(cells: Cells, kit: Kit, estate: Estate) -> Cells:
    """What follows from pools and networks: network by pool, prefix and the like by network."""
    idents = ("", *(network.id for network in kit.networks))
    for ident in idents:
        _by_network(cells, ident, estate)
    _by_use(cells, kit)
    for ident in idents:
        _without_addresses(cells, ident)
    return cells


def _by_network(cells: Cells, ident: str, estate: Estate) -> None:
    """The network by its pool, and what the network knows."""
    column, pool_column = network_column(ident, "network"), network_column(ident, "pool")
    if cells[column].origin == "unused":
        return
    pool = estate.pool(cells[pool_column].value) if pool_column in cells else None
    if cells[column].origin == "none" and pool:
        cells[column] = Cell(pool.network, "pool")
    network = estate.network(cells[column].value)
    if network is None:
        return
    for key, value in _known(network, ident).items():
        if value and key in cells and cells[key].origin == "none":
            cells[key] = Cell(value, "pool")


def _known(network: Network, ident: str) -> dict[str, str]:
    """Columns that a network answers; `ident`: which of the kit's networks it is, '' the first."""
    known = {
        network_column(ident, "prefix"): str(network.subnet.prefixlen),
        network_column(ident, "mtu"): str(network.mtu or ""),
    }
    if network.subnet6:
        known[network_column(ident, "prefix6")] = str(network.subnet6.prefixlen)
    if ident:
        return known
    if network.subnet6 and network.gateway6:
        known["gateway6"] = str(network.gateway6)
    return known | {
        "gateway": str(network.gateway),
        "dns": " ".join(map(str, network.dns)),
        "ntp": network.ntp,
        "domain": network.domain,
        "search": network.domain,
        "vlan": str(network.vlan or ""),
    }


def _by_use(cells: Cells, kit: Kit) -> None:
    """Further disks as is usual for what the product is used for."""
    use = cells["use"].value if "use" in cells else ""
    if not use:
        return
    for disk in kit.extra_disks:
        columns = (f"disk.{disk.id}", f"disk.{disk.id}.count")
        for column, span in zip(columns, disk.limits(use), strict=True):
            if column in cells and cells[column].origin == "kit":
                cells[column] = Cell(str(span.usual), "kit")


def _without_addresses(cells: Cells, ident: str) -> None:
    """Columns that are not set where addresses come by DHCP, or where IPv6 is off."""
    how = cells.get(network_column(ident, "addressing"))
    if how and how.value == "dhcp":
        # the rest stays: virtual addresses need the pool, proofs prefix and gateway
        cells[network_column(ident, "address")] = UNUSED
    six = network_column(ident, "address6")
    if six not in cells or cells[six].value or cells[network_column(ident, "pool6")].value:
        return
    for part in ("prefix6", "gateway6") if not ident else ("prefix6",):
        cells[network_column(ident, part)] = UNUSED


def text_of(value: object) -> str:
    """A scalar of a file as the sheet shows it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)
