"""What differs between two plans, or between a plan and what was built, told by meaning. Pure."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from typing import Literal

from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.units import count_text


@dataclass(frozen=True)
class Difference:
    """One difference. `about`: what kind of thing; `nodes`: node ids it holds for (empty: the whole
    plan).
    """

    about: Literal["product", "nodes", "size", "place", "address", "value"]
    text: str
    label: str
    before: str
    after: str
    nodes: tuple[str, ...] = ()


_ABOUT: dict[str, Literal["size", "place", "address"]] = {
    "size": "size",
    "host": "place",
    "datastore": "place",
}


def differences(old: Sheet, new: Sheet) -> list[Difference]:
    """From `old` to `new`: product and bay, nodes that come and go, then each changed value once
    for all nodes it changes alike for.

    Secrets are compared by reference and never shown. Cost: O(nodes × columns).
    """
    found = [*_head(old, new)]
    before, after = {node.id: node for node in old.nodes}, {node.id: node for node in new.nodes}
    for role in dict.fromkeys(
        [*(node.role for node in old.nodes), *(node.role for node in new.nodes)]
    ):
        came = tuple(
            ident for ident, node in after.items() if ident not in before and node.role == role
        )
        went = tuple(
            ident for ident, node in before.items() if ident not in after and node.role == role
        )
        if came:
            found.append(
                Difference(
                    "nodes",
                    f"{count_text(len(came), 'node')} of role {role} more:"
                    f" {_some([after[i].name for i in came])}",
                    role,
                    "",
                    str(len(came)),
                    came,
                )
            )
        if went:
            found.append(
                Difference(
                    "nodes",
                    f"{count_text(len(went), 'node')} of role {role} fewer:"
                    f" {_some([before[i].name for i in went])}",
                    role,
                    str(len(went)),
                    "",
                    went,
                )
            )
    both = [(before[ident], after[ident]) for ident in after if ident in before]
    labels = {column.id: (column.label, column.kind) for column in (*old.columns, *new.columns)}
    for column, (label, kind) in labels.items():
        groups: dict[tuple[str, str], list[Node]] = defaultdict(list)
        for was, now in both:
            if was.value(column) != now.value(column):
                key = (was.value(column), now.value(column))
                if kind == "secret":
                    key = ("another", "secret")
                groups[key].append(now)
        if kind == "address" and len(groups) > 4:
            nodes = [node for group in groups.values() for node in group]
            found.append(
                Difference(
                    "address",
                    f"{label}: another for {count_text(len(nodes), 'node')}",
                    label,
                    "",
                    "",
                    tuple(node.id for node in nodes),
                )
            )
            continue
        for (was_text, now_text), nodes in groups.items():
            whole = len(nodes) == len(both) and len(both) > 1
            who = "every node" if whole else _some([node.name for node in nodes])
            about = _ABOUT.get(column) or ("address" if kind == "address" else "value")
            shown = (
                "a new secret"
                if kind == "secret"
                else f"{was_text or 'nothing'} → {now_text or 'nothing'}"
            )
            found.append(
                Difference(
                    about,
                    f"{label}: {shown} for {who}",
                    label,
                    "" if kind == "secret" else was_text,
                    "" if kind == "secret" else now_text,
                    () if whole else tuple(node.id for node in nodes),
                )
            )
    return found


def _head(old: Sheet, new: Sheet) -> list[Difference]:
    def package(sheet: Sheet, role: str) -> str:
        block = sheet.plan.roles.get(role)
        found = sheet.packages.of(role)
        if found:
            return found.title
        if not role:
            return sheet.plan.package
        return block.package if block else ""

    own = [
        role
        for role in new.kit.roles
        if role.accepts and (new.by_role[role.id] or old.by_role.get(role.id))
    ]
    pairs = (
        ("Kit", old.kit.title, new.kit.title),
        ("Package", package(old, ""), package(new, "")),
        *(
            (f"Package of {role.label}", package(old, role.id), package(new, role.id))
            for role in own
        ),
        ("Bay", ", ".join(old.plan.bays), ", ".join(new.plan.bays)),
    )
    return [
        Difference("product", f"{label}: {was or 'none'} → {now or 'none'}", label, was, now)
        for label, was, now in pairs
        if was != now
    ]


def _some(names: list[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
