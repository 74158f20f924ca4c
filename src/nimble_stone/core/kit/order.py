"""The order of a kit as a drawing: roles, calls, and what comes after what. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from nimble_stone.core.kit.model import Kit


@dataclass(frozen=True)
class Stage:
    """A box of the drawing. `kind`: a role whose nodes come up, or a call. `column`: how many
    others come before it, at the longest.
    """

    id: str
    label: str
    kind: str
    of: str
    after: tuple[str, ...]
    column: int


def stages(kit: Kit) -> list[Stage]:
    """All boxes, from left to right. Cost: O(roles + calls × what they come after)."""
    known: dict[str, Stage] = {}
    roles = {f"role/{role.id}": role for role in kit.roles if role.own_nodes}
    waiting = dict(roles)
    while waiting:
        ready = [
            key
            for key, role in waiting.items()
            if all(f"role/{one}" in known or f"role/{one}" not in roles for one in role.after)
        ]
        for key in ready or list(waiting):
            role = waiting.pop(key)
            after = tuple(f"role/{one}" for one in role.after if f"role/{one}" in known)
            known[key] = Stage(key, role.label, "role", role.id, after, _column(known, after))
    last = {role.id: (f"role/{role.id}",) for role in kit.roles if role.own_nodes}
    for step in kit.forming:
        key = f"call/{step.id}"
        if step.role == "cluster":
            before = tuple(one for many in last.values() for one in many)
        else:
            before = last.get(step.role, ())
        before = (*before, *(f"call/{one}" for one in step.after if f"call/{one}" in known))
        before = tuple(dict.fromkeys(before))
        known[key] = Stage(key, step.label, "call", step.role, before, _column(known, before))
        if step.role == "cluster":
            last = {"cluster": (key,)}
        elif step.role in last:
            last[step.role] = (key,)
    return sorted(known.values(), key=lambda one: one.column)


def _column(known: Mapping[str, Stage], after: tuple[str, ...]) -> int:
    return 1 + max((known[one].column for one in after), default=-1)
