"""What falls when hosts are lost: which nodes, which clusters stop or lose data, and what would fit
elsewhere. Pure.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import Literal

import numpy as np

from nimble_stone.core.errors import StoneError
from nimble_stone.core.estate import Estate
from nimble_stone.core.kit import expression
from nimble_stone.core.kit.roles import Role
from nimble_stone.core.placement import Board, Demand
from nimble_stone.core.plan.sheet import Node, Sheet, inputs_of

Weight = Literal["none", "bent", "broken"]
"""none: nothing of the plan falls; bent: it goes on, with less behind it; broken: something stops
or is lost.
"""


@dataclass(frozen=True)
class Loss:
    """The loss of `hosts` together. Node ids: all that fall, those that find room elsewhere, those
    that do not. `words`: what it means, worst first.
    """

    hosts: tuple[str, ...]
    nodes: tuple[str, ...]
    fit: tuple[str, ...]
    homeless: tuple[str, ...]
    weight: Weight
    words: tuple[str, ...]


def losses(
    sheet: Sheet,
    shared: frozenset[str] = frozenset(),
    *,
    together: int = 1,
    only: Sequence[str] = (),
) -> list[Loss]:
    """Every single host's loss, or every pair's with `together` 2; `only` limits it to combinations
    of those hosts. The worst come first.

    `shared`: node ids whose disks lie on a shared datastore: they can be started elsewhere as they
    are. Nodes that keep nothing can be made again.
    Cost: O(losses × nodes on them × hosts).
    """
    demands, supplies = sheet.board
    hosts_of = {node.id: node.value("host") for node in sheet.nodes if node.value("host")}
    board = Board(supplies, demands)
    by_id = {demand.node: demand for demand in demands}
    for ident, host in hosts_of.items():
        if host in board.index and ident in by_id:
            board.put(by_id[ident], board.index[host])
    on: dict[str, list[Node]] = defaultdict(list)
    for node in sheet.nodes:
        on[node.value("host")].append(node)
    totals = Counter(ident for node in sheet.nodes for ident in node.roles)
    names = sorted(set(only) or set(hosts_of.values()))
    roles = {
        role.id: role.model_copy(update={"copies": copies_of(sheet, role)})
        for role in sheet.kit.roles
    }
    found = [
        _loss(lost, on, board, by_id, totals, roles, shared)
        for lost in combinations(names, together)
    ]
    order = {"broken": 0, "bent": 1, "none": 2}
    return sorted(
        found,
        key=lambda loss: (order[loss.weight], -len(loss.homeless), -len(loss.nodes), loss.hosts),
    )


def copies_of(sheet: Sheet, role: Role) -> int:
    """How many nodes of a role hold each piece of data: by the answers where the kit says so. What
    is no sensible number counts as what the kit says.
    """
    nodes = sheet.carriers[role.id]
    if not role.copies_by or not nodes:
        return role.copies
    try:
        found = expression.parse(role.copies_by).number(inputs_of(sheet, nodes[0]))
    except StoneError:
        return role.copies
    return int(found) if 0 <= found <= 9 else role.copies


def on_shared(sheet: Sheet, estate: Estate) -> frozenset[str]:
    """Nodes whose disks lie on a shared datastore."""
    found = set()
    for node in sheet.nodes:
        facts = estate.facts.get(node.value("host"))
        stores = [facts.datastore(name) for name in node.by_store] if facts else []
        if stores and all(store is not None and store.shared for store in stores):
            found.add(node.id)
    return frozenset(found)


def _loss(
    lost: tuple[str, ...],
    on: Mapping[str, Sequence[Node]],
    board: Board,
    demands: Mapping[str, Demand],
    totals: Mapping[str, int],
    roles: Mapping[str, Role],
    shared: frozenset[str],
) -> Loss:
    gone = [node for host in lost for node in on.get(host, ())]
    movable = [
        node
        for node in gone
        if not node.on_machine and (node.id in shared or roles[node.role].keeps == "nothing")
    ]
    fit = _elsewhere([demands[node.id] for node in movable if node.id in demands], board, lost)
    stay = {node.id for node in movable} - set(fit)
    words, broken = _meaning(Counter(ident for node in gone for ident in node.roles), totals, roles)
    if stay:
        words.append(f"{len(stay)} do not fit on other hosts")
    weight: Weight = "none"
    if gone:
        weight = "broken" if broken or stay else "bent"
    return Loss(
        lost,
        tuple(node.id for node in gone),
        tuple(fit),
        tuple(node.id for node in gone if node.id not in set(fit)),
        weight,
        tuple(words),
    )


def _elsewhere(wanted: Sequence[Demand], board: Board, lost: tuple[str, ...]) -> list[str]:
    """Which nodes find another host, the largest first. The board is left as it was."""
    # None: it stood on a host that placement leaves alone
    done: list[tuple[Demand, int | None, int]] = []
    closed = [board.index[host] for host in lost if host in board.index]
    for demand in sorted(wanted, key=lambda one: -one.memory_bytes):
        at = board.chosen.get(demand.node)
        if at is not None:
            board.put(demand, at, -1)
        scores = board.scores(demand)
        scores[closed] = np.inf
        to = int(np.argmin(scores)) if len(scores) else -1
        if to >= 0 and np.isfinite(scores[to]):
            board.put(demand, to)
            done.append((demand, at, to))
        elif at is not None:
            board.put(demand, at)
    for demand, at, to in reversed(done):
        board.put(demand, to, -1)
        if at is None:
            del board.chosen[demand.node]
        else:
            board.put(demand, at)
    return [demand.node for demand, _, _ in done]


def _meaning(
    gone: Mapping[str, int], totals: Mapping[str, int], roles: Mapping[str, Role]
) -> tuple[list[str], bool]:
    broken, bent = [], []
    for ident, many in gone.items():
        role, all_of, left = roles[ident], totals[ident], totals[ident] - many
        if role.copies and many >= role.copies and left:
            broken.append(
                f"{many} of {all_of} {role.label} gone: pieces with all {role.copies} copies on"
                " them are lost"
            )
        elif left == 0:
            broken.append(f"no {role.label} left" if all_of > 1 else f"{role.label} down")
        elif role.quorum and left * 2 <= all_of:
            broken.append(f"{left} of {all_of} {role.label} left: no majority")
        elif role.copies and many == role.copies - 1:
            bent.append(f"{left} of {all_of} {role.label} left: all data available, some only once")
        else:
            bent.append(f"{left} of {all_of} {role.label} left")
    return broken + bent, bool(broken)
