"""From how much there is to do to sizes and numbers of nodes, by the kit's own figures. Pure."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from nimble_stone.core.errors import InputError
from nimble_stone.core.kit import expression
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.roles import Role
from nimble_stone.core.kit.sizing import STORED_UNITS, Load, RoleSizing
from nimble_stone.core.package.model import Size
from nimble_stone.core.units import GIB, inside, size_text

CURVE = 24
"""Points of a curve at most."""
Stored = Mapping[str, Callable[[int], int]]
"""Role → what its data disks keep with so many nodes, one host lost (bytes); only roles that keep
data.
"""


@dataclass(frozen=True)
class Option:
    """So many nodes of a size: memory of all together in bytes, and what they carry, by load."""

    size: str
    count: int
    memory_bytes: int
    carries: Mapping[str, float]

    @property
    def cost(self) -> tuple[int, int]:
        """What options are ordered by: memory first, then how many nodes."""
        return self.memory_bytes, self.count


@dataclass(frozen=True)
class Proposal:
    """What is proposed for a role. `chosen` is None when nothing carries the loads; `refused` the
    next smaller option, `reason` why it will not do.
    """

    role: str
    label: str
    chosen: Option | None
    refused: Option | None
    reason: str
    curve: tuple[Option, ...]


def loads_of(kit: Kit, given: Mapping[str, float]) -> dict[str, float]:
    """The kit's loads with the numbers given, the usual ones for the rest. Raises InputError for a
    load the kit does not know or a number out of bounds.
    """
    known = {load.id: load for load in kit.sizing.loads} if kit.sizing else {}
    for ident, amount in given.items():
        if ident not in known:
            raise InputError(
                f"{kit.title} knows no load “{ident}”; it has {', '.join(known) or 'none'}",
                code="load-unknown",
            )
        if not 0 <= amount <= known[ident].most:
            raise InputError(
                f"{known[ident].label}: {amount:g} is not between 0 and {known[ident].most:g}",
                code="load-bounds",
            )
    return {load.id: float(given.get(load.id, load.usual)) for load in known.values()}


def propose(
    kit: Kit,
    sizes: Sequence[Size],
    given: Mapping[str, float],
    hosts: int | None = None,
    own: Mapping[str, Sequence[Size]] | None = None,
    stored: Stored | None = None,
) -> list[Proposal]:
    """A proposal for each role the kit sizes: the option with the least memory that carries every
    load.

    `hosts`: how many there are; nodes that stand apart cannot be more. None: not known.
    Cost: O(roles × sizes × nodes of the largest count). Raises InputError and, where a formula
    cannot be worked out, FormatError.
    """
    if kit.sizing is None:
        return []
    loads = loads_of(kit, given)
    counts: dict[str, float] = {f"count.{role.id}": float(role.count.usual) for role in kit.roles}
    found = []
    for role in kit.roles:
        sizing = kit.sizing.roles.get(role.id)
        if sizing is None:
            continue
        may = [
            size
            for size in (own or {}).get(role.id, sizes)
            if role.own_nodes and (not role.sizes or size.id in role.sizes)
        ]
        proposal = (
            _by_formula(role, sizing, may, loads | counts)
            if sizing.count
            else _by_loads(kit.sizing.loads, role, sizing, may, loads, hosts, stored or {})
        )
        if proposal.chosen:
            counts[f"count.{role.id}"] = float(proposal.chosen.count)
        found.append(proposal)
    return found


def _by_formula(
    role: Role, sizing: RoleSizing, sizes: Sequence[Size], inputs: Mapping[str, float]
) -> Proposal:
    count = int(expression.parse(sizing.count).number(inputs))
    size = next((one for one in sizes if one.default), sizes[0]) if sizes else None
    option = Option(size.id if size else "", count, (size.memory_bytes if size else 0) * count, {})
    if not role.count.allows(count):
        return Proposal(
            role.id,
            role.label,
            None,
            option,
            f"the formula asks for {count}; the product supports {role.count.words()}",
            (),
        )
    return Proposal(role.id, role.label, option, None, "", ())


@dataclass
class _Search:
    """What a search has come to: the cheapest option that carries everything, the cheapest one that
    would but for too few hosts, all that were tried, and those that are drawn.
    """

    best: Option | None = None
    crowded: Option | None = None
    tried: list[Option] = field(default_factory=list)
    curve: list[Option] = field(default_factory=list)

    def take(self, option: Option, most: int | None) -> None:
        """Note an option that carries everything."""
        if most is not None and option.count > most:
            if self.crowded is None or option.memory_bytes < self.crowded.memory_bytes:
                self.crowded = option
        elif self.best is None or option.cost < self.best.cost:
            self.best = option


def _search(
    loads: Sequence[Load],
    role: Role,
    sizing: RoleSizing,
    sizes: Sequence[Size],
    wanted: Mapping[str, float],
    most: int | None,
    stored: Stored,
) -> _Search:
    """Each size with rising counts, until one carries everything and enough is drawn."""
    found = _Search()
    for size in sorted(sizes, key=lambda one: one.memory_bytes):
        shown = 0
        reached = False
        for option in _options(loads, role, sizing, size, wanted, stored):
            found.tried.append(option)
            if shown < CURVE:
                found.curve.append(option)
                shown += 1
            if not reached and not _short(loads, option, wanted):
                reached = True
                found.take(option, most)
            if reached and shown >= min(CURVE, option.count + 2):
                break
    return found


def _by_loads(
    loads: Sequence[Load],
    role: Role,
    sizing: RoleSizing,
    sizes: Sequence[Size],
    wanted: Mapping[str, float],
    hosts: int | None,
    stored: Stored,
) -> Proposal:
    most = hosts if hosts is not None and (role.apart or role.count.per_host) else None
    found = _search(loads, role, sizing, sizes, wanted, most, stored)
    best, crowded, tried, curve = found.best, found.crowded, found.tried, found.curve
    if best is None:
        if crowded is not None:
            return Proposal(role.id, role.label, None, crowded, _crowd(crowded, most), tuple(curve))
        nearest = max(
            tried,
            key=lambda option: min(
                (
                    option.carries.get(load.id, 0.0) / max(wanted[load.id], 1e-9)
                    for load in loads
                    if load.id in option.carries
                ),
                default=0.0,
            ),
            default=None,
        )
        return Proposal(
            role.id,
            role.label,
            None,
            nearest,
            (
                _short(loads, nearest, wanted)
                if nearest
                else "the package offers no size the kit has figures for"
            ),
            tuple(curve),
        )
    if crowded is not None and crowded.memory_bytes < best.memory_bytes:
        return Proposal(
            role.id,
            role.label,
            best,
            crowded,
            f"{crowded.count} × {crowded.size}: {_crowd(crowded, most)}",
            tuple(curve),
        )
    smaller = max(
        (option for option in tried if option.memory_bytes < best.memory_bytes),
        key=lambda option: (option.memory_bytes, option.count),
        default=None,
    )
    reason = (
        f"{smaller.count} × {smaller.size}: {_short(loads, smaller, wanted)}" if smaller else ""
    )
    return Proposal(role.id, role.label, best, smaller, reason, tuple(curve))


def _crowd(option: Option, most: int | None) -> str:
    return f"needs {option.count} hosts, one per host; there are {most}"


def _options(
    loads: Sequence[Load],
    role: Role,
    sizing: RoleSizing,
    size: Size,
    wanted: Mapping[str, float],
    stored: Stored,
) -> Iterator[Option]:
    formulas = sizing.by_size.get(size.id, sizing.carries)
    keeps = stored.get(role.id)
    on_disks = [load for load in loads if load.stored]
    if not formulas and not (keeps and on_disks):
        return
    parsed = {load: expression.parse(formula) for load, formula in formulas.items()}
    for n in range(max(role.count.least, 0), role.count.most + 1):
        if role.count.allows(n):
            inputs = {
                **wanted,
                "n": float(n),
                "vcpu": float(size.vcpu),
                "memory_gib": size.memory_bytes / GIB,
            }
            carries = {load: formula.number(inputs) for load, formula in parsed.items()}
            if keeps:
                kept = keeps(n)
                carries |= {load.id: round(kept / STORED_UNITS[load.unit], 3) for load in on_disks}
            yield Option(size.id, n, n * size.memory_bytes, carries)


def _short(loads: Sequence[Load], option: Option, wanted: Mapping[str, float]) -> str:
    """What an option does not carry, in words; '' when it carries everything."""
    for load in loads:
        have = option.carries.get(load.id)
        if have is not None and have < wanted[load.id]:
            unit = f" {load.unit}" if load.unit else ""
            return f"carries {have:g}{unit} of {wanted[load.id]:g} {inside(load.label)}"
    return ""


def words(proposal: Proposal) -> str:
    """“archive: 3 × medium, 96 GiB; 2 × medium would not do: carries 140 of 200 gauges”."""
    if proposal.chosen is None:
        return f"{proposal.label}: no size is enough; {proposal.reason}"
    text = (
        f"{proposal.label}: {proposal.chosen.count} × {proposal.chosen.size},"
        f" {size_text(proposal.chosen.memory_bytes)}"
    )
    return text + (f"; smaller will not do, {proposal.reason}" if proposal.reason else "")
