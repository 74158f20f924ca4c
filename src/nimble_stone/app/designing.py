"""What the pages and the command line ask about a design beyond the plan itself: sizes, losses,
places, layouts, differences. Thin over the core.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from pydantic import BaseModel, Field

from nimble_stone.app.application import Application
from nimble_stone.app.rates import measured_rates
from nimble_stone.core import chances, headroom, placement_why, sequence, sizing, storage_layout
from nimble_stone.core.errors import InputError
from nimble_stone.core.estate import Estate
from nimble_stone.core.findings import Edit
from nimble_stone.core.plan import machine_places, redundancy
from nimble_stone.core.plan.difference import Difference
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.step import Step
from nimble_stone.core.storage_layout import DataDisk, Layout, Scheme

MAX_PAIR_HOSTS = 40
"""Pairs are worked out for so many hosts at most: 780 pairs."""


class LossView(BaseModel):
    """The loss of hosts together; nodes by name."""

    hosts: list[str]
    nodes: list[str]
    fit: list[str]
    homeless: list[str]
    weight: str
    words: list[str]


class PlaceView(BaseModel):
    """A host as a place for a node."""

    host: str
    load: float
    fits: bool
    here: bool
    reason: str


class MoveView(BaseModel):
    node: str
    name: str
    host: str
    to: str


class BalanceView(BaseModel):
    """Moves, the fullest host's load before and after, and the edits that make them."""

    moves: list[MoveView]
    before: float
    after: float
    edits: list[Edit]


class OptionView(BaseModel):
    size: str
    count: int
    memory_bytes: int
    carries: dict[str, float]


class ProposalView(BaseModel):
    """What is proposed for a role, and the words for it."""

    role: str
    label: str
    chosen: OptionView | None
    refused: OptionView | None
    reason: str
    words: str
    curve: list[OptionView]


class LoadView(BaseModel):
    id: str
    label: str
    unit: str
    value: float
    most: float


class SizingView(BaseModel):
    """Loads, proposals, and the edits that would take them over."""

    loads: list[LoadView]
    proposals: list[ProposalView]
    edits: list[Edit]


class LayoutView(BaseModel):
    """A way to lay data on the plan's disks, sizes in bytes."""

    label: str
    domains: int
    disks: int
    raw_bytes: int
    usable_bytes: int
    safe_bytes: int
    wasted_bytes: int
    survives_domains: int
    survives_disks: int
    reason: str
    chosen: bool = False
    edits: list[Edit] = Field(default=[], description="What chooses it in the plan.")


class ChangeLine(BaseModel):
    about: str
    text: str
    label: str
    before: str
    after: str
    nodes: list[str]


class ChancesView(BaseModel):
    """How long a rollout takes, in seconds. `measured`: kind of step → factor that earlier runs on
    this estate showed.
    """

    expected_seconds: float
    p50_seconds: float
    p90_seconds: float
    critical_path: list[str]
    measured: dict[str, float]


def losses(sheet: Sheet, estate: Estate, together: int, only: Sequence[str]) -> list[LossView]:
    """Every host's loss, or every pair's. Raises InputError for too many pairs."""
    hosts = {node.value("host") for node in sheet.nodes}
    if together == 2 and len(only or hosts) > MAX_PAIR_HOSTS:
        raise InputError(
            f"the plan uses {len(hosts)} hosts; pairs are calculated for {MAX_PAIR_HOSTS} at most",
            code="pairs-many",
            hint="Name the hosts to check.",
        )
    names = {node.id: node.name for node in sheet.nodes}
    return [
        LossView(
            hosts=list(one.hosts),
            nodes=[names[i] for i in one.nodes],
            fit=[names[i] for i in one.fit],
            homeless=[names[i] for i in one.homeless],
            weight=one.weight,
            words=list(one.words),
        )
        for one in headroom.losses(
            sheet, headroom.on_shared(sheet, estate), together=together, only=only
        )
    ]


def places(sheet: Sheet, estate: Estate, node: str) -> list[PlaceView]:
    """Every host, or every machine, as a place for a node."""
    own = sheet.node(node)
    if own is not None and own.on_machine:
        found = machine_places.places(sheet, estate, own)
    else:
        hosts = {one.id: one.value("host") for one in sheet.nodes}
        found = placement_why.why(node, *sheet.board, hosts)
    return [PlaceView(**one.__dict__) for one in found]


def balance(sheet: Sheet) -> BalanceView:
    """Few moves that even the placement out."""
    found = placement_why.balance(
        *sheet.board, {node.id: node.value("host") for node in sheet.nodes}
    )
    names = {node.id: node.name for node in sheet.nodes}
    edits = [
        Edit(path=("nodes", move.node, key), value=value)
        for move in found.moves
        for key, value in (("host", move.to), ("datastore", None))
    ]
    return BalanceView(
        moves=[
            MoveView(node=m.node, name=names[m.node], host=m.host, to=m.to) for m in found.moves
        ],
        before=found.before,
        after=found.after,
        edits=edits,
    )


def _places_for(sheet: Sheet, estate: Estate) -> int:
    """How many hosts, or bare machines, the plan's nodes may be spread over."""
    if sheet.nodes and all(node.on_machine for node in sheet.nodes):
        return len(estate.writable(sheet.plan.bays))
    return len(sheet.board[1])


def sized(sheet: Sheet, estate: Estate, given: Mapping[str, float]) -> SizingView:
    """Proposals for loads; those that are not given come from the plan, then from the kit. Raises
    InputError, FormatError.
    """
    kit = sheet.kit
    if kit.sizing is None:
        return SizingView(loads=[], proposals=[], edits=[])
    loads = sizing.loads_of(kit, {**sheet.plan.load, **given})
    found = sizing.propose(
        kit,
        sheet.package.descriptor.sizes if sheet.package else (),
        loads,
        _places_for(sheet, estate) or None,
        {role: tuple(sheet.packages.sizes(role).values()) for role in sheet.packages.own},
        {role.id: grown for role in kit.roles if (grown := redundancy.growth(sheet, role.id))},
    )
    edits: list[Edit] = [
        Edit(path=("load", ident), value=value)
        for ident, value in loads.items()
        if ident in given or ident in sheet.plan.load
    ]
    for one in found:
        if one.chosen is not None:
            edits.append(Edit(path=("roles", one.role, "count"), value=one.chosen.count))
            if one.chosen.carries:
                edits.append(
                    Edit(path=("roles", one.role, "values", "size"), value=one.chosen.size)
                )
    return SizingView(
        loads=[
            LoadView(
                id=load.id, label=load.label, unit=load.unit, value=loads[load.id], most=load.most
            )
            for load in kit.sizing.loads
        ],
        proposals=[
            ProposalView(
                role=one.role,
                label=one.label,
                chosen=_option(one.chosen),
                refused=_option(one.refused),
                reason=one.reason,
                words=sizing.words(one),
                curve=[view for o in one.curve if (view := _option(o))],
            )
            for one in found
        ],
        edits=edits,
    )


def _option(option: sizing.Option | None) -> OptionView | None:
    return (
        None
        if option is None
        else OptionView(
            size=option.size,
            count=option.count,
            memory_bytes=option.memory_bytes,
            carries=dict(option.carries),
        )
    )


def layouts(sheet: Sheet) -> list[LayoutView]:
    """The ways the product knows, side by side on the plan's data disks, each host one failure
    domain.
    """
    return [
        _layout_view(one.layout).model_copy(update={"chosen": one.chosen, "edits": list(one.edits)})
        for one in redundancy.ways(sheet)
    ]


def layouts_of_bay(
    estate: Estate, bay: str, kind: str, least_bytes: int, most: int
) -> list[LayoutView]:
    """Schemes on the drives of a bay's bare machines and the free disks of its hosts, chosen by a
    rule; each machine one failure domain.

    Raises InputError when the bay has no such disk.
    """
    disks = [
        DataDisk(machine.name, drive.name, drive.size_bytes, drive.kind.upper())
        for machine in estate.machines
        if machine.bay == bay
        for drive in (
            estate.machine_facts[machine.name].drives
            if machine.name in estate.machine_facts
            else ()
        )
    ]
    disks += [
        DataDisk(host.name, disk.path, disk.size_bytes, "HDD" if disk.rotational else "SSD")
        for host in estate.bay(bay)
        for disk in (estate.facts[host.name].disks if host.name in estate.facts else ())
        if disk.use == "free"
    ]
    taken = storage_layout.chosen(
        disks, kind=kind.upper(), least_bytes=least_bytes, most_per_domain=most
    )
    if not taken:
        raise InputError(
            f"bay “{bay}” has no matching free disk; it has {len(disks)} at all",
            code="layout-empty",
        )
    return layouts_of(taken)


def layouts_of(
    disks: Sequence[DataDisk], schemes: Sequence[Scheme] = storage_layout.SCHEMES
) -> list[LayoutView]:
    """Schemes side by side."""
    return [_layout_view(one) for one in storage_layout.alternatives(disks, schemes)]


def _layout_view(found: Layout) -> LayoutView:
    return LayoutView(
        label=found.scheme.label,
        **{key: value for key, value in found.__dict__.items() if key != "scheme"},
    )


def difference_views(found: Sequence[Difference]) -> list[ChangeLine]:
    """For the page."""
    return [
        ChangeLine(
            about=one.about,
            text=one.text,
            label=one.label,
            before=one.before,
            after=one.after,
            nodes=list(one.nodes),
        )
        for one in found
    ]


async def chances_of(app: Application, steps: list[Step]) -> ChancesView:
    """The one forecast of a plan's steps (their expected times hold what earlier runs showed), and
    how late it may get.
    """
    limits = app.limiter.limits
    found = chances.chances(steps, limits, rounds=chances.rounds_for(len(steps)))
    expected = sequence.forecast(steps, limits).end_s
    return ChancesView(
        expected_seconds=expected,
        p50_seconds=found.p50_seconds,
        p90_seconds=max(expected, found.p90_seconds),
        critical_path=list(found.critical_path),
        measured=await measured_rates(app),
    )


def as_data(views: Sequence[BaseModel]) -> list[dict[str, Any]]:
    """For the command line."""
    return [view.model_dump(mode="json") for view in views]
