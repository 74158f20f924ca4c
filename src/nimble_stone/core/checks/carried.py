"""Roles that nodes carry beside their own."""

from __future__ import annotations

from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.plan.carried import ALSO, NONE, refused, wanted
from nimble_stone.core.units import count_text


def roles(s: Situation) -> Iterator[Finding]:
    """What nodes carry is allowed, and as many carry each role as the plan says."""
    for node in s.sheet.nodes:
        own = s.sheet.kit.role(node.role)
        for number, ident in enumerate(node.roles[1:], 1):
            why = refused(s.sheet.kit, own, ident, node.roles[1:number]) if own else ""
            if why:
                rest = [one for one in node.roles[1:] if one != ident]
                yield Finding(
                    severity="blocker",
                    code="role-not-carried",
                    node=node.id,
                    column=ALSO,
                    message=f"{node.name} cannot carry “{ident}”: {why}.",
                    consequence="The node would not be set up for it.",
                    remedy=Remedy(
                        label="Leave it out",
                        edit=Edit(path=("nodes", node.id, ALSO), value=", ".join(rest) or NONE),
                    ),
                )
    for role in s.sheet.kit.roles:
        have, want = s.sheet.count_of(role.id), wanted(s.sheet.plan, role)
        if not role.own_nodes and have != want and role.count.allows(have):
            yield Finding(
                severity="caution",
                code="role-carriers",
                column="count",
                message=(
                    f"{count_text(have, 'node carries', 'nodes carry')} role {role.label}; the"
                    f" plan says {want}."
                ),
                consequence="The rollout takes what the nodes say.",
                remedy=Remedy(
                    label=f"Set {have}", edit=Edit(path=("roles", role.id, "count"), value=have)
                ),
            )
