"""Which node on which host: fits memory, networks and anti-affinity, and spreads load evenly.

Method: nodes in falling order of memory, each to the host whose load after it is least, then single moves as long as
they lower the worst load. Deterministic: same input, same answer; ties go to the first host by name.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

ROUNDS = 200


@dataclass(frozen=True)
class Demand:
    """A node to be placed. Memory in bytes. `apart` is '' or the group no two of which share a host; `fixed` a chosen host or ''."""

    node: str
    memory_bytes: int
    apart: str = ""
    fixed: str = ""
    network: str = ""


@dataclass(frozen=True)
class Supply:
    """A host. `room_bytes` is what guests may still get, `capacity_bytes` its whole memory, `networks` what it carries."""

    host: str
    capacity_bytes: int
    room_bytes: int
    networks: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Placement:
    """host by node; nodes without a host are in `reasons`, with the reason in words."""

    hosts: Mapping[str, str]
    reasons: Mapping[str, str]


class _Board:
    """Hosts being filled: room and load per host, and what stands where."""

    def __init__(self, supplies: Sequence[Supply], demands: Sequence[Demand]) -> None:
        self.hosts = sorted(supplies, key=lambda supply: supply.host)
        self.index = {supply.host: i for i, supply in enumerate(self.hosts)}
        self.capacity = np.array([max(1, supply.capacity_bytes) for supply in self.hosts], dtype=np.float64)
        self.room = np.array([supply.room_bytes for supply in self.hosts], dtype=np.int64)
        self.used = self.capacity - self.room
        self.own = np.zeros(len(self.hosts), dtype=np.int64)
        self.groups: dict[str, NDArray[np.int64]] = {}
        self.carries = {name: np.array([name in supply.networks for supply in self.hosts], dtype=bool)
                        for name in {demand.network for demand in demands if demand.network}}
        # A small plan takes a host of its own for each node where it can: losing one host then costs one node.
        self.alone = 1.0 if len(demands) <= len(self.hosts) else 0.0
        self.chosen: dict[str, int] = {}

    def put(self, demand: Demand, at: int, sign: int = 1) -> None:
        """Lay a node on a host, or take it off (sign -1)."""
        self.room[at] -= sign * demand.memory_bytes
        self.used[at] += sign * demand.memory_bytes
        self.own[at] += sign
        if demand.apart:
            self.groups.setdefault(demand.apart, np.zeros(len(self.hosts), dtype=np.int64))[at] += sign
        if sign > 0:
            self.chosen[demand.node] = at

    def scores(self, demand: Demand) -> NDArray[np.float64]:
        """Load of each host with the node on it; infinite where it does not fit."""
        mask: NDArray[np.bool_] = self.room >= demand.memory_bytes
        if demand.network:
            mask = mask & self.carries[demand.network]
        if demand.apart in self.groups:
            mask = mask & (self.groups[demand.apart] == 0)
        return np.where(mask, (self.used + demand.memory_bytes) / self.capacity + self.alone * (self.own > 0), np.inf)


def place(demands: Sequence[Demand], supplies: Sequence[Supply]) -> Placement:
    """Choose a host for each node or say why none fits.

    Cost: O(nodes × hosts) and at most 200 improving moves. A fixed host is taken as given, even where it does not fit:
    the checks say so, the choice stays the person's.
    """
    board = _Board(supplies, demands)
    reasons: dict[str, str] = {}
    free = [demand for demand in demands if not demand.fixed]
    for demand in demands:
        if demand.fixed in board.index:
            board.put(demand, board.index[demand.fixed])
    for demand in sorted(free, key=lambda demand: -demand.memory_bytes):
        scores = board.scores(demand)
        if not np.isfinite(scores).any():
            reasons[demand.node] = _why_not(demand, board.hosts, board.room, board.groups, board.carries)
        else:
            board.put(demand, int(np.argmin(scores)))
    _level(board, [demand for demand in free if demand.node in board.chosen])
    return Placement({node: board.hosts[at].host for node, at in board.chosen.items()}, reasons)


def _level(board: _Board, movable: Sequence[Demand]) -> None:
    """Move single nodes off the most loaded host as long as that lowers the worst load."""
    by_host: dict[int, list[Demand]] = {}
    for demand in movable:
        by_host.setdefault(board.chosen[demand.node], []).append(demand)
    for _ in range(ROUNDS):
        filled = [host for host, own in by_host.items() if own]
        if not filled:
            return
        load = board.used / board.capacity
        worst = max(sorted(filled), key=lambda host: load[host])
        best: tuple[float, Demand, int] | None = None
        for demand in by_host[worst]:
            board.put(demand, worst, -1)
            scores = board.scores(demand)
            board.put(demand, worst)
            to = int(np.argmin(scores))
            if to != worst and scores[to] < load[worst] - 1e-9 and (best is None or scores[to] < best[0]):
                best = (float(scores[to]), demand, to)
        if best is None:
            return
        board.put(best[1], worst, -1)
        board.put(best[1], best[2])
        by_host[worst].remove(best[1])
        by_host.setdefault(best[2], []).append(best[1])


def _why_not(demand: Demand, hosts: Sequence[Supply], room: NDArray[np.int64], groups: Mapping[str, NDArray[np.int64]],
             carries: Mapping[str, NDArray[np.bool_]]) -> str:
    if not hosts:
        return "the bay has no host whose facts are known"
    parts = []
    short = int((room < demand.memory_bytes).sum())
    if short:
        parts.append(f"{short} lack {demand.memory_bytes >> 20} MiB of memory")
    if demand.network and not carries[demand.network].all():
        parts.append(f"{int((~carries[demand.network]).sum())} do not carry network {demand.network}")
    if demand.apart in groups and groups[demand.apart].any():
        parts.append(f"{int((groups[demand.apart] > 0).sum())} have a node of this role already")
    return f"none of {len(hosts)} hosts fits: " + ", ".join(parts)
