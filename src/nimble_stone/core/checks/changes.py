"""Rules about a change of a deployment that stands."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from nimble_stone.core.change_sequence import leaving_of
from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.deployment import Changes, Differs
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.units import count_text


def differing(s: Situation) -> Iterator[Finding]:
    """Values that are planned otherwise than they were built: a run leaves them as they are."""
    if s.changes is None:
        return
    by_column: dict[str, list[Differs]] = defaultdict(list)
    for one in s.changes.differs:
        by_column[one.column].append(one)
    for column, many in by_column.items():
        first = many[0]
        more = f" and {count_text(len(many) - 1, 'more node')}" if len(many) > 1 else ""
        back = Edit(path=("nodes", first.node, column), value=first.was or None)
        yield Finding(
            severity="caution",
            code="built-otherwise",
            node=first.node,
            column=column,
            message=(
                f"{first.label} of {first.name}{more} was built as “{first.was or 'nothing'}” and"
                f" is planned as “{first.now or 'nothing'}”."
            ),
            consequence="A run leaves it as it was built.",
            remedy=Remedy(
                label=f"Plan it as it was built: {first.was or 'nothing'}",
                edit=None if more else back,
            ),
        )


def leaving(s: Situation) -> Iterator[Finding]:
    """Nodes that keep state leave their cluster as the kit says; without that they stay."""
    if s.changes is None:
        return
    told: set[str] = set()
    for ident in s.changes.removes:
        node = s.changes.standing[ident].node
        role = s.sheet.kit.role(node.role)
        if role is None or role.keeps == "nothing" or node.role in told:
            continue
        if ident in s.changes.rewritten:
            continue
        if leaving_of(s.sheet, node, lost=ident in s.changes.lost):
            continue
        told.add(node.role)
        if ident in s.changes.lost:
            yield Finding(
                severity="caution",
                code="leaving-unknown",
                node=ident,
                message=f"The kit does not say how {node.name}, which is lost, leaves its cluster.",
                consequence="It comes back under its name and address, with empty disks.",
                remedy=Remedy(label="Look at the members afterwards"),
            )
            continue
        yield Finding(
            severity="blocker",
            code="leaving-unknown",
            node=ident if s.sheet.node(ident) else "",
            message=(
                f"{node.name} is to be removed; the kit does not say how a node of role"
                f" {role.label} leaves its cluster."
            ),
            consequence="The others would go on counting on it.",
            remedy=Remedy(label="Keep the node, or add `leaving` to the kit"),
        )


def majority(s: Situation) -> Iterator[Finding]:
    """While a node is away, more than half of the role's nodes that decide are there."""
    if s.changes is None:
        return
    for role in s.sheet.kit.roles:
        if not role.quorum:
            continue
        yield from _enough(s, s.changes, role.id, role.label)
        yield from _restarts(s.changes, role.id, role.label)


def _restarts(changes: Changes, role: str, label: str) -> Iterator[Finding]:
    """A restart is short, so it is told, and done."""
    moved = (one.node for one in changes.moves)
    settings = (one.node for one in changes.alters if one.way == "restart")
    restarted = (*changes.resizes, *changes.in_place, *moved, *settings)
    resized = [one for one in restarted if changes.standing[one].node.role == role]
    stands = sum(one.node.role == role for one in changes.standing.values())
    if not resized or stands - 1 > stands // 2:
        return
    name = changes.standing[resized[0]].node.name
    yield Finding(
        severity="caution",
        code="majority-restarts",
        node=resized[0],
        column="size",
        message=(
            f"While {name} restarts, {stands - 1} of"
            f" {count_text(stands, 'node')} of role {label} are there; more than half must be."
        ),
        consequence="The cluster stops deciding until the node is back.",
        remedy=Remedy(label="Do it in a quiet hour, or add nodes of the role first"),
    )


def _enough(s: Situation, changes: Changes, role: str, label: str) -> Iterator[Finding]:
    remade = [one for one in changes.remade if changes.standing[one].node.role == role]
    stands = sum(one.node.role == role for one in changes.standing.values())
    lost = sum(changes.standing[one].node.role == role for one in changes.lost)
    left = stands - (lost or 1)
    if not remade or left > stands // 2:
        return
    if lost:
        yield Finding(
            severity="caution",
            code="majority-gone",
            node=remade[0],
            message=f"{left} of {count_text(stands, 'node')} of role {label} are left.",
            consequence="The cluster cannot decide, so it may not let new nodes in.",
            remedy=Remedy(label="Recover it as its maker says, then check the members"),
        )
        return
    yield Finding(
        severity="blocker",
        code="majority-lost",
        node=remade[0],
        message=(
            f"While {changes.standing[remade[0]].node.name} is made again, {left} of"
            f" {count_text(stands, 'node')} of role {label} are left; more than half must be."
        ),
        consequence="The cluster stops deciding until the node is back.",
        remedy=Remedy(label="Add nodes of the role first"),
    )


def copies(s: Situation) -> Iterator[Finding]:
    """While a node that keeps copies is made again, what it held has fewer of them."""
    if s.changes is None:
        return
    for role in s.sheet.kit.roles:
        again = [one for one in s.changes.remade if s.changes.standing[one].node.role == role.id]
        if role.copies < 2 or not again:
            continue
        first = s.changes.standing[again[0]].node.name
        each = f"each of {count_text(len(again), 'node')}" if len(again) > 1 else first
        yield Finding(
            severity="caution",
            code="copies-fewer",
            node=again[0],
            message=(
                f"While {each} is made again, data that it held has {role.copies - 1} of"
                f" {role.copies} copies."
            ),
            consequence=(
                "If another node fails in that time, data is lost."
                if role.copies == 2
                else "If another node fails in that time, data has one copy less."
            ),
            remedy=Remedy(label="Check that all copies are complete first"),
        )


def upgrades(s: Situation) -> Iterator[Finding]:
    """Another version of a package that the kit does not say how to bring to nodes that stand."""
    if s.changes is None:
        return
    told: set[str] = set()
    for one in s.changes.upgrades:
        if one.way or one.role in told:
            continue
        told.add(one.role)
        many = [other for other in s.changes.upgrades if other.role == one.role]
        more = f" and {count_text(len(many) - 1, 'more node')}" if len(many) > 1 else ""
        yield Finding(
            severity="caution",
            code="upgrading-unknown",
            node=one.node,
            message=(
                f"{one.name}{more} was built from {one.was}; the plan takes {one.now}. The kit does"
                " not say how nodes of this role get another version."
            ),
            consequence="A run leaves them as they were built.",
            remedy=Remedy(label="Add `upgrading` to the kit, or make the nodes again"),
        )
