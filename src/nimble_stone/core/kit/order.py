"""The order of a kit as a drawing: roles, calls, and what comes after what. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from nimble_stone.core.kit.model import Kit


@dataclass(frozen=True)
class Stage:
    """A box of the drawing. `kind`: a role whose nodes come up, a call, or the end of a stage.
    `column`: how many others come before it, at the longest. `asks`: the system outside the plan
    that a call asks, '' a node.
    """

    id: str
    label: str
    kind: str
    of: str
    after: tuple[str, ...]
    column: int
    asks: str = ""


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
    last: dict[str, tuple[str, ...]] = {
        role.id: (f"role/{role.id}",) for role in kit.roles if role.own_nodes
    }
    systems = {one.id: one.label for one in kit.systems}
    stage = _Stages(kit, known, last)
    for step in kit.forming:
        stage.until(step.stage)
        key = f"call/{step.id}"
        if step.role == "cluster":
            before = tuple(one for many in last.values() for one in many)
        else:
            before = last.get(step.role, ())
        before = (*before, *(f"call/{one}" for one in step.after if f"call/{one}" in known))
        before = (*before, *stage.before)
        before = tuple(dict.fromkeys(before))
        asks = systems.get(step.asks, "")
        column = _column(known, before)
        known[key] = Stage(key, step.label, "call", step.role, before, column, asks)
        if step.role == "cluster":
            last = {"cluster": (key,)}
        elif step.role in last:
            last[step.role] = (key,)
        stage.keys.append(key)
    stage.until("")
    return sorted(known.values(), key=lambda one: one.column)


class _Stages:
    """The ends of stages, as boxes."""

    def __init__(self, kit: Kit, known: dict[str, Stage], last: dict[str, tuple[str, ...]]) -> None:
        self._open, self._known, self._last = list(kit.stages), known, last
        self.keys: list[str] = []
        self.before: tuple[str, ...] = ()

    def until(self, ident: str | None) -> None:
        """Draw the ends of the stages before one, '' all."""
        while ident is not None and self._open and self._open[0].id != ident:
            stage = self._open.pop(0)
            ends = (*(one for many in self._last.values() for one in many), *self.before)
            after = tuple(dict.fromkeys((*self.keys, *(() if self.keys else ends))))
            key, column = f"stage/{stage.id}", _column(self._known, after)
            of = "hold" if stage.hold else ""
            self._known[key] = Stage(key, stage.label, "stage", of, after, column)
            self.before, self.keys = (key,), []


def _column(known: Mapping[str, Stage], after: tuple[str, ...]) -> int:
    return 1 + max((known[one].column for one in after), default=-1)
