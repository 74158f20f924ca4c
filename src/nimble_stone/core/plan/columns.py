"""The sheet's columns: the built-in ones, the kit's networks, disks and questions, then what else
the package asks.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Literal, Protocol

from nimble_stone.core.estate import Estate
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.roles import Role
from nimble_stone.core.kit.settings import Rule
from nimble_stone.core.package.model import Question
from nimble_stone.core.plan.carried import ALSO, carriers
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.packages import Packages, PackageView
from nimble_stone.core.series import Kind as SeriesKind

Kind = Literal["text", "address", "choice", "secret", "number", "ssh-key", "certificate"]


@dataclass(frozen=True)
class Column:
    """A column of the sheet. `scope` is where its value usually stands; `roles` those that have it
    (empty: all); `when` a kit's condition.
    """

    id: str
    label: str
    kind: Kind
    scope: Literal["plan", "role", "node"]
    required: bool = True
    choices: tuple[str, ...] = ()
    rule: Rule = Rule()
    environment: str = ""
    roles: tuple[str, ...] = ()
    when: str = ""
    draws: SeriesKind | None = None
    series: str = ""
    """For columns that are filled from a series: of what kind, and the column that names it."""
    question: Question | None = None
    """What the package says of its own question that the column answers."""
    built_in: bool = True
    """Whether the product knows the column itself; false for what kits and packages ask."""


ON, MACHINES = "on", "machines"
"""The column that says where a node lives, and what it says for a bare machine."""
SYSTEM_DRIVE, SYSTEM_RULE = "system.drive", "system.rule"
MACHINE_PARTS = (SYSTEM_DRIVE, SYSTEM_RULE, "drives", "rule", "port", "bond")
"""Columns, whole or by the last part of their name, that only a node on a machine has."""


RECORDS, CREATE_RECORDS = "records", "create"
"""The column that says whether name records are created, and its value if so."""
HOST_NAME = Rule(max_length=63, pattern=r"[a-z0-9]([a-z0-9-]*[a-z0-9])?")
OWN_VCPU, OWN_MEMORY = "own.vcpu", "own.memory"
FENCE = "fence"
FENCE_RULE = Rule(max_length=120, pattern=r"[A-Za-z0-9][A-Za-z0-9._-]*/[A-Za-z0-9][A-Za-z0-9._-]*")
"""The column of the fencing volume, and what is written there: DATASTORE/NAME."""
NO_BOND, BONDS = "none", ("none", "active-backup", "802.3ad")
"""How several ports serve one network: one at a time, or together by LACP (IEEE 802.1AX)."""


def data_drives(disk: str) -> str:
    """The column with the serial numbers of a further disk's drives."""
    return f"disk.{disk}.drives"


def data_rule(disk: str) -> str:
    """The column with the rule that chooses them."""
    return f"disk.{disk}.rule"


def on_machines(role: Role, plan: Plan) -> bool:
    """Whether a role's nodes live on bare machines, as far as kit and plan say it for the role as a
    whole.
    """
    if role.lives_on != "either":
        return role.lives_on == MACHINES
    block = plan.roles.get(role.id)
    own = block.values.get(ON) if block else None
    return (own if own is not None else plan.values.get(ON)) == MACHINES


def any_on_machines(kit: Kit, plan: Plan) -> bool:
    """Whether any node of the plan may live on a bare machine."""
    return any(on_machines(role, plan) for role in kit.roles) or (
        any(role.lives_on == "either" for role in kit.roles)
        and any(own.get(ON) == MACHINES for own in plan.nodes.values())
    )


def lives_on_machine(cells: Mapping[str, HasValue]) -> bool:
    """Whether a node lives on a bare machine."""
    return ON in cells and cells[ON].value == MACHINES


class HasValue(Protocol):
    """A cell, as far as its value is read."""

    @property
    def value(self) -> str: ...


OF_PLACE = ("host", "datastore")
"""Columns that say where a node is, besides the datastores of its data disks."""
OF_DISKS = "disk."
"""How columns of data disks begin."""


def is_place(column: str) -> bool:
    """Whether a column says where a node or one of its disks is."""
    return column in OF_PLACE or (column.startswith(OF_DISKS) and column.endswith(".datastore"))


def is_machine_part(column: str) -> bool:
    """Whether a column is about a bare machine's drives or ports."""
    return column in MACHINE_PARTS or column.rpartition(".")[2] in MACHINE_PARTS


def network_column(network: str, part: str) -> str:
    """The column of a network role's part (network, pool, address, prefix, gateway); '' is the
    service network.
    """
    return f"net.{network}.{part}" if network else part


def columns_of(kit: Kit, packages: Packages, estate: Estate, plan: Plan) -> tuple[Column, ...]:
    """All columns. Cost: O(questions + networks + disks)."""
    sizes = tuple(dict.fromkeys(size for role in kit.roles for size in packages.sizes(role.id)))
    networks, pools = (
        tuple(network.name for network in estate.networks),
        tuple(pool.name for pool in estate.pools),
    )
    columns = [
        Column(
            "name",
            "Name",
            "text",
            "node",
            rule=HOST_NAME,
        ),
        Column("size", "Size", "choice", "role", choices=sizes),
        *_fence(kit),
        *_own_size(kit),
        *_also(kit),
        *_where(kit, estate, plan),
        Column("datastore", "Datastore", "choice", "node"),
        Column("provisioning", "Disks", "choice", "plan", choices=("thin", "full", "overlay")),
        Column("network", "Network", "choice", "plan", choices=networks),
        Column("pool", "Pool", "choice", "plan", required=False, choices=pools),
        Column("address", "Address", "address", "node"),
        Column("prefix", "Prefix", "number", "plan"),
        Column("gateway", "Gateway", "address", "plan"),
        Column("dns", "DNS", "text", "plan", required=False),
        Column("domain", "Domain", "text", "plan", required=False),
        Column("search", "Search domains", "text", "plan", required=False),
        *_records(kit, estate, plan),
        Column("ntp", "NTP", "text", "plan", required=False),
        Column("time_zone", "Time zone", "text", "plan"),
        *_more_addressing("", "", kit.takes, (), estate, plan),
        *(
            Column(part, label, "number", "plan", False)
            for part, label, known in (
                ("mtu", "MTU", any(one.mtu for one in estate.networks)),
                ("vlan", "VLAN", any(one.vlan for one in estate.networks)),
            )
            if known or _speaks_of(plan, part)
        ),
    ]
    columns += _macs("mac", "", (), estate, plan)
    for net in kit.networks:
        columns.append(
            Column(
                network_column(net.id, "network"),
                f"{net.label}: network",
                "choice",
                "plan",
                choices=networks,
                roles=net.roles,
            )
        )
        if net.addressed:
            columns += [
                Column(
                    network_column(net.id, "pool"),
                    f"{net.label}: pool",
                    "choice",
                    "plan",
                    False,
                    pools,
                    roles=net.roles,
                ),
                Column(
                    network_column(net.id, "address"),
                    f"{net.label}: address",
                    "address",
                    "node",
                    roles=net.roles,
                ),
                Column(
                    network_column(net.id, "prefix"),
                    f"{net.label}: prefix",
                    "number",
                    "plan",
                    roles=net.roles,
                ),
            ]
            if net.mtu:
                columns.append(
                    Column(
                        network_column(net.id, "mtu"),
                        f"{net.label}: MTU",
                        "number",
                        "plan",
                        False,
                        roles=net.roles,
                    )
                )
            columns += _more_addressing(
                net.id, f"{net.label}: ", net.takes, net.roles, estate, plan
            )
        columns += _macs(network_column(net.id, "mac"), f"{net.label}: ", net.roles, estate, plan)
    columns += [
        Column(f"certificate.{one.id}", one.label, "certificate", "plan", roles=one.roles)
        for one in kit.certificates
    ]
    columns += [Column(f"virtual.{one.id}", one.label, "address", "plan") for one in kit.virtual]
    columns += _drives_and_ports(kit, plan)
    if kit.uses:
        columns.append(Column("use", "Use", "choice", "plan", choices=kit.uses))
    for disk in kit.extra_disks:
        columns.append(
            Column(
                f"disk.{disk.id}",
                f"{disk.label}, GiB",
                "number",
                "role",
                required=False,
                roles=disk.roles,
            )
        )
        if any(
            many.most > 1 or many.least == 0
            for _, many in (disk.limits(use) for use in ("", *disk.by_use))
        ):
            columns.append(
                Column(
                    f"disk.{disk.id}.count",
                    f"{disk.label}: how many",
                    "number",
                    "role",
                    required=False,
                    roles=disk.roles,
                )
            )
        columns.append(
            Column(
                f"disk.{disk.id}.datastore",
                f"{disk.label}: datastore",
                "choice",
                "node",
                required=False,
                roles=disk.roles,
            )
        )
    return (*columns, *_asked(kit, packages, estate))


def _fence(kit: Kit) -> list[Column]:
    """The volume that nodes share to decide who may write."""
    roles = tuple(role.id for role in kit.roles if role.fence)
    label = "Fencing volume"
    return [Column(FENCE, label, "text", "plan", rule=FENCE_RULE, roles=roles)] if roles else []


def _own_size(kit: Kit) -> list[Column]:
    """vCPUs and memory instead of what the size has."""
    roles = tuple(role.id for role in kit.roles if role.custom)
    if not roles:
        return []
    return [
        Column(OWN_VCPU, "Own vCPU", "number", "role", False, roles=roles),
        Column(OWN_MEMORY, "Own memory, GiB", "number", "role", False, roles=roles),
    ]


def _also(kit: Kit) -> list[Column]:
    """The roles that a node carries beside its own."""
    roles = carriers(kit)
    return [Column(ALSO, "Also carries", "text", "node", False, roles=roles)] if roles else []


def _where(kit: Kit, estate: Estate, plan: Plan) -> list[Column]:
    """Where nodes live: the host, or the bare machine."""
    either = tuple(role.id for role in kit.roles if role.lives_on == "either")
    hosts = tuple(host.name for host in estate.hosts_in(plan.bays))
    machines = tuple(machine.name for machine in estate.machines_in(plan.bays))
    found = []
    if any(role.lives_on != "hosts" for role in kit.roles):
        found.append(
            Column(ON, "Lives on", "choice", "role", choices=("hosts", MACHINES), roles=either)
        )
    if not any_on_machines(kit, plan):
        return [*found, Column("host", "Host", "choice", "node", choices=hosts)]
    all_there = all(on_machines(role, plan) for role in kit.roles if role.own_nodes)
    label = "Machine" if all_there else "Host or machine"
    choices = machines if all_there else hosts + machines
    return [*found, Column("host", label, "choice", "node", choices=choices)]


def _drives_and_ports(kit: Kit, plan: Plan) -> list[Column]:
    """What a node on a bare machine has instead of a datastore."""
    if not any_on_machines(kit, plan):
        return []
    roles = tuple(role.id for role in kit.roles if role.own_nodes and role.lives_on != "hosts")
    columns = [
        Column(SYSTEM_RULE, "System drive: rule", "text", "role", False, roles=roles),
        Column(SYSTEM_DRIVE, "System drive", "text", "node", False, roles=roles),
    ]
    for disk in kit.extra_disks:
        own = tuple(role for role in roles if not disk.roles or role in disk.roles)
        if own:
            columns += [
                Column(data_rule(disk.id), f"{disk.label}: rule", "text", "role", False, roles=own),
                Column(
                    data_drives(disk.id), f"{disk.label}: drives", "text", "node", False, roles=own
                ),
            ]
    columns += _ports("", "Port", "Bond", roles)
    for net in kit.networks:
        own = tuple(role for role in roles if not net.roles or role in net.roles)
        if own:
            columns += _ports(net.id, f"{net.label}: port", f"{net.label}: bond", own)
            if not any(column.id == network_column(net.id, "vlan") for column in columns):
                vlan, label = network_column(net.id, "vlan"), f"{net.label}: VLAN"
                columns.append(Column(vlan, label, "number", "plan", False, roles=own))
    return columns


def _ports(network: str, port: str, bond: str, roles: tuple[str, ...]) -> list[Column]:
    """A machine's port for a network, or the ports of a bond."""
    return [
        Column(network_column(network, "port"), port, "text", "node", False, roles=roles),
        Column(network_column(network, "bond"), bond, "choice", "role", False, BONDS, roles=roles),
    ]


def virtual_name(ident: str) -> str:
    """The column with the host name of a virtual address."""
    return f"virtual.{ident}.name"


def _records(kit: Kit, estate: Estate, plan: Plan) -> list[Column]:
    """Whether name records are created, where a network has a server for them or the plan speaks of
    it; and the names of virtual addresses.
    """
    if not any(one.name_server for one in estate.networks) and not _speaks_of(plan, RECORDS):
        return []
    return [
        Column(RECORDS, "Name records", "choice", "plan", False, choices=(CREATE_RECORDS, "leave")),
        *(
            Column(
                virtual_name(one.id), f"{one.label}: name", "text", "plan", False, rule=HOST_NAME
            )
            for one in kit.virtual
        ),
    ]


_ROUTING: tuple[tuple[str, str, Kind], ...] = (
    ("gateway", "gateway", "address"),
    ("dns", "DNS", "text"),
    ("routes", "routes", "text"),
)
"""What tells an interface the way: the last part of a column's name, its label and kind."""


def _more_addressing(
    network: str,
    before: str,
    takes: tuple[str, ...],
    roles: tuple[str, ...],
    estate: Estate,
    plan: Plan,
) -> list[Column]:
    """Addressing by DHCP and IPv6, where the kit takes it and the estate has it."""
    found = []
    own = network_column(network, "addressing")
    if "dhcp" in takes and (
        any(one.dynamic_first for one in estate.networks) or _speaks_of(plan, own)
    ):
        found.append(
            Column(
                own,
                f"{before}Addressing" if not before else f"{before}addressing",
                "choice",
                "plan",
                choices=("static", "dhcp"),
                roles=roles,
            )
        )
    address, pool = network_column(network, "address6"), network_column(network, "pool6")
    known = tuple(one.name for one in estate.series if one.kind == "ipv6")
    if "ipv6" in takes and (known or _speaks_of(plan, address)):
        found += [
            Column(pool, f"{before}IPv6 pool", "choice", "plan", False, known, roles=roles),
            Column(
                address,
                f"{before}IPv6",
                "text",
                "node",
                False,
                roles=roles,
                draws="ipv6",
                series=pool,
            ),
            Column(
                network_column(network, "prefix6"),
                f"{before}IPv6 prefix",
                "number",
                "plan",
                False,
                roles=roles,
            ),
        ]
        if not network:
            found.append(Column("gateway6", "IPv6 gateway", "text", "plan", False))
    for part, label, kind in _ROUTING:
        column = network_column(network, part)
        if (network or part == "routes") and ("routes" in takes or _speaks_of(plan, column)):
            found.append(Column(column, f"{before}{label}", kind, "plan", False, roles=roles))
    return found


def _macs(
    column: str, before: str, roles: tuple[str, ...], estate: Estate, plan: Plan
) -> list[Column]:
    """An interface's MAC address; without a series the hypervisor gives one."""
    known = tuple(one.name for one in estate.series if one.kind == "mac")
    if not known and not _speaks_of(plan, column):
        return []
    pool = (
        [Column("mac_pool", "MAC pool", "choice", "plan", False, known)] if column == "mac" else []
    )
    return [
        *pool,
        Column(
            column,
            f"{before}MAC",
            "text",
            "node",
            False,
            roles=roles,
            draws="mac",
            series="mac_pool",
        ),
    ]


def _speaks_of(plan: Plan, column: str) -> bool:
    """Whether the plan gives that column a value anywhere: what is written is shown, whatever the
    estate has now.
    """
    return (
        column in plan.values
        or any(column in block.values for block in plan.roles.values())
        or any(column in own for own in plan.nodes.values())
    )


def _asked(kit: Kit, packages: Packages, estate: Estate) -> list[Column]:
    """The kit's questions, then what the packages ask beyond them."""
    columns: list[Column] = []
    numbers = tuple(one.name for one in estate.series if one.kind == "number")
    asked = (
        {question.key: question for question in packages.main.descriptor.questions}
        if packages.main
        else {}
    )
    for question in kit.questions:
        own = asked.get(question.property)
        rule = question.rule
        if own is not None and own.type == "string":
            rule = rule.model_copy(
                update={
                    "min_length": max(rule.min_length, own.minimum or 0),
                    "max_length": min(rule.max_length, own.maximum or rule.max_length),
                    "choices": rule.choices or own.choices,
                }
            )
        kind = _kind(question.secret, rule.choices)
        if kind == "text" and question.kind == "ssh-key":
            kind = "ssh-key"
        drawn = question.kind == "number"
        if drawn:
            columns.append(
                Column(
                    f"{question.id}.pool",
                    f"{question.label}: pool",
                    "choice",
                    "plan",
                    False,
                    numbers,
                )
            )
        columns.append(
            Column(
                question.id,
                question.label,
                kind,
                question.scope,
                question.required,
                rule.choices,
                rule,
                question.property,
                when=question.when,
                draws="number" if drawn else None,
                series=f"{question.id}.pool" if drawn else "",
                question=None if question.secret else own,
                built_in=False,
            )
        )
    covered = set(kit.environment) | {question.property for question in kit.questions}
    usual = tuple(role.id for role in kit.roles if not role.accepts) if packages.own else ()
    columns += _beyond(packages.main, covered, usual)
    for role in kit.roles:
        # two roles may be made from one package
        known = {column.id for column in columns}
        columns += [
            column
            for column in _beyond(
                packages.own.get(role.id),
                # a role without a package of another product is answered for by the kit
                set(role.environment) if role.accepts else covered | set(role.environment),
                tuple(other.id for other in kit.roles if other.accepts == role.accepts),
            )
            if column.id not in known
        ]
    return columns


def _kind(secret: bool, choices: Collection[str]) -> Kind:
    """The kind of column that a question gets."""
    if secret:
        return "secret"
    return "choice" if choices else "text"


def _beyond(package: PackageView | None, covered: set[str], roles: tuple[str, ...]) -> list[Column]:
    """What a package asks that the kit does not answer."""
    columns = []
    for own in package.descriptor.questions if package else ():
        if own.asked and own.key not in covered:
            rule = (
                Rule(
                    min_length=own.minimum or 0, max_length=own.maximum or 4096, choices=own.choices
                )
                if own.type == "string"
                else Rule()
            )
            columns.append(
                Column(
                    own.key,
                    own.label,
                    _kind(own.secret, own.choices),
                    "plan",
                    not own.default,
                    own.choices,
                    rule,
                    own.key,
                    roles,
                    question=None if own.secret else own,
                    built_in=False,
                )
            )
    return columns
