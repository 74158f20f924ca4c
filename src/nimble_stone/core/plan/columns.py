"""The sheet's columns: the built-in ones, the kit's networks, disks and questions, then what else the package asks."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from nimble_stone.core.estate import Estate
from nimble_stone.core.kit.model import Kit, Rule
from nimble_stone.core.package.model import Descriptor
from nimble_stone.core.plan.model import Plan

Kind = Literal["text", "address", "choice", "secret", "number"]


@dataclass(frozen=True)
class PackageView:
    """What the sheet needs of a package: its descriptor and how many bytes a node's disks take when thin."""

    sha256: str
    descriptor: Descriptor
    thin_bytes: int


@dataclass(frozen=True)
class Column:
    """A column of the sheet. `scope` is where its value usually stands; `roles` those that have it (empty: all); `when` a kit's condition."""

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


def network_column(network: str, part: str) -> str:
    """The column of a network role's part (network, pool, address, prefix, gateway); '' is the service network."""
    return f"net.{network}.{part}" if network else part


def columns_of(kit: Kit, package: PackageView | None, estate: Estate, plan: Plan) -> tuple[Column, ...]:
    """All columns. Cost: O(questions + networks + disks)."""
    sizes = tuple(size.id for size in package.descriptor.sizes) if package else ()
    networks, pools = tuple(network.name for network in estate.networks), tuple(pool.name for pool in estate.pools)
    columns = [
        Column("name", "Name", "text", "node", rule=Rule(max_length=63, pattern=r"[a-z0-9]([a-z0-9-]*[a-z0-9])?")),
        Column("size", "Size", "choice", "role", choices=sizes),
        Column("host", "Host", "choice", "node", choices=tuple(host.name for host in estate.bay(plan.bay))),
        Column("datastore", "Datastore", "choice", "node"),
        Column("provisioning", "Disks", "choice", "plan", choices=("thin", "full", "overlay")),
        Column("network", "Network", "choice", "plan", choices=networks),
        Column("pool", "Pool", "choice", "plan", required=False, choices=pools),
        Column("address", "Address", "address", "node"),
        Column("prefix", "Prefix", "number", "plan"),
        Column("gateway", "Gateway", "address", "plan"),
        Column("dns", "DNS", "text", "plan", required=False),
        Column("domain", "Domain", "text", "plan", required=False),
        Column("ntp", "NTP", "text", "plan", required=False),
        Column("time_zone", "Time zone", "text", "plan"),
    ]
    for net in kit.networks:
        columns.append(Column(network_column(net.id, "network"), f"{net.label}: network", "choice", "plan", choices=networks, roles=net.roles))
        if net.addressed:
            columns += [Column(network_column(net.id, "pool"), f"{net.label}: pool", "choice", "plan", False, pools, roles=net.roles),
                        Column(network_column(net.id, "address"), f"{net.label}: address", "address", "node", roles=net.roles),
                        Column(network_column(net.id, "prefix"), f"{net.label}: prefix", "number", "plan", roles=net.roles)]
    columns += [Column(f"virtual.{one.id}", one.label, "address", "plan") for one in kit.virtual]
    for disk in kit.extra_disks:
        columns.append(Column(f"disk.{disk.id}", f"{disk.label}, GiB", "number", "role", required=False, roles=disk.roles))
        if disk.count.most > 1 or disk.count.least == 0:
            columns.append(Column(f"disk.{disk.id}.count", f"{disk.label}: how many", "number", "role", required=False, roles=disk.roles))
    return (*columns, *_asked(kit, package))


def _asked(kit: Kit, package: PackageView | None) -> list[Column]:
    columns = []
    asked = {question.key: question for question in package.descriptor.questions} if package else {}
    for question in kit.questions:
        own = asked.get(question.property)
        rule = question.rule
        if own is not None and own.type == "string":
            rule = rule.model_copy(update={"min_length": max(rule.min_length, own.minimum or 0),
                                           "max_length": min(rule.max_length, own.maximum or rule.max_length),
                                           "choices": rule.choices or own.choices})
        columns.append(Column(question.id, question.label, "secret" if question.secret else "choice" if rule.choices else "text",
                              question.scope, question.required, rule.choices, rule, question.property, when=question.when))
    covered = set(kit.environment) | {question.property for question in kit.questions}
    for own in asked.values():
        if own.asked and own.key not in covered:
            rule = Rule(min_length=own.minimum or 0, max_length=own.maximum or 4096, choices=own.choices) if own.type == "string" else Rule()
            columns.append(Column(own.key, own.label, "secret" if own.secret else "choice" if own.choices else "text", "plan",
                                  not own.default, own.choices, rule, own.key))
    return columns
