"""Roles that nodes carry beside their own: storage, compute and gateway on one machine. Pure."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.roles import Role
from nimble_stone.core.plan.model import Plan, Scalar

ALSO = "also"
NONE = "none"
"""The column's name; what a person types where a node is to carry nothing more."""


def named(text: str) -> tuple[str, ...]:
    """The roles that a cell names, with commas or blanks between, each once."""
    return tuple(dict.fromkeys(one for one in text.replace(",", " ").split() if one != NONE))


def carriers(kit: Kit) -> tuple[str, ...]:
    """Roles whose nodes may carry another one, in the kit's order."""
    may = {ident for role in kit.roles for ident in role.carried_by}
    return tuple(role.id for role in kit.roles if role.id in may)


def wanted(plan: Plan, role: Role) -> int:
    """How many nodes are to carry a role that has none of its own."""
    block = plan.roles.get(role.id)
    return role.count.usual if block is None or block.count is None else block.count


def refused(kit: Kit, own: Role, ident: str, others: Sequence[str]) -> str:
    """Why a node of role `own` cannot carry a role beside `others`, in words; '' when it can."""
    role = kit.role(ident)
    if role is None:
        return f"{kit.title} has no role “{ident}”"
    if own.id not in role.carried_by:
        by = ", ".join(role.carried_by) or "no other role"
        return f"role {role.label} is carried by {by}"
    for other in (own.id, *others):
        there = kit.role(other)
        if other in role.not_with or (there is not None and ident in there.not_with):
            return f"{role.label} and {there.label if there else other} must not share a node"
    return ""


def shared_out(
    plan: Plan, kit: Kit, rows: Sequence[tuple[Role, int]], shared: Mapping[str, Scalar]
) -> dict[str, tuple[str, ...]]:
    """Node id → the roles it carries beside its own: what is typed, as far as the kit allows it;
    then each role without nodes of its own goes to those that carry least, the first of them first.
    Cost: O(roles × nodes × log nodes).
    """
    own = {f"{role.id}-{n}": role for role, n in rows}
    texts = {ident: _typed(plan, role, ident, shared) for ident, role in own.items()}
    found: dict[str, tuple[str, ...]] = {}
    for ident, role in own.items():
        found[ident] = ()
        for one in named(texts[ident] or ""):
            if not refused(kit, role, one, found[ident]):
                found[ident] = (*found[ident], one)
    there = Counter(one for roles in found.values() for one in roles)
    for role in kit.roles:
        if role.own_nodes:
            continue
        able = [
            ident
            for ident, text in texts.items()
            if text is None and not refused(kit, own[ident], role.id, found[ident])
        ]
        able.sort(key=lambda ident: len(found[ident]))
        for ident in able[: max(0, wanted(plan, role) - there[role.id])]:
            found[ident] = (*found[ident], role.id)
    return found


def _typed(plan: Plan, role: Role, ident: str, shared: Mapping[str, Scalar]) -> str | None:
    block = plan.roles.get(role.id)
    for values in (
        plan.nodes.get(ident, {}),
        block.values if block else {},
        plan.values,
        shared,
    ):
        if ALSO in values:
            return str(values[ALSO])
    return None
