"""A plan's answer as bytes: whole, or what changed since the answer the page has. Sent after every
edit, so it is built without detours.

Shapes are those of `views.PlanView` and `views.PlanDelta`.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import orjson
from fastapi import Response
from pydantic import BaseModel

from nimble_stone.app.application import Application
from nimble_stone.app.estate import estate_of
from nimble_stone.app.resolved import Resolved
from nimble_stone.core.estate import Estate
from nimble_stone.core.plan.cells import Cell
from nimble_stone.core.plan.columns import any_on_machines
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.server import run_answers, views
from nimble_stone.store import drift, runs
from nimble_stone.store.records import PlanRow

# of PlanDelta: left out where they did not change
KEPT = ("bays", "waves", "way", "hosts", "columns", "licence_text")


@dataclass(frozen=True, slots=True)
class NodeData:
    """A node as the page gets it; see views.NodeView."""

    id: str
    name: str
    role: str
    role_label: str
    role_index: int
    also: Sequence[int]
    short: str
    host: str
    vcpu: int
    memory_bytes: int
    thin_bytes: int
    full_bytes: int
    cells: Mapping[str, Cell]


def nodes_of(sheet: Sheet) -> list[NodeData]:
    """Every node. Cost: O(nodes)."""
    roles = {role.id: (number, role.label) for number, role in enumerate(sheet.kit.roles)}
    prefix = f"{sheet.plan.name}-"
    also = {kind: [roles[one][0] for one in kind if one in roles] for kind in _carried(sheet)}
    return [
        _node(node, *roles.get(node.role, (0, node.role)), also[node.roles[1:]], prefix)
        for node in sheet.nodes
    ]


def _carried(sheet: Sheet) -> set[tuple[str, ...]]:
    return {node.roles[1:] for node in sheet.nodes}


def _node(node: Node, number: int, label: str, also: Sequence[int], prefix: str) -> NodeData:
    return NodeData(
        node.id,
        node.name,
        node.role,
        label,
        number,
        also,
        node.name.removeprefix(prefix),
        node.value("host"),
        node.vcpu,
        node.memory_bytes,
        node.thin_bytes,
        node.full_bytes,
        node.cells,
    )


async def data_of(
    app: Application, row: PlanRow, resolved: Resolved, *, checked: bool = False
) -> dict[str, Any]:
    """The whole answer as data that `packed` can write."""
    estate = await estate_of(app)
    head = views.plan_head(
        row,
        resolved,
        await run_answers.run_lines(app, await app.store.read(runs.runs, row.id)),
        estate,
        checked=checked,
    )
    if resolved.changes is not None:
        now = app.clock()
        found = await app.store.read(drift.of_plan, row.id)
        differing = sorted({one.node for one in found if one.node and one.is_open(now)})
        head["changes"] = head["changes"].model_copy(update={"differing": differing})
    return head | {"nodes": nodes_of(resolved.sheet), "hosts": _hosts(app, resolved, estate)}


def _hosts(app: Application, resolved: Resolved, estate: Estate) -> orjson.Fragment:
    used = {node.value("host") for node in resolved.sheet.nodes}
    bays = resolved.sheet.plan.bays
    own = {
        guest.mark.run
        for facts in resolved.estate.facts.values()
        for guest in facts.guests
        if guest.mark
    }
    strange = frozenset(used - {host.name for host in estate.hosts_in(bays)})
    bare = any_on_machines(resolved.sheet.kit, resolved.sheet.plan)
    key = (resolved.estate_number, bays, strange, frozenset(own), bare)
    kept = app.caches.hosts.get(key)
    if kept is None:
        hosts = views.host_views(resolved.estate, set(bays), names=used)
        if bare:
            hosts += views.bare_views(resolved.estate, bays, used)
        kept = packed([view.model_dump(mode="json") for view in hosts])
        app.caches.hosts.put(key, kept)
    return orjson.Fragment(kept)


def since(app: Application, ident: str, data: dict[str, Any], known: str) -> dict[str, Any]:
    """The answer for a page that has the answer tagged `known`; whole when that is forgotten.
    Remembers this one, under a tag of its own.

    A version would not do: two pages on one version may have seen different estates.
    """
    data = data | {"tag": secrets.token_hex(6)}
    before = app.caches.answers.get(f"{ident} {known}")
    app.caches.answers.put(f"{ident} {data['tag']}", data)
    if before is None:
        return data
    old = {node.id: node for node in before["nodes"]}
    order = [node.id for node in data["nodes"]]
    same = {name for name in KEPT if _equal(before[name], data[name])}
    out = {name: value for name, value in data.items() if name not in same}
    changes = (_change(old.get(node.id), node) for node in data["nodes"])
    out |= {"since": known, "nodes": [change for change in changes if change]}
    if order != list(old):
        out["order"] = order
    return out


def _change(old: NodeData | None, new: NodeData) -> NodeData | dict[str, Any] | None:
    """The node when it is new or more than cells changed, its id and changed cells when only those
    did, None when nothing did.
    """
    if old is None or (
        old.name,
        old.host,
        old.vcpu,
        old.memory_bytes,
        old.thin_bytes,
        old.full_bytes,
        old.role_index,
    ) != (
        new.name,
        new.host,
        new.vcpu,
        new.memory_bytes,
        new.thin_bytes,
        new.full_bytes,
        new.role_index,
    ):
        return new
    before = old.cells
    cells = {}
    for key, cell in new.cells.items():
        known = before.get(key)
        # most cells are the very same object: comparing costs far more
        if known is not cell and known != cell:
            cells[key] = cell
    return {"id": new.id, "cells": cells} if cells else None


def _equal(a: Any, b: Any) -> bool:
    return a is b if isinstance(a, orjson.Fragment) else bool(a == b)


def packed(data: Any) -> bytes:
    """JSON, dataclasses and models included."""
    return orjson.dumps(data, default=_plain)


def _plain(value: Any) -> Any:
    if isinstance(value, BaseModel):
        return value.model_dump(mode="json")
    if isinstance(value, Mapping):
        return dict(value)
    raise TypeError(f"{type(value).__name__} cannot be sent")


async def answer(
    app: Application, row: PlanRow, resolved: Resolved, *, known: str = "", checked: bool = False
) -> Response:
    """The plan, whole or since an earlier answer, ready to be sent."""
    data = await data_of(app, row, resolved, checked=checked)
    return Response(packed(since(app, row.id, data, known)), media_type="application/json")
