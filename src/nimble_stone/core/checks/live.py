"""Rules about the plan against the live hosts."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import replace

from nimble_stone.core.checks.situation import Situation, plans_text
from nimble_stone.core.estate import HOST_RESERVE, Facts, Mark
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.headroom import losses, on_shared
from nimble_stone.core.plan.assignment import placed
from nimble_stone.core.plan.columns import FENCE, network_column
from nimble_stone.core.plan.filled import filled
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.units import count_text, size_text, time_text

MOST_PAIRED = 40
FACTS_S = 24 * 3600.0
"""Facts older than this are said to be old."""


def hosts_known(s: Situation) -> Iterator[Finding]:
    """Every node has a host; the host exists, can be reached and lets us in."""
    if not s.sheet.plan.bay:
        yield Finding(
            severity="blocker",
            code="bay-missing",
            column="bay",
            message="No bay is chosen.",
            consequence="No host can be proposed.",
            remedy=Remedy(label="Choose a bay"),
        )
        return
    yield from _homeless(s)
    told: set[str] = set()
    for node in s.sheet.nodes:
        name = node.value("host")
        if name and name not in told and not node.on_machine:
            told.add(name)
            yield from _known(s, node, name)


def _homeless(s: Situation) -> Iterator[Finding]:
    """Nodes without a host, those with one reason together."""
    homeless: dict[tuple[str, str], list[Node]] = defaultdict(list)
    for node in s.sheet.nodes:
        if not node.value("host"):
            homeless[node.role, s.sheet.unplaced.get(node.id, "none was chosen")].append(node)
    for (_, reason), nodes in homeless.items():
        what = "machine" if nodes[0].on_machine else "host"
        many = (
            f"{nodes[0].name} and {count_text(len(nodes) - 1, 'more node')} have no {what}"
            if len(nodes) > 1
            else f"{nodes[0].name} has no {what}"
        )
        yield Finding(
            severity="blocker",
            code="host-missing",
            node=nodes[0].id,
            column="host",
            message=f"{many}: {reason}.",
            consequence=(
                "They cannot be placed." if len(nodes) > 1 else "The node cannot be placed."
            ),
            remedy=Remedy(label="Choose a smaller size, fewer nodes or another bay"),
        )


def _known(s: Situation, node: Node, name: str) -> Iterator[Finding]:
    """Whether the estate has a host, and what its facts are worth."""
    facts = s.facts(name)
    if s.estate.host(name) is None:
        yield Finding(
            severity="blocker",
            code="host-unknown",
            node=node.id,
            column="host",
            message=f"The estate has no host “{name}”.",
            consequence="The node cannot be placed.",
            remedy=Remedy(label="Let placement choose", edit=Edit(path=("nodes", node.id, "host"))),
        )
    elif facts is None:
        yield Finding(
            severity="blocker",
            code="host-unread",
            node=node.id,
            column="host",
            host=name,
            message=f"{name} was never read.",
            consequence="Free capacity is unknown.",
            remedy=Remedy(label="Check against the live hosts"),
        )
    elif facts.trouble:
        yield _silent(s, name, facts)
    elif s.now and s.now - facts.read_at > FACTS_S:
        yield Finding(
            severity="caution",
            code="facts-old",
            node=node.id,
            column="host",
            host=name,
            message=(
                f"{name} was last read {time_text(s.now - facts.read_at)} ago;"
                f" {count_text(len(_on(s, name)), 'node')} placed there by that."
            ),
            consequence="Its free memory and disks may have changed.",
            remedy=Remedy(label="Check against hosts"),
        )
    elif facts.domain_type == "qemu":
        yield Finding(
            severity="note",
            code="no-acceleration",
            node=node.id,
            column="host",
            host=name,
            message=f"{name} runs VMs in software emulation: {facts.domain_reason}.",
            consequence="VMs start and run several times slower.",
        )


def _on(s: Situation, host: str) -> Sequence[Node]:
    return s.sheet.by_host.get(host, ())


def _silent(s: Situation, host: str, facts: Facts) -> Finding:
    """A host that could not be read: who is placed there, and where they would go if a person
    excludes it.
    """
    nodes = _on(s, host)
    movable = {node.id for node in nodes if node.cells["host"].origin == "computed"}
    demands, supplies = s.sheet.board
    freed = tuple(
        replace(demand, fixed="", prefer="") if demand.node in movable else demand
        for demand in demands
    )
    found = (
        placed(freed, tuple(supply for supply in supplies if supply.host != host))
        if movable
        else None
    )
    goes = [
        f"{node.name} to {found.hosts[node.id]}"
        for node in nodes
        if found and node.id in found.hosts
    ]
    stuck = [node.name for node in nodes if node.id not in (found.hosts if found else {})]
    words = ", ".join(goes[:4]) + (f" and {len(goes) - 4} more" if len(goes) > 4 else "")
    remedy = Remedy(label="Restore the login or connection, or choose another host")
    if goes:
        label = f"Exclude {host}: move {words}" + (
            f"; no other host fits {', '.join(stuck[:3])}" if stuck else ""
        )
        remedy = Remedy(
            label=label,
            edit=Edit(path=("placement", "avoid"), value=(*s.sheet.plan.placement.avoid, host)),
        )
    return Finding(
        severity="blocker",
        code=facts.trouble_code or "unreachable",
        node=nodes[0].id,
        column="host",
        host=host,
        message=(
            f"{host}: {facts.trouble.rstrip('.')}."
            f" {', '.join(node.name for node in nodes[:4])}"
            f"{f' and {len(nodes) - 4} more' if len(nodes) > 4 else ''}"
            f" {'is' if len(nodes) == 1 else 'are'} placed there."
        ),
        consequence="The host cannot be changed. Nodes stay assigned to it until you move them.",
        remedy=remedy,
    )


def memory(s: Situation) -> Iterator[Finding]:
    """The nodes on a host fit its memory, beside what runs there already and what other runs still
    bring.
    """
    wanted: dict[str, list[Node]] = defaultdict(list)
    for node in s.sheet.nodes:
        wanted[node.value("host")].append(node)
    for host, nodes in wanted.items():
        facts = s.facts(host)
        if facts is None or not facts.memory_bytes:
            continue
        present = {guest.name for guest in facts.guests if guest.running}
        others = sum(
            claim.memory_bytes
            for claim in s.claims
            if claim.run and claim.host == host and claim.name not in present
        )
        planned = [
            claim
            for claim in s.claims
            if not claim.run and claim.host == host and claim.name not in present
        ]
        need = sum(node.memory_bytes for node in nodes) + facts.used_memory_bytes + others
        limit = int(facts.memory_bytes * (1 - HOST_RESERVE))
        if need > limit:
            yield Finding(
                severity="blocker",
                code="memory",
                node=nodes[-1].id,
                column="host",
                host=host,
                message=(
                    f"{host} would allocate {size_text(need)} of memory; {size_text(limit)} of"
                    f" {size_text(facts.memory_bytes)} can be allocated."
                ),
                consequence="VMs will fail to start or be killed.",
                remedy=(
                    Remedy(
                        label="Let placement choose the host",
                        edit=Edit(path=("nodes", nodes[-1].id, "host")),
                    )
                    if nodes[-1].cells["host"].origin == "node"
                    else Remedy(label="Choose a smaller size or another host")
                ),
            )
        elif need + sum(claim.memory_bytes for claim in planned) > limit:
            yield Finding(
                severity="caution",
                code="memory-planned",
                node=nodes[-1].id,
                column="host",
                host=host,
                message=(
                    f"{host} would be full if {plans_text(planned)}"
                    f" {'were' if len({c.plan for c in planned}) > 1 else 'was'} rolled out too:"
                    f" {size_text(need + sum(claim.memory_bytes for claim in planned))} of"
                    f" {size_text(limit)}."
                ),
                consequence="Only one of the plans can be deployed.",
                remedy=Remedy(label="Choose another host, or make the other plan a draft"),
            )


def survives(s: Situation) -> Iterator[Finding]:
    """With as many hosts lost as the plan is to survive, what can go elsewhere finds room."""
    together, hosts = (
        s.sheet.plan.placement.survive,
        {node.value("host") for node in s.sheet.nodes if node.value("host")},
    )
    if not together or len(hosts) < 2:
        return
    if together > 1 and len(hosts) > MOST_PAIRED:
        yield Finding(
            severity="note",
            code="headroom-many",
            column="host",
            message=f"{len(hosts)} hosts are too many for pairs; single failures are calculated.",
            consequence="Whether two may be lost is not known.",
        )
        together = 1
    shared = on_shared(s.sheet, s.estate)
    movable = {role.id for role in s.sheet.kit.roles if role.keeps == "nothing"}
    short = [
        (
            loss,
            [
                i
                for i in loss.homeless
                if i in shared or ((node := s.sheet.node(i)) and node.role in movable)
            ],
        )
        for loss in losses(s.sheet, shared, together=together)
    ]
    for loss, stay in [(loss, stay) for loss, stay in short if stay][:3]:
        names = [node.name for i in stay if (node := s.sheet.node(i))]
        yield Finding(
            severity="caution",
            code="headroom",
            node=stay[0],
            column="host",
            host=loss.hosts[0],
            message=(
                f"Without {' and '.join(loss.hosts)},"
                f" {', '.join(names[:3])}{f' and {len(names) - 3} more' if len(names) > 3 else ''}"
                " would not fit on other hosts."
            ),
            consequence=(
                "The plan asks to survive the loss of"
                f" {'any host' if together == 1 else 'any two hosts'}."
            ),
            remedy=Remedy(label="Choose smaller sizes, fewer nodes or more hosts"),
        )


def vcpus(s: Situation) -> Iterator[Finding]:
    """No host promises more vCPUs than the plan's overcommit allows."""
    wanted: dict[str, list[Node]] = defaultdict(list)
    for node in s.sheet.nodes:
        wanted[node.value("host")].append(node)
    allowed = s.sheet.plan.placement.overcommit
    for host, nodes in wanted.items():
        facts = s.facts(host)
        if facts is None or not facts.threads:
            continue
        present = {guest.name for guest in facts.guests if guest.running}
        need = sum(node.vcpu for node in nodes) + sum(
            guest.vcpu for guest in facts.guests if guest.running
        )
        need += sum(
            claim.vcpu
            for claim in s.claims
            if claim.run and claim.host == host and claim.name not in present
        )
        if need > facts.threads * allowed:
            yield Finding(
                severity="caution",
                code="vcpu",
                node=nodes[-1].id,
                column="host",
                host=host,
                message=(
                    f"{host} would allocate {need} vCPU on {facts.threads} threads,"
                    f" {need / facts.threads:.1f} to one; the plan allows {allowed:g}."
                ),
                consequence="VMs slow down under load.",
                remedy=Remedy(
                    label=f"Allow {math.ceil(need / facts.threads)} to one",
                    edit=Edit(
                        path=("placement", "overcommit"), value=math.ceil(need / facts.threads)
                    ),
                ),
            )


def avoided(s: Situation) -> Iterator[Finding]:
    """Nothing is fixed to a host that placement was told to leave alone."""
    for node in s.sheet.nodes:
        if node.value("host") in s.sheet.plan.placement.avoid:
            yield Finding(
                severity="blocker",
                code="avoided",
                node=node.id,
                column="host",
                host=node.value("host"),
                message=f"{node.name} is fixed to {node.value('host')}, which the plan excludes.",
                consequence="The host is set and excluded.",
                remedy=Remedy(
                    label="Let placement choose the host",
                    edit=Edit(path=("nodes", node.id, "host")),
                ),
            )


def overlays(s: Situation) -> Iterator[Finding]:
    """Say what laying nodes over one copy means."""
    over = [node for node in s.sheet.nodes if node.value("provisioning") == "overlay"]
    if over:
        stores = list(dict.fromkeys(node.value("datastore") for node in over))
        where = ", ".join(stores[:4]) + (f" and {len(stores) - 4} more" if len(stores) > 4 else "")
        yield Finding(
            severity="note",
            code="overlay",
            node=over[0].id,
            column="provisioning",
            message=(
                f"The disks of {len(over)} {'node' if len(over) == 1 else 'nodes'} build on the"
                f" cached image on {where}."
            ),
            consequence=(
                "The image must stay as long as the disks exist; if it is damaged, all of them are."
            ),
            remedy=Remedy(label="Use thin provisioning"),
        )


def networks(s: Situation) -> Iterator[Finding]:
    """The host carries the node's network."""
    columns = [
        ("network", 0),
        *((network_column(net.id, "network"), net.mtu) for net in s.sheet.kit.networks),
    ]
    for node in s.sheet.nodes:
        facts = s.facts(node.value("host"))
        if facts is None or not facts.memory_bytes:
            continue
        for column, mtu in columns:
            name = node.value(column)
            found = next((net for net in facts.networks if net.name == name), None)
            if not name:
                continue
            if found is not None and found.active:
                if mtu and found.mtu and found.mtu < mtu:
                    yield Finding(
                        severity="caution",
                        code="network-mtu",
                        node=node.id,
                        column="host",
                        host=facts.host,
                        message=(
                            f"{facts.host} carries {name} with an MTU of {found.mtu}; the kit wants"
                            f" {mtu}."
                        ),
                        consequence="Large packets are lost on the way, and transfers hang.",
                        remedy=Remedy(label="Raise the MTU, or choose another network"),
                    )
                continue
            have = ", ".join(net.name for net in facts.networks if net.active) or "none"
            yield Finding(
                severity="blocker",
                code="network-missing",
                node=node.id,
                column="host",
                host=facts.host,
                message=(
                    f"{facts.host} has no network"
                    f" {name}{' (it is stopped there)' if found else ''}; it has {have}."
                ),
                consequence="The VM will not start.",
                remedy=Remedy(
                    label="Let placement choose the host",
                    edit=Edit(path=("nodes", node.id, "host")),
                ),
            )


def apart(s: Situation) -> Iterator[Finding]:
    """No two nodes of an anti-affine role share a host."""
    for role in s.sheet.kit.roles:
        if not role.apart:
            continue
        # two nodes on one machine are told for every role
        seen: dict[str, Node] = {}
        for node in s.sheet.by_role[role.id]:
            host = node.value("host")
            if not host or node.on_machine:
                continue
            if host in seen:
                yield Finding(
                    severity="blocker",
                    code="apart",
                    node=node.id,
                    column="host",
                    host=host,
                    message=(
                        f"{node.name} and {seen[host].name} are both on {host}; nodes of role"
                        f" {role.label} need separate hosts."
                    ),
                    consequence=f"If {host} is lost, both are lost.",
                    remedy=Remedy(
                        label="Let placement choose the host",
                        edit=Edit(path=("nodes", node.id, "host")),
                    ),
                )
            seen.setdefault(host, node)


def _whose(mark: Mark | None) -> str:
    """Who created a VM, in a sentence."""
    if mark:
        return f"Run {mark.run} created it."
    return "Nimble Stone did not create it and leaves it unchanged."


def names_taken(s: Situation) -> Iterator[Finding]:
    """No guest with this name exists on any host of the bay, unless the run that is checked
    made it.
    """
    wanted = {node.name: node for node in s.sheet.nodes}
    for host in s.estate.hosts_in(s.sheet.plan.bays):
        facts = s.facts(host.name)
        for guest in facts.guests if facts else ():
            node = wanted.get(guest.name)
            if node is None or (guest.mark and guest.mark.run in s.own_runs):
                continue
            before = f"Roll back run {guest.mark.run}" if guest.mark else "Adopt it as this node"
            yield Finding(
                severity="blocker",
                code="guest-exists" if guest.mark else "guest-unmarked",
                node=node.id,
                column="name",
                host=host.name,
                message=f"VM {guest.name} exists on {host.name}. {_whose(guest.mark)}",
                consequence="Names are unique; defining the node would fail.",
                remedy=Remedy(label=f"{before}, or rename the node"),
            )


def outside(s: Situation) -> Iterator[Finding]:
    """Places beyond the plan that nodes need were reached when they were tried."""
    for label, name, port, purpose in places(s.sheet):
        if why := s.unreached.get(f"{name}:{port}"):
            yield Finding(
                severity="caution",
                code="outside-unreached",
                message=f"{label} ({name}:{port}) is unreachable: {why}.",
                consequence=f"Nodes need it: {purpose}." if purpose else "Nodes need it.",
                remedy=Remedy(
                    label=("Allow the connection, or correct the name; then check again")
                ),
            )


def fences(s: Situation) -> Iterator[Finding]:
    """A fencing volume lies on a datastore that all hosts of its nodes share; all have the same."""
    seen: dict[str, Node] = {}
    for node in s.sheet.nodes:
        shared, facts = node.fence, s.facts(node.value("host"))
        if shared is None or node.on_machine:
            continue
        first = seen.setdefault(node.role, node)
        if first.fence != shared:
            yield Finding(
                severity="blocker",
                code="fence-differs",
                node=node.id,
                column=FENCE,
                message=f"{node.name} has another fencing volume than {first.name}.",
                consequence="They would not see each other, and both write.",
                remedy=Remedy(
                    label=f"Use that of {first.name}",
                    edit=Edit(path=("nodes", node.id, FENCE), value=first.value(FENCE)),
                ),
            )
        store = facts.datastore(shared.datastore) if facts else None
        # VMs of one host share whatever it has
        alone = first.value("host") == node.value("host")
        if facts is not None and (store is None or not (store.shared or alone)):
            what = "is not shared" if store else f"is not on {facts.host}"
            yield Finding(
                severity="blocker",
                code="fence-not-shared",
                node=node.id,
                column=FENCE,
                host=facts.host,
                message=f"Datastore {shared.datastore} of the fencing volume {what}.",
                consequence=f"{node.name} cannot use it.",
                remedy=Remedy(label="Choose a datastore that all hosts of the nodes share"),
            )


def around(s: Situation) -> Iterator[Finding]:
    """Gateways and time servers answer the hosts of the nodes; names are not taken."""
    for gateway, why in s.gateways.items():
        yield Finding(
            severity="caution",
            code="gateway-silent",
            column="gateway",
            message=f"Gateway {gateway} is silent: {why}.",
            consequence="Nodes reach nothing beyond their network.",
            remedy=Remedy(label="Correct the gateway, or see that it is on that network"),
        )
    for server, why in s.clocks.items():
        yield Finding(
            severity="caution",
            code="ntp-silent",
            column="ntp",
            message=f"Time server {server} is silent: {why}.",
            consequence="Clocks of nodes drift apart.",
            remedy=Remedy(label="Correct the time server, or allow UDP 123"),
        )
    for ident, what in s.misnamed.items():
        yield Finding(
            severity="caution",
            code="name-elsewhere",
            node=ident,
            column="name",
            message=f"{what}.",
            consequence="Others would reach another machine by this name.",
            remedy=Remedy(label="Correct the name records, or choose another name"),
        )


def places(sheet: Sheet) -> list[tuple[str, str, int, str]]:
    """(label, host, port, purpose) of each place beyond the plan that can be tried by TCP."""
    found = {
        (place.label, name, place.port, place.purpose)
        for place in sheet.kit.outside
        if place.protocol == "tcp"
        for node in sheet.nodes[:1]
        if (name := filled(place.host, node, sheet).strip(". "))
    }
    return sorted(found)


def answering(s: Situation) -> Iterator[Finding]:
    """Addresses of nodes do not answer yet."""
    give = s.next_free()
    for node, column, value in s.sheet.addresses() if s.answering else ():
        evidence = s.answering.get(value)
        if evidence:
            address = give(node.value(column.removesuffix("address") + "pool")) if node else ""
            yield Finding(
                severity="blocker",
                code="address-answers",
                node=node.id if node else "",
                column=column,
                message=f"{value} answers already ({evidence}).",
                consequence="Two machines with one address: neither can be reached reliably.",
                remedy=(
                    Remedy(
                        label=f"Use {address}",
                        edit=Edit(path=("nodes", node.id, column), value=address),
                    )
                    if node and address
                    else None
                ),
            )


def unasked(s: Situation) -> Iterator[Finding]:
    """Whether each address is in use was asked; what could not be asked is told once a reason."""
    reasons: dict[str, list[str]] = defaultdict(list)
    for address, why in s.unasked.items():
        reasons[why].append(address)
    for why, addresses in reasons.items():
        first = next(
            (node for node, _, value in s.sheet.addresses() if node and value == addresses[0]), None
        )
        more = f" and {len(addresses) - 1} more" if len(addresses) > 1 else ""
        yield Finding(
            severity="note",
            code="address-not-asked",
            node=first.id if first else "",
            column="address",
            message=f"Whether {addresses[0]}{more} is in use was not asked: {why}.",
            consequence="An address that another machine has would show only in the rollout.",
            remedy=Remedy(label="See that it can be asked there, or look yourself"),
        )
