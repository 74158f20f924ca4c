"""Placement against what SciPy's solver (HiGHS) reaches on the same generated cases, and against
the fluid bound where no solver gets anywhere.
"""

from __future__ import annotations

import random
import time
from collections.abc import Mapping, Sequence

import numpy as np
from scipy.optimize import Bounds, LinearConstraint, milp
from scipy.sparse import lil_matrix

from nimble_stone.core.placement import Demand, Spread, Supply, place, spread

GIB = 1 << 30
SOLVER_S = 60.0


def case(nodes: int, hosts: int, roles: int, seed: int) -> tuple[list[Demand], list[Supply]]:
    """Hosts of four sizes, filled to at most a third; nodes of five sizes; no two of a role on one
    host.
    """
    chance = random.Random(seed)
    supplies = []
    for n in range(hosts):
        whole = chance.choice((192, 256, 384, 512)) * GIB
        supplies.append(
            Supply(
                f"h{n:03}",
                whole,
                int(whole * 0.95) - chance.randrange(int(whole * 0.35)),
                frozenset({"s"}),
            )
        )
    sizes = (4, 8, 16, 32, 64) if nodes < 100 else (4, 8, 16, 24, 32)
    return [
        Demand(f"n{n:04}", chance.choice(sizes) * GIB, f"role{n % roles}", "", ("s",))
        for n in range(nodes)
    ], supplies


def solver(demands: Sequence[Demand], supplies: Sequence[Supply], seconds: float) -> float:
    """The worst load the solver reaches: one host per node, no two of a role together, the fullest
    host as empty as can be.
    """
    n, h = len(demands), len(supplies)
    whole = [supply.capacity_bytes for supply in supplies]
    rows = lil_matrix((n + 2 * h, n * h + 1))
    low, high = np.full(n + 2 * h, -np.inf), np.full(n + 2 * h, np.inf)
    for i, demand in enumerate(demands):
        low[i] = high[i] = 1
        for j in range(h):
            rows[i, i * h + j] = 1
            rows[n + j, i * h + j] = rows[n + h + j, i * h + j] = demand.memory_bytes / whole[j]
    for j, supply in enumerate(supplies):
        rows[n + j, n * h] = -1
        high[n + j] = -(supply.capacity_bytes - supply.room_bytes) / whole[j]
        high[n + h + j] = supply.room_bytes / whole[j]
    groups: dict[str, list[int]] = {}
    for i, demand in enumerate(demands):
        groups.setdefault(demand.apart, []).append(i)
    apart = lil_matrix((len(groups) * h, n * h + 1))
    for g, members in enumerate(groups.values()):
        for j in range(h):
            for i in members:
                apart[g * h + j, i * h + j] = 1
    cost = np.zeros(n * h + 1)
    cost[-1] = 1
    found = milp(
        cost,
        constraints=[
            LinearConstraint(rows.tocsr(), low, high),
            LinearConstraint(apart.tocsr(), 0, 1),
        ],
        integrality=np.r_[np.ones(n * h), 0],
        bounds=Bounds(0, np.r_[np.ones(n * h), np.inf]),
        options={"time_limit": seconds},
    )
    return float(found.fun) if found.fun is not None else float("inf")


def main() -> None:
    """Small plans against the solver, large ones against the bound."""
    for nodes, hosts, roles in ((12, 6, 3), (30, 10, 6), (60, 20, 6)):
        for seed in (0, 1):
            demands, supplies = case(nodes, hosts, roles, seed)
            began = time.perf_counter()
            placed = place(demands, supplies)
            took = time.perf_counter() - began
            ours = _spread(demands, supplies, placed.hosts).worst_load
            began = time.perf_counter()
            theirs = solver(demands, supplies, SOLVER_S)
            solved = time.perf_counter() - began
            print(
                f"placing {nodes} nodes on {hosts} hosts: worst load {ours:.4f} in"
                f" {took * 1000:.0f} ms; milp {theirs:.4f} in {solved:.1f} s; ours is"
                f" {100 * (ours / theirs - 1):+.2f} %"
            )
    for seed in range(3):
        demands, supplies = case(1000, 200, 60, seed)
        began = time.perf_counter()
        placed = place(demands, supplies)
        took = time.perf_counter() - began
        found = _spread(demands, supplies, placed.hosts)
        print(
            f"placing 1,000 nodes on 200 hosts, 60 roles apart: {took * 1000:.0f} ms, worst load"
            f" {found.worst_load:.4f}, fluid bound {found.bound:.4f}: {100 * found.gap:.2f} %"
            f" above; {len(placed.reasons)} unplaced"
        )


def _spread(
    demands: Sequence[Demand], supplies: Sequence[Supply], hosts: Mapping[str, str]
) -> Spread:
    return spread(
        {s.host: (s.capacity_bytes, s.capacity_bytes - s.room_bytes) for s in supplies},
        [(hosts[d.node], d.memory_bytes) for d in demands],
    )
