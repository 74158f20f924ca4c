"""Nodes that are kept apart: by the kit's rules, by the plan's, and by common sense."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.plan.assignment import separations
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.separation import Clash, Domains, Separation, clashes
from nimble_stone.core.units import count_text

LEAVE = "Let placement choose the host"


def separated(s: Situation) -> Iterator[Finding]:
    """No two nodes of a rule stand in one failure domain; what must not be is a blocker, what only
    should not be a caution. Cost: O(rules × nodes).
    """
    known = {role.id for role in s.sheet.kit.roles}
    rules = separations(s.sheet.kit, s.sheet.plan)
    for rule in rules:
        if missing := sorted(set(rule.roles) - known):
            yield Finding(
                severity="blocker",
                code="separate-role",
                message=f"The plan keeps role “{missing[0]}” apart, which the kit does not have.",
                consequence="The rule separates nothing.",
                remedy=Remedy(label=f"Use one of {', '.join(sorted(known))}"),
            )
    nodes = {node.id: node for node in s.sheet.nodes}
    places = {
        node.id: place
        for node in s.sheet.nodes
        if (place := s.estate.domains(node.value("host"))) is not None
    }
    roles = {node.id: node.role for node in s.sheet.nodes}
    unknown: dict[str, list[Clash]] = defaultdict(list)
    for clash in clashes(rules, roles, places):
        if clash.known:
            yield _shared(clash, nodes, places[clash.node])
        else:
            unknown[clash.rule.key].append(clash)
    for many in unknown.values():
        yield _unknown(many[0].rule, [nodes[clash.node] for clash in many])


def _shared(clash: Clash, nodes: dict[str, Node], place: Domains) -> Finding:
    node, first, rule = nodes[clash.node], nodes[clash.first], clash.rule
    where = place.words(rule.by)
    need = "must not" if rule.must else "should not"
    return Finding(
        severity="blocker" if rule.must else "caution",
        code="separate" if rule.must else "separate-wish",
        node=node.id,
        column="host",
        host=node.value("host"),
        message=(
            f"{node.name} and {first.name} are both in {where}; they {need} share a {rule.by}."
            if rule.by != "host"
            else f"{node.name} and {first.name} are both on {where}; they {need} share a host."
        ),
        consequence=f"If {where} is lost, both are lost.",
        remedy=(
            Remedy(label=LEAVE, edit=Edit(path=("nodes", node.id, "host")))
            if node.cells["host"].origin == "node"
            else Remedy(label=f"Add hosts in another {rule.by}, or change the rule")
        ),
    )


def _unknown(rule: Separation, nodes: list[Node]) -> Finding:
    hosts = sorted({node.value("host") for node in nodes})
    named = ", ".join(hosts[:4]) + (f" and {len(hosts) - 4} more" if len(hosts) > 4 else "")
    return Finding(
        severity="blocker" if rule.must else "caution",
        code="separate-unknown",
        node=nodes[0].id,
        column="host",
        host=hosts[0],
        message=f"The {rule.by} of {named} is not set; {count_text(len(nodes), 'node')} there"
        f" {'must' if rule.must else 'should'} not share one.",
        consequence=f"What fails with a {rule.by} is not known.",
        remedy=Remedy(label=f"Set the {rule.by} on the page of each host"),
    )


def together(s: Situation) -> Iterator[Finding]:
    """A role whose nodes keep state does not stand on one host as a whole, where there are more."""
    for role in s.sheet.kit.roles:
        nodes = [node for node in s.sheet.by_role[role.id] if not node.on_machine]
        hosts = {node.value("host") for node in nodes}
        if role.apart or role.keeps == "nothing" or len(nodes) < 2 or len(hosts) != 1:
            continue
        host = next(iter(hosts))
        if not host:
            continue
        which = "Both" if len(nodes) == 2 else f"All {len(nodes)}"
        yield Finding(
            severity="caution",
            code="role-together",
            node=nodes[1].id,
            column="host",
            host=host,
            message=f"{which} nodes of role {role.label} are on {host}.",
            consequence=f"If {host} is lost, the role is lost.",
            remedy=Remedy(label=LEAVE, edit=Edit(path=("nodes", nodes[1].id, "host"))),
        )
