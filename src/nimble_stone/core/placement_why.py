"""Why a node stands where it stands, and which few moves would even out a placement. Pure."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from nimble_stone.core.placement import Board, Demand, Supply, level
from nimble_stone.core.units import size_text

MOST_MOVES = 6


@dataclass(frozen=True)
class Place:
    """A host as a place for a node: its load with the node on it (share of its memory), whether the
    node may stand there, and why not.
    """

    host: str
    load: float
    fits: bool
    here: bool
    reason: str


def why(
    node: str, demands: Sequence[Demand], supplies: Sequence[Supply], hosts: Mapping[str, str]
) -> list[Place]:
    """Every host for one node, all others staying where they are: best first, then those that do
    not fit. Cost: O(nodes + hosts).
    """
    board, demand = _filled(demands, supplies, hosts, without=node)
    if demand is None:
        return []
    scores = board.scores(demand)
    found = []
    for at, supply in enumerate(board.hosts):
        reasons = []
        if board.room[at] < demand.memory_bytes:
            reasons.append(
                f"{size_text(max(0, int(board.room[at])))} of memory free,"
                f" {size_text(demand.memory_bytes)} needed"
            )
        reasons += [
            f"does not carry {name}" for name in demand.networks if name not in supply.networks
        ]
        if board.vcpus[at] < demand.vcpu:
            reasons.append(f"{max(0, int(board.vcpus[at]))} vCPU left, {demand.vcpu} needed")
        if board.disk[at] < demand.disk_bytes:
            reasons.append(
                f"{size_text(max(0, int(board.disk[at])))} of disk free,"
                f" {size_text(demand.disk_bytes)} needed"
            )
        reasons += [
            f"has a node {group.words}{'' if group.by == 'host' else f' in its {group.by}'} already"
            for group in demand.kept
            if group.must and board.neighbours(group)[at]
        ]
        found.append(
            Place(
                supply.host,
                round(float((board.used[at] + demand.memory_bytes) / board.capacity[at]), 4),
                not reasons,
                hosts.get(node) == supply.host,
                ", ".join(reasons),
            )
        )
    order = {supply.host: float(scores[at]) for at, supply in enumerate(board.hosts)}
    return sorted(
        found,
        key=lambda place: (
            not place.fits,
            order[place.host] if place.fits else place.load,
            place.host,
        ),
    )


@dataclass(frozen=True)
class Move:
    """A node from one host to another."""

    node: str
    host: str
    to: str


@dataclass(frozen=True)
class Balance:
    """Moves that even a placement out. Loads: the fullest host's share of memory before and
    after.
    """

    moves: tuple[Move, ...]
    before: float
    after: float


def balance(
    demands: Sequence[Demand],
    supplies: Sequence[Supply],
    hosts: Mapping[str, str],
    *,
    most: int = MOST_MOVES,
) -> Balance:
    """Few moves that lower the fullest host's load, one after the other, each the best there is.
    Nodes fixed by a person move too: it is a proposal.

    Only hosts that carry a movable node count: what stands there already cannot be moved by us.
    Cost: O(moves × nodes on the fullest × hosts).
    """
    board, _ = _filled(demands, supplies, hosts)
    # a small plan keeps a host for each node
    board.alone = 1.0 if len(demands) <= len(board.hosts) else 0.0
    on: dict[int, list[Demand]] = {}
    for demand in demands:
        if demand.node in board.chosen:
            on.setdefault(board.chosen[demand.node], []).append(demand)
    moves: list[Move] = []
    before = _worst(board, on)
    while len(moves) < most:
        filled = [at for at, own in on.items() if own]
        if not filled:
            break
        load = board.used / board.capacity
        worst = max(sorted(filled), key=lambda at: load[at])
        best: tuple[float, Demand, int] | None = None
        for demand in on[worst]:
            board.put(demand, worst, -1)
            scores = board.scores(demand)
            left = float(board.used[worst] / board.capacity[worst])
            board.put(demand, worst)
            scores[worst] = np.inf
            # hosts are alike: a role is not crowded for the sake of a little memory
            if demand.role and load[worst] <= board.alike:
                scores[board.roles[demand.role] >= board.roles[demand.role][worst]] = np.inf
            to = int(np.argmin(scores))
            after = max(float(scores[to]), left)
            if after < load[worst] - 0.005 and (best is None or after < best[0]):
                best = (after, demand, to)
        if best is None:
            break
        _, demand, to = best
        board.put(demand, worst, -1)
        board.put(demand, to)
        on[worst].remove(demand)
        on.setdefault(to, []).append(demand)
        moves.append(Move(demand.node, board.hosts[worst].host, board.hosts[to].host))
    kept = _folded(moves)
    return Balance(tuple(kept), round(before, 4), round(_worst(board, on), 4))


def _folded(moves: Sequence[Move]) -> list[Move]:
    """Two moves of one node are one."""
    found: dict[str, Move] = {}
    for move in moves:
        first = found.get(move.node)
        found[move.node] = Move(move.node, first.host if first else move.host, move.to)
    return [move for move in found.values() if move.host != move.to]


def _worst(board: Board, on: Mapping[int, Sequence[Demand]]) -> float:
    return max(
        (float(board.used[at] / board.capacity[at]) for at, own in on.items() if own), default=0.0
    )


def _filled(
    demands: Sequence[Demand],
    supplies: Sequence[Supply],
    hosts: Mapping[str, str],
    without: str = "",
) -> tuple[Board, Demand | None]:
    board = Board(supplies, demands)
    # loads as they are, without the request for a host of one's own
    board.alone = 0.0
    board.alike = level(demands, supplies)[0]
    wanted = None
    for demand in demands:
        at = board.index.get(hosts.get(demand.node, ""))
        if demand.node == without:
            wanted = demand
        elif at is not None:
            board.put(demand, at)
    return board, wanted
