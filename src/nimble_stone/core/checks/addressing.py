"""Rules about what beside IPv4 addresses is given: DHCP, IPv6, MAC addresses, numbers of a
series.
"""

from __future__ import annotations

from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.plan.columns import Column, network_column
from nimble_stone.core.plan.drawn import in_use, ipv6_fault
from nimble_stone.core.plan.sheet import Node, ip
from nimble_stone.core.series import A_WORD, MANY, number_of
from nimble_stone.core.units import count_text


def dynamic(s: Situation) -> Iterator[Finding]:
    """What DHCP hands out is not assigned, and a node that asks by DHCP is in a network where
    a server answers.
    """
    kit = s.sheet.kit
    if not any(network.dynamic_first for network in s.estate.networks) and not any(
        column.id.endswith("addressing") for column in s.sheet.columns
    ):
        return
    for ident in ("", *(network.id for network in kit.networks)):
        column, told = network_column(ident, "addressing"), set[str]()
        for node in s.sheet.nodes:
            name = node.value(network_column(ident, "network"))
            network = s.estate.network(name)
            if (
                node.value(column) == "dhcp"
                and network is not None
                and network.dynamic_first is None
                and name not in told
            ):
                told.add(name)
                yield Finding(
                    severity="blocker",
                    code="dhcp-nobody",
                    node=node.id,
                    column=column,
                    message=(
                        f"No DHCP range is defined for {name}: the estate names no"
                        " dynamic range there."
                    ),
                    consequence="Nodes will not get an address.",
                    remedy=Remedy(
                        label="Use static addresses",
                        edit=Edit(path=("values", column), value="static"),
                    ),
                )
    lies_in = {
        f"virtual.{one.id}": network_column(one.network or "", "network") for one in kit.virtual
    }
    for owner, column, value in s.sheet.addresses():
        network = s.estate.network(
            (owner or s.sheet.nodes[0]).value(
                lies_in.get(column, column.removesuffix("address") + "network")
            )
        )
        address = ip(value)
        if network is not None and address is not None and network.dynamic(address):
            yield Finding(
                severity="blocker",
                code="address-dynamic",
                node=owner.id if owner else "",
                column=column,
                message=(
                    f"{value} is in the DHCP range of {network.name}"
                    f" ({network.dynamic_first} to {network.dynamic_last})."
                ),
                consequence="DHCP can assign the same address at any time.",
                remedy=Remedy(
                    label="Assign one from the pool",
                    edit=Edit(path=("nodes", owner.id, column) if owner else ("values", column)),
                ),
            )


def frames(s: Situation) -> Iterator[Finding]:
    """Frame sizes are ones that Ethernet knows and that the host's bridge passes; a VLAN is the one
    the estate's network has.
    """
    columns = {column.id for column in s.sheet.columns}
    told: set[tuple[str, str, str]] = set()
    for ident in ("", *(network.id for network in s.sheet.kit.networks)):
        mtu, of = network_column(ident, "mtu"), network_column(ident, "network")
        for node in s.sheet.nodes if mtu in columns else ():
            text, name, host = node.value(mtu), node.value(of), node.value("host")
            if not text or (text, name, host) in told:
                continue
            told.add((text, name, host))
            facts = s.facts(host)
            carried = (
                next((one for one in facts.networks if one.name == name), None) if facts else None
            )
            if not (
                text.isascii() and text.isdigit() and len(text) < 6 and 576 <= int(text) <= 65_535
            ):
                yield Finding(
                    severity="blocker",
                    code="mtu",
                    node=node.id,
                    column=mtu,
                    message=f"MTU “{text[:20]}” is not valid. Use 576 to 65535.",
                    consequence="The interface would not come up.",
                    remedy=Remedy(label="Use the network's", edit=Edit(path=("values", mtu))),
                )
            elif carried and carried.mtu and carried.mtu < int(text):
                yield Finding(
                    severity="caution",
                    code="mtu-narrow",
                    node=node.id,
                    column=mtu,
                    host=host,
                    message=(
                        f"{node.name} is to send frames of {text} bytes in {name}; {host} passes"
                        f" {carried.mtu}."
                    ),
                    consequence="Large frames are dropped: logins work, transfers hang.",
                    remedy=Remedy(label=f"Use {carried.mtu}"),
                )
    for node in s.sheet.nodes[:1] if "vlan" in columns else ():
        network, vlan = s.estate.network(node.value("network")), node.value("vlan")
        if network and vlan and vlan != str(network.vlan or ""):
            yield Finding(
                severity="caution",
                code="vlan-other",
                node=node.id,
                column="vlan",
                message=(
                    f"The plan says VLAN {vlan[:20]}; {network.name} is"
                    f" {f'VLAN {network.vlan}' if network.vlan else 'untagged'} on this estate."
                ),
                consequence="Hosts tag by the network, whatever the plan says.",
                remedy=Remedy(label="Use the network's", edit=Edit(path=("values", "vlan"))),
            )


def given(s: Situation) -> Iterator[Finding]:
    """What series give has the right form, is there, and is not used elsewhere in the estate."""
    used = in_use(s.estate) if any(column.draws for column in s.sheet.columns) else frozenset[str]()
    for column in s.sheet.columns:
        if column.draws is None:
            continue
        series = (
            s.estate.one_series(s.sheet.nodes[0].value(column.series)) if s.sheet.nodes else None
        )
        short = s.sheet.short.get(column.id, ())
        if short:
            first = s.sheet.node(short[0])
            many = f" and {count_text(len(short) - 1, 'more node')}" if len(short) > 1 else ""
            yield Finding(
                severity="blocker",
                code="series-exhausted",
                node=short[0],
                column=column.id,
                message=(
                    f"Pool {first.value(column.series) if first else ''} has no free value for"
                    f" {first.name if first else ''}{many} ({column.label})."
                ),
                consequence="They would come up without it.",
                remedy=Remedy(label="Choose another pool, or extend it on the estate page"),
            )
        for node in s.sheet.nodes:
            value = node.value(column.id)
            if value:
                yield from _one(s, node, column, value, used)
                if column.draws == "number" and column.scope == "plan":
                    break
        if series is not None and series.kind != column.draws:
            yield Finding(
                severity="blocker",
                code="series-unfit",
                column=column.series,
                message=(f"Pool {series.name} has {MANY[series.kind]}, not {MANY[column.draws]}."),
                consequence="No value can be assigned from it.",
                remedy=Remedy(label="Choose a pool of the right kind"),
            )


def _one(
    s: Situation, node: Node, column: Column, value: str, used: frozenset[str]
) -> Iterator[Finding]:
    kind = column.draws or "number"
    remedy = Remedy(label="Let the series give one", edit=Edit(path=("nodes", node.id, column.id)))
    number = number_of(kind, value)
    if number is None:
        yield Finding(
            severity="blocker",
            code=f"{kind}-form",
            node=node.id,
            column=column.id,
            message=f"{column.label} “{value[:60]}” is not {A_WORD[kind]}.",
            consequence="The node could not be set up with it.",
            remedy=remedy,
        )
    elif kind == "mac" and (number >> 40) & 1:
        yield Finding(
            severity="blocker",
            code="mac-group",
            node=node.id,
            column=column.id,
            message=f"{value} is a group address; no interface can have it.",
            consequence="The hypervisor will refuse the VM.",
            remedy=remedy,
        )
    elif kind == "ipv6":
        network = s.estate.network(node.value(column.id.removesuffix("address6") + "network"))
        wrong = ipv6_fault(
            value, network.subnet6 if network else None, network.gateway6 if network else None
        )
        if wrong:
            yield Finding(
                severity="blocker",
                code="ipv6-unfit",
                node=node.id,
                column=column.id,
                message=f"{value} {wrong}.",
                consequence="The node would not be reachable by IPv6.",
                remedy=remedy,
            )
    if number is not None and value in used:
        yield Finding(
            severity="blocker",
            code=f"{kind}-in-use",
            node=node.id,
            column=column.id,
            message=f"{value} is in use on the estate already.",
            consequence="Two interfaces with one address: neither can be reached reliably.",
            remedy=remedy,
        )
