"""Which node on which host: fits memory, networks and anti-affinity, and spreads load evenly.

Beside memory a host must have vCPUs left at the stated overcommit, room for the disks, and carry
the networks. A node that stands somewhere
already stays there unless another place is clearly better, so that planning again moves little.

Method: nodes in falling order of memory, each to the host whose load after it is least, then single
moves, and exchanges of two
nodes, as long as they lower the worst load. Hosts that stay below what another one is loaded with
anyway are alike: among them a node goes where
fewest of its role stand, so that losing one host costs a role as little as it can. Deterministic:
same input, same answer; ties go to the first host
by name.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from nimble_stone.core.separation import By, Domains
from nimble_stone.core.units import size_text

ROUNDS = 200
STAY = 0.1
"""A node is moved only for a place that is less loaded by this share of a host's memory."""
SMALL, ORDERS, PASSES = 80, 24, 8
SPREADING = 1.005
"""By so much fuller the fullest host may be for the sake of spreading roles."""
BEYOND = 1.02
"""A large plan is even enough when its fullest host is so much fuller than any placement must make
it.
"""
ALIKE = 0.2
"""How much fuller than the level of all demand poured over the bay a host may become, as a share of
its memory, for the sake of spreading a role.
"""


WISHED = 4.0
"""What a place that breaks a wish costs, in loads of a whole host: any other place is better."""


@dataclass(frozen=True)
class Group:
    """Nodes that are kept apart: no two of a `key` in one domain of the kind `by`. `must` or a
    wish; `words`: who they are.
    """

    key: str
    by: By = "host"
    must: bool = True
    words: str = "of this role"


@dataclass(frozen=True)
class Demand:
    """A node to be placed. Memory and disk in bytes. `apart` is '' or the group no two of which
    share a host; `groups`: further ones, of any failure domain; `fixed` a chosen host or ''.

    `prefer`: the host it stands on already; `beside`: a node whose host it shares where it fits.
    """

    node: str
    memory_bytes: int
    apart: str = ""
    fixed: str = ""
    networks: tuple[str, ...] = ()
    vcpu: int = 0
    disk_bytes: int = 0
    prefer: str = ""
    beside: str = ""
    role: str = ""
    groups: tuple[Group, ...] = ()

    @cached_property
    def kept(self) -> tuple[Group, ...]:
        """All groups whose nodes it is kept apart from."""
        return (*([Group(self.apart)] if self.apart else []), *self.groups)

    @cached_property
    def wishes(self) -> tuple[Group, ...]:
        """Those of them that are only wished."""
        return tuple(group for group in self.kept if not group.must)


@dataclass(frozen=True)
class Supply:
    """A host. `room_bytes` is what guests may still get, `capacity_bytes` its whole memory,
    `networks` what it carries.

    `vcpus`: vCPUs that may still be promised; `disk_bytes`: free bytes of its datastores. None: not
    known, and no limit. `planned_bytes`: memory that other
    plans mean to take: it makes a host less attractive, but excludes none. `domains`: where it
    stands; None: only its name counts.
    """

    host: str
    capacity_bytes: int
    room_bytes: int
    networks: frozenset[str] = frozenset()
    vcpus: int | None = None
    disk_bytes: int | None = None
    planned_bytes: int = 0
    domains: Domains | None = None


@dataclass(frozen=True)
class Placement:
    """host by node; nodes without a host are in `reasons`, with the reason in words."""

    hosts: Mapping[str, str]
    reasons: Mapping[str, str]


class Board:
    """Hosts being filled: room and load per host, and what stands where."""

    def __init__(self, supplies: Sequence[Supply], demands: Sequence[Demand]) -> None:
        self.hosts = sorted(supplies, key=lambda supply: supply.host)
        self.index = {supply.host: i for i, supply in enumerate(self.hosts)}
        self.capacity = np.array(
            [max(1, supply.capacity_bytes) for supply in self.hosts], dtype=np.float64
        )
        self.room = np.array([supply.room_bytes for supply in self.hosts], dtype=np.int64)
        self.used = (
            self.capacity
            - self.room
            + np.array([supply.planned_bytes for supply in self.hosts], dtype=np.int64)
        )
        self.own = np.zeros(len(self.hosts), dtype=np.int64)
        self._places = [supply.domains or Domains(supply.host) for supply in self.hosts]
        self._domains: dict[By, NDArray[np.int64]] = {}
        # how many of a group stand in the domain of each host
        self._groups: dict[str, NDArray[np.int64]] = {}
        self.roles: dict[str, NDArray[np.int64]] = {}
        self.alike = 0.0
        plenty = 1 << 60
        self.vcpus = np.array(
            [plenty if supply.vcpus is None else supply.vcpus for supply in self.hosts],
            dtype=np.int64,
        )
        self.disk = np.array(
            [plenty if supply.disk_bytes is None else supply.disk_bytes for supply in self.hosts],
            dtype=np.int64,
        )
        self.carries = {
            names: np.array(
                [supply.networks.issuperset(names) for supply in self.hosts], dtype=bool
            )
            for names in {demand.networks for demand in demands}
        }
        # A small plan takes a host of its own for each node where it can: losing one host then
        # costs one node.
        self.alone = 1.0 if len(demands) <= len(self.hosts) else 0.0
        self.chosen: dict[str, int] = {}

    def put(self, demand: Demand, at: int, sign: int = 1) -> None:
        """Lay a node on a host, or take it off (sign -1)."""
        self.room[at] -= sign * demand.memory_bytes
        self.used[at] += sign * demand.memory_bytes
        self.own[at] += sign
        self.vcpus[at] -= sign * demand.vcpu
        self.disk[at] -= sign * demand.disk_bytes
        for group in demand.kept:
            if group.key not in self._groups:
                self._groups[group.key] = np.zeros(len(self.hosts), dtype=np.int64)
            if group.by == "host":
                self._groups[group.key][at] += sign
            else:
                domains = self.domains(group.by)
                self._groups[group.key][domains == domains[at]] += sign
        if demand.role:
            self.roles.setdefault(demand.role, np.zeros(len(self.hosts), dtype=np.int64))[at] += (
                sign
            )
        if sign > 0:
            self.chosen[demand.node] = at

    def domains(self, by: By) -> NDArray[np.int64]:
        """The number of each host's domain. Hosts whose domain is not known count as one: nobody
        can say that they are apart.
        """
        if by not in self._domains:
            names = [place.of(by) for place in self._places]
            numbers = {name: number for number, name in enumerate(dict.fromkeys(names))}
            self._domains[by] = np.array([numbers[name] for name in names], dtype=np.int64)
        return self._domains[by]

    def neighbours(self, group: Group) -> NDArray[np.int64]:
        """How many nodes of a group stand in the domain of each host."""
        found = self._groups.get(group.key)
        return np.zeros(len(self.hosts), dtype=np.int64) if found is None else found

    def exchangeable(self, one: Demand, other: Demand) -> bool:
        """Whether no group, must or wish, has another node where each of two would go."""
        return self._free_of(one, other) and self._free_of(other, one)

    def _free_of(self, one: Demand, other: Demand) -> bool:
        """Whether `one` may take the place of `other`, both being off the board then."""
        here, there = self.chosen[one.node], self.chosen[other.node]
        for group in one.kept:
            domains = self.domains(group.by)
            count = int(self.neighbours(group)[there]) - int(domains[here] == domains[there])
            if count - int(group in other.kept) > 0:
                return False
        return True

    def wished(self, demand: Demand) -> NDArray[np.float64]:
        """What each host costs for the wishes that it breaks."""
        cost = np.zeros(len(self.hosts), dtype=np.float64)
        for group in demand.wishes:
            cost += WISHED * self.neighbours(group)
        return cost

    def fits(self, demand: Demand, at: int) -> bool:
        """Whether the node may stand on a host."""
        return bool(
            self.room[at] >= demand.memory_bytes
            and self.carries[demand.networks][at]
            and self.vcpus[at] >= demand.vcpu
            and self.disk[at] >= demand.disk_bytes
            and not any(group.must and self.neighbours(group)[at] for group in demand.kept)
        )

    def scores(self, demand: Demand) -> NDArray[np.float64]:
        """Load of each host with the node on it; infinite where it does not fit."""
        mask: NDArray[np.bool_] = (self.room >= demand.memory_bytes) & self.carries[demand.networks]
        if demand.vcpu:
            mask &= self.vcpus >= demand.vcpu
        if demand.disk_bytes:
            mask &= self.disk >= demand.disk_bytes
        for group in demand.kept:
            if group.must:
                mask &= self.neighbours(group) == 0
        load = (self.used + demand.memory_bytes) / self.capacity + self.alone * (self.own > 0)
        if demand.wishes:
            load = load + self.wished(demand)
        return np.where(mask, load, np.inf)


def place(demands: Sequence[Demand], supplies: Sequence[Supply]) -> Placement:
    """Choose a host for each node or say why none fits.

    Cost: O(nodes × hosts) and at most 200 improving moves, each O(nodes on the worst host × nodes).
    A fixed host is taken as given, even where it does not fit:
    the checks say so, the choice stays the person's.
    """
    alike, bound = level(demands, supplies)
    crowds = Counter(demand.role for demand in demands if demand.role and not demand.apart)
    if not crowds or max(crowds.values()) < 2:
        alike = 0.0  # no role that could be spread
    first = _once(demands, supplies, lambda demand: -demand.memory_bytes, alike)
    worst = _worst(first, demands, supplies)
    enough = (BEYOND if len(demands) > SMALL else 1.0 + 1e-9) * bound
    # what another placement must be evener by
    gain = 1.001
    if alike:
        if not first.reasons and worst <= enough:
            # roles are spread, and no placement is evener
            return first
        by_load = _once(demands, supplies, lambda demand: -demand.memory_bytes)
        if not by_load.reasons and (
            first.reasons or _worst(by_load, demands, supplies) < worst / SPREADING
        ):
            first = by_load
        else:
            gain = SPREADING
    if first.reasons and any(group.by != "host" for demand in demands for group in demand.kept):
        # who may share least chooses first
        strict = _once(demands, supplies, lambda demand: (-len(demand.kept), -demand.memory_bytes))
        return strict if len(strict.reasons) < len(first.reasons) else first
    if len(demands) > SMALL or len(demands) <= len(supplies) or first.reasons:
        return first
    # A small plan is tried in other orders too: the largest first is good, but now and then a
    # slightly other order packs evener.
    best, least = first, _worst(first, demands, supplies)
    for number in range(1, ORDERS):
        # A sequence that fills the range evenly takes the place of chance: the core knows no
        # randomness.
        jitter = {
            demand.node: 0.8 + 0.45 * ((i * 0.6180339887 + 0.7548776662) * (number + 1) % 1.0)
            for i, demand in enumerate(demands)
        }
        other = _once(
            demands,
            supplies,
            lambda demand, by=jitter: -demand.memory_bytes * by[demand.node],  # type: ignore[misc]
        )
        load = _worst(other, demands, supplies)
        if not other.reasons and load < least / gain:
            best, least, gain = other, load, 1.001
    return best


def level(demands: Sequence[Demand], supplies: Sequence[Supply]) -> tuple[float, float]:
    """(the load below which hosts are alike, the lowest worst load there can be), as shares of a
    host's memory. Cost: O(hosts × log hosts + nodes).
    """
    hosts = {
        supply.host: (
            supply.capacity_bytes,
            supply.capacity_bytes - supply.room_bytes + supply.planned_bytes,
        )
        for supply in supplies
    }
    poured = fluid(hosts, sum(demand.memory_bytes for demand in demands)) if hosts else 0.0
    fullest = max((used / max(1, whole) for whole, used in hosts.values()), default=0.0)
    return max(poured, min(fullest, poured + ALIKE)), max(poured, fullest)


def _worst(placed: Placement, demands: Sequence[Demand], supplies: Sequence[Supply]) -> float:
    """The worst load, and what the wishes cost that are broken."""
    used = {
        supply.host: supply.capacity_bytes - supply.room_bytes + supply.planned_bytes
        for supply in supplies
    }
    for demand in demands:
        if placed.hosts.get(demand.node) in used:
            used[placed.hosts[demand.node]] += demand.memory_bytes
    load = max(
        (used[supply.host] / max(1, supply.capacity_bytes) for supply in supplies), default=0.0
    )
    return load + WISHED * _broken(placed, demands, supplies)


def _broken(placed: Placement, demands: Sequence[Demand], supplies: Sequence[Supply]) -> int:
    """How many nodes stand where a wish forbids it."""
    if not any(demand.wishes for demand in demands):
        return 0
    where = {supply.host: supply.domains or Domains(supply.host) for supply in supplies}
    met: Counter[tuple[str, str]] = Counter()
    for demand in demands:
        place = where.get(placed.hosts.get(demand.node, ""))
        if place is not None:
            met.update((group.key, place.of(group.by)) for group in demand.wishes)
    return sum(count - 1 for count in met.values())


def _once(
    demands: Sequence[Demand],
    supplies: Sequence[Supply],
    order: Callable[[Demand], float | tuple[float, ...]],
    alike: float = 0.0,
) -> Placement:
    board = Board(supplies, demands)
    board.alike = alike
    reasons: dict[str, str] = {}
    free = [demand for demand in demands if not demand.fixed]
    for demand in demands:
        if demand.fixed in board.index:
            board.put(demand, board.index[demand.fixed])
    anew = []
    for demand in sorted(free, key=lambda demand: (bool(demand.beside), order(demand))):
        if (
            demand.prefer in board.index
            and not demand.beside
            and board.fits(demand, board.index[demand.prefer])
        ):
            # who stands somewhere stays, as long as nothing much better is seen at the end
            board.put(demand, board.index[demand.prefer])
        else:
            anew.append(demand)
    for demand in anew:
        scores = board.scores(demand)
        if not np.isfinite(scores).any():
            reasons[demand.node] = _why_not(demand, board)
        else:
            board.put(demand, _best(board, demand, scores))
    tied = {demand.beside for demand in free if demand.beside}
    _level(
        board,
        [
            demand
            for demand in free
            if demand.node in board.chosen
            and not demand.beside
            and demand.node not in tied
            and board.hosts[board.chosen[demand.node]].host != demand.prefer
        ],
    )
    _settle(
        board,
        [
            demand
            for demand in free
            if demand.node in board.chosen and not demand.beside and demand.node not in tied
        ],
    )
    return Placement({node: board.hosts[at].host for node, at in board.chosen.items()}, reasons)


def _settle(board: Board, movable: Sequence[Demand]) -> None:
    """Move nodes for which another host is clearly better, until none is: planning again from there
    moves no node. Never makes the fullest host fuller.
    """
    least = min((demand.memory_bytes for demand in movable), default=0)
    for _ in range(PASSES):
        moved = False
        for demand in movable:
            at = board.chosen[demand.node]
            crowded = bool(board.alone) and board.own[at] > 1
            if not crowded and board.used[at] / board.capacity[at] <= max(
                board.alike, float(np.min((board.used + least) / board.capacity)) + STAY
            ):
                # most nodes: no host whatever is so much better
                continue
            board.put(demand, at, -1)
            scores = board.scores(demand)
            to = int(np.argmin(scores))
            to = to if scores[to] < scores[at] - STAY else at
            board.put(demand, to)
            moved |= to != at
        if not moved:
            return


def _best(board: Board, demand: Demand, scores: NDArray[np.float64]) -> int:
    """The least loaded host, unless the node stands well where it is, or belongs beside another."""
    best = _least(board, demand, scores)
    other = board.chosen.get(demand.beside)
    if other is not None and np.isfinite(scores[other]):
        return other
    there = board.index.get(demand.prefer)
    return there if there is not None and scores[there] <= scores[best] + STAY else best


def _least(board: Board, demand: Demand, scores: NDArray[np.float64]) -> int:
    """The least loaded host; among those that are alike, the one with fewest of the node's role."""
    if board.alike and not demand.apart and demand.role in board.roles:
        fewest = np.where(scores <= board.alike, board.roles[demand.role] + scores / 1024, np.inf)
        at = int(np.argmin(fewest))
        if np.isfinite(fewest[at]):
            return at
    return int(np.argmin(scores))


def _level(board: Board, movable: Sequence[Demand]) -> None:
    """Move single nodes off the most loaded host, or exchange one, as long as that lowers the worst
    load.
    """
    by_host: dict[int, list[Demand]] = {}
    for demand in movable:
        by_host.setdefault(board.chosen[demand.node], []).append(demand)
    for _ in range(ROUNDS):
        filled = [host for host, own in by_host.items() if own]
        if not filled:
            return
        load = board.used / board.capacity
        worst = max(sorted(filled), key=lambda host: load[host])
        if load[worst] <= board.alike:
            return
        best: tuple[float, Demand, int] | None = None
        for demand in by_host[worst]:
            board.put(demand, worst, -1)
            scores = board.scores(demand)
            board.put(demand, worst)
            to = int(np.argmin(scores))
            if (
                to != worst
                and scores[to] < load[worst] - 1e-9
                and (best is None or scores[to] < best[0])
            ):
                best = (float(scores[to]), demand, to)
        if best is not None:
            _move(board, by_host, best[1], best[2])
            continue
        pair = _swap(board, by_host, worst, float(load[worst]))
        if pair is None:
            return
        there = board.chosen[pair[1].node]
        # off first, so that two of a group never stand on one host
        board.put(pair[1], there, -1)
        by_host[there].remove(pair[1])
        _move(board, by_host, pair[0], there)
        board.put(pair[1], worst)
        by_host[worst].append(pair[1])


def _move(board: Board, by_host: dict[int, list[Demand]], demand: Demand, to: int) -> None:
    at = board.chosen[demand.node]
    board.put(demand, at, -1)
    board.put(demand, to)
    by_host[at].remove(demand)
    by_host.setdefault(to, []).append(demand)


def _swap(
    board: Board, by_host: Mapping[int, list[Demand]], worst: int, load: float
) -> tuple[Demand, Demand] | None:
    """The exchange of a node of the worst host against a smaller one elsewhere that leaves the
    lowest load on both; None when none helps.
    """
    best: tuple[float, Demand, Demand] | None = None
    for demand in by_host[worst]:
        for host, others in by_host.items():
            if host == worst or not board.carries[demand.networks][host]:
                continue
            for other in others:
                more = demand.memory_bytes - other.memory_bytes
                if (
                    more <= 0
                    or board.room[host] < more
                    or not board.carries[other.networks][worst]
                    or not _both_fit(board, demand, other, worst, host)
                ):
                    continue
                if not board.exchangeable(demand, other):
                    continue
                after = max(
                    (board.used[worst] - more) / board.capacity[worst],
                    (board.used[host] + more) / board.capacity[host],
                )
                if after < load - 1e-9 and (best is None or after < best[0]):
                    best = (float(after), demand, other)
    return (best[1], best[2]) if best else None


def _both_fit(board: Board, mine: Demand, other: Demand, here: int, there: int) -> bool:
    """Whether vCPUs and disks allow the exchange."""
    return bool(
        board.vcpus[there] >= mine.vcpu - other.vcpu
        and board.vcpus[here] >= other.vcpu - mine.vcpu
        and board.disk[there] >= mine.disk_bytes - other.disk_bytes
        and board.disk[here] >= other.disk_bytes - mine.disk_bytes
    )


def _why_not(demand: Demand, board: Board) -> str:
    """In words: what a host would need, how many have each of it, and that none has all."""
    if not board.hosts:
        return "the bay has no host whose facts are known"
    needs: list[tuple[str, NDArray[np.bool_], str]] = [
        (
            f"{size_text(demand.memory_bytes)} of memory free",
            board.room >= demand.memory_bytes,
            f"without {size_text(demand.memory_bytes)} of free memory",
        )
    ]
    for name in demand.networks:
        carries = np.array([name in supply.networks for supply in board.hosts], dtype=bool)
        needs.append((f"network {name}", carries, f"without network {name}"))
    needs.append(
        (
            f"{demand.vcpu} vCPU left",
            board.vcpus >= demand.vcpu,
            f"without {demand.vcpu} vCPU left at this overcommit",
        )
    )
    needs.append(
        (
            f"{size_text(demand.disk_bytes)} of disk free",
            board.disk >= demand.disk_bytes,
            f"without {size_text(demand.disk_bytes)} of free disk",
        )
    )
    for group in demand.kept:
        if group.must:
            where = "" if group.by == "host" else f" in its {group.by}"
            needs.append(
                (
                    f"no node {group.words}{where} yet",
                    board.neighbours(group) == 0,
                    f"with a node {group.words}{where} already",
                )
            )
    short = [(want, have, lack) for want, have, lack in needs if not have.all()]
    told = ", ".join(f"{int((~have).sum())} {lack}" for _, have, lack in short)
    who = (
        f"role {demand.role} needs a host with {' and '.join(want for want, _, _ in short)}; "
        if demand.role and short
        else ""
    )
    return f"{who}no host of {len(board.hosts)} fits: {told}"


@dataclass(frozen=True)
class Spread:
    """How even a placement is. Loads are shares of a host's memory; `bound`: no placement whatever
    has a lower worst load; `gap` between them.
    """

    worst_load: float
    bound: float
    gap: float


def spread(hosts: Mapping[str, tuple[int, int]], demands: Sequence[tuple[str, int]]) -> Spread:
    """The worst load after placing, against the fluid lower bound. `hosts`: name → (capacity, used
    before) in bytes; `demands`: (host, bytes).

    The bound pours all demand over the hosts as if it were water: no host that is fuller already
    gets any. It ignores rules and grain, so it
    can only be too low. Cost: O(hosts × log hosts + nodes).
    """
    capacity = {name: max(1, whole) for name, (whole, _) in hosts.items()}
    used = {name: before for name, (_, before) in hosts.items()}
    total = 0
    for name, memory in demands:
        if name in used:
            used[name] += memory
            total += memory
    if not hosts:
        return Spread(0.0, 0.0, 0.0)
    worst = max(used[name] / capacity[name] for name in hosts)
    bound = max(
        fluid(hosts, total), max(before / capacity[name] for name, (_, before) in hosts.items())
    )
    return Spread(round(worst, 6), round(bound, 6), round(worst / bound - 1 if bound else 0.0, 6))


def fluid(hosts: Mapping[str, tuple[int, int]], total: int) -> float:
    """The level that `total` bytes reach when poured over the hosts, as a share of capacity."""
    ranked = sorted(
        (before / max(1, whole), max(1, whole), before) for whole, before in hosts.values()
    )
    capacity, used, level = 0, 0, 0.0
    for number, (_, whole, before) in enumerate(ranked):
        capacity, used = capacity + whole, used + before
        level = (used + total) / capacity
        if number + 1 == len(ranked) or level <= ranked[number + 1][0]:
            break
    return level
