"""From a sheet to the sequence: steps with stable keys, dependencies, waves, limits and expected
times. Pure.

The preview a person sees is this very value; the engine carries out nothing else.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from heapq import heapreplace

from nimble_stone.core import machine_sequence, names, startup, vm_installing, vm_steps
from nimble_stone.core.estate import Estate
from nimble_stone.core.kit.setup import Stage
from nimble_stone.core.plan.sheet import Node, PackageView, Sheet, holding
from nimble_stone.core.step import Step, make

CARRY_BYTES_PER_S = 40 << 20
WORST = 2.5
EMULATED = 3.0
"""How much longer a guest takes to boot and to come up on a host without hardware virtualization.
"""


def paced(steps: Sequence[Step], rates: Mapping[str, float]) -> list[Step]:
    """The steps with expected times as this estate shows them. `rates`: kind of step → factor on
    what the kit says.
    """
    return [
        (
            replace(
                step,
                expected_s=min(step.expected_s * rates[step.kind], step.deadline_s),
                usual_s=step.expected_s,
            )
            if step.kind in rates
            else step
        )
        for step in steps
    ]


FIRST_S = 2.0
"""How long a password takes to be changed."""


@dataclass(frozen=True)
class Limits:
    """How many working steps at once: on one host, on one datastore, overall. Waits do not
    count.
    """

    per_host: int = 2
    per_datastore: int = 2
    overall: int = 24


@dataclass(frozen=True)
class Slot:
    """When a step is expected to run, seconds from the start of the run."""

    start_s: float
    end_s: float


@dataclass(frozen=True)
class Forecast:
    """Expected course: a slot per step, the end, the end at worst, and the longest way
    (step keys).
    """

    slots: Mapping[str, Slot]
    end_s: float
    worst_s: float
    critical: tuple[str, ...]


@dataclass(frozen=True)
class Wave:
    """What goes on at one time, roughly: what kinds of work, how many steps, and when, in seconds
    from the start of the run.
    """

    number: int
    labels: tuple[str, ...]
    steps: int
    from_s: float
    to_s: float


def waves(steps: Iterable[Step], course: Forecast) -> list[Wave]:
    """The sequence in short. Cost: O(steps)."""
    labels: dict[int, dict[str, None]] = {}
    spans: dict[int, tuple[int, float, float]] = {}
    for step in steps:
        slot = course.slots.get(step.key, Slot(0.0, 0.0))
        labels.setdefault(step.wave, {})[step.label] = None
        count, first, last = spans.get(step.wave, (0, slot.start_s, slot.end_s))
        spans[step.wave] = (count + 1, min(first, slot.start_s), max(last, slot.end_s))
    return [
        Wave(
            number,
            tuple(dict.fromkeys(label.partition(" to ")[0] for label in labels[number])),
            *spans[number],
        )
        for number in sorted(spans)
    ]


def build(sheet: Sheet, estate: Estate, *, pace: float = 1.0) -> list[Step]:
    """The steps of a run, in an order that respects their dependencies. `pace` scales expected
    times (the lab is faster).
    """
    hosted = [node for node in sheet.nodes if not node.on_machine]
    bare = [node for node in sheet.nodes if node.on_machine]
    steps: list[Step] = machine_sequence.unpacking(bare, sheet, estate, pace)
    stores = _stores(hosted, estate)
    installed = [node for node in hosted if machine_sequence.installer_of(sheet, node)]
    steps += vm_installing.shared(sheet, installed, stores, pace)
    # node → the step that brings what its disks are made from
    carried: dict[str, str] = {}
    first: dict[tuple[str, str], Node] = {}
    for node in [one for one in hosted if one not in installed]:
        package = sheet.packages.of(node.role)
        first.setdefault((stores[node.id], package.sha256 if package else ""), node)
        carried[node.id] = _carrying(stores[node.id], package, sheet)
    for (place, sha256), node in first.items():
        package = sheet.packages.of(node.role)
        other = package is not None and not _is_main(package, sheet)
        label = f"Copy image to {vm_steps.place_text(place)}" + (
            f" ({package.descriptor.product})" if other and package else ""
        )
        steps.append(
            make(
                "carry",
                carried[node.id],
                label,
                node,
                1,
                (),
                pace * (1 + (package.thin_bytes if package else 0) / CARRY_BYTES_PER_S),
                node="",
                patience=10.0,
                detail={"place": place, **({"package": sha256} if other else {})},
            )
        )
    boots = vm_steps.boot_files(sheet, hosted, stores, pace)
    steps += boots.values()
    services: dict[str, list[str]] = defaultdict(list)  # by role
    for node in sheet.nodes:
        for ident in node.roles:
            services[ident].append(f"services/{node.id}")
    depth = _depths(sheet)
    for node in bare:
        before = _before(sheet, node, services)
        steps += machine_sequence.of_node(sheet, node, estate, 2 + depth[node.role], before, pace)
    for node in hosted:
        installer = machine_sequence.installer_of(sheet, node)
        facts = estate.facts.get(node.value("host"))
        slower = EMULATED if facts is not None and facts.domain_type == "qemu" else 1.0
        before, wave = _before(sheet, node, services), 2 + depth[node.role]
        if installer is not None:
            boot = vm_steps.first_boot(sheet, node, wave, f"vm-eject/{node.id}", pace, slower)
            steps += vm_installing.of_node(
                sheet, node, installer, stores[node.id], wave, before, boot, pace
            )
            continue
        steps += vm_steps.node_steps(
            sheet, node, stores[node.id], carried[node.id], wave, before, pace, slower
        )
    steps = startup.in_order(sheet, steps, pace)
    steps = names.in_sequence(sheet, steps, pace)
    steps += _forming(sheet, depth, pace)
    steps += machine_sequence.enrolling(sheet, bare, estate, steps, pace)
    return _with_handover(sheet, steps)


def setup(sheet: Sheet, pace: float) -> list[Step]:
    """The steps of the kit's setup alone: first passwords, calls, ends of stages."""
    return _forming(sheet, _depths(sheet), pace)


def _before(sheet: Sheet, node: Node, services: Mapping[str, list[str]]) -> tuple[str, ...]:
    """What must answer before a node starts: the nodes of the roles that its own comes after."""
    role = sheet.kit.role(node.role)
    earlier = role.after if role else ()
    return tuple(key for one in earlier for key in services.get(one, ()))


def _stores(nodes: Iterable[Node], estate: Estate) -> dict[str, str]:
    """Node → the place its disk lies in: 'store' when shared, 'host:store' when local to
    one host.
    """
    places = {}
    for node in nodes:
        facts = estate.facts.get(node.value("host"))
        store = facts.datastore(node.value("datastore")) if facts else None
        places[node.id] = (
            node.value("datastore")
            if store and store.shared
            else f"{node.value('host')}:{node.value('datastore')}"
        )
    return places


def _depths(sheet: Sheet) -> dict[str, int]:
    """Role → how many roles must answer before it."""
    depth: dict[str, int] = {}

    def of(role: str, seen: tuple[str, ...] = ()) -> int:
        if role not in depth:
            found = sheet.kit.role(role)
            before = [
                of(other, (*seen, role))
                for other in (found.after if found else ())
                if other not in seen
            ]
            depth[role] = 1 + max(before, default=-1)
        return depth[role]

    for role in sheet.kit.roles:
        of(role.id)
    return depth


def _carrying(place: str, package: PackageView | None, sheet: Sheet) -> str:
    """Key of the step that brings a package's disks onto a place."""
    return (
        f"carry/{place}"
        if package is None or _is_main(package, sheet)
        else f"carry/{place}/{package.sha256[:12]}"
    )


def _is_main(package: PackageView, sheet: Sheet) -> bool:
    """Whether it is the plan's own package, be it with what a kit says of its hardware."""
    return sheet.package is not None and package.sha256 == sheet.package.sha256


def _forming(sheet: Sheet, depth: Mapping[str, int], pace: float) -> list[Step]:
    steps: list[Step] = []
    last = {node.id: f"services/{node.id}" for node in sheet.nodes}
    if first := sheet.kit.access.first_password:
        for node in sheet.nodes:
            key, wave = f"first-password/{node.id}", 2 + depth[node.role]
            steps.append(
                make(
                    "first-password",
                    key,
                    "First password",
                    node,
                    wave,
                    (last[node.id],),
                    pace * FIRST_S,
                    deadline=first.wait,
                )
            )
            last[node.id] = key
    top = 3 + max(depth.values(), default=0)
    stage = _Stages(sheet, pace)
    for forming in sheet.kit.forming:
        steps += stage.ended_before(forming.stage, top, last.values())
        nodes = (
            list(sheet.nodes[:1])
            if forming.role == "cluster"
            else list(sheet.carriers[forming.role])
        )
        nodes = holding(sheet, nodes, forming.when)
        for node in nodes:
            after = tuple(last.values()) if forming.role == "cluster" else (last[node.id],)
            after += tuple(
                step.key
                for step in steps
                if step.detail.get("forming") in forming.after and step.key not in after
            )
            after += tuple(
                step.key
                for step in steps
                if forming.call.uses.intersection(step.detail.get("keeps", "").split(","))
                and step.key not in after
            )
            after += stage.before
            key = f"{forming.id}/{'cluster' if forming.role == 'cluster' else node.id}"
            steps.append(
                make(
                    "call",
                    key,
                    forming.label,
                    node,
                    top if forming.role == "cluster" else 2 + depth[node.role],
                    after,
                    pace * forming.wait.expected,
                    deadline=forming.wait.longest,
                    node="" if forming.role == "cluster" else node.id,
                    detail={
                        "forming": forming.id,
                        "keeps": ",".join(forming.call.keeps),
                        "by": node.id,
                        **({"stage": forming.stage} if forming.stage else {}),
                    },
                )
            )
            last[node.id] = key
            stage.has(key)
    return steps + stage.ended_before("", top, last.values())


@dataclass(frozen=True)
class StageUse:
    """A stage of the setup, and how many of its steps and checks a plan has."""

    stage: Stage
    steps: int
    checks: int


def stages_of(sheet: Sheet) -> list[StageUse]:
    """The stages of which a plan has something: a step or a check of any node, or a person to wait
    for. Cost: O(stages × (steps + checks) × nodes).
    """
    found = []
    for stage in sheet.kit.stages:
        steps, checks = (
            sum(one.stage == stage.id and bool(holding(sheet, sheet.nodes, one.when)) for one in of)
            for of in (sheet.kit.forming, sheet.kit.acceptance)
        )
        if steps or checks or stage.hold:
            found.append(StageUse(stage, steps, checks))
    return found


class _Stages:
    """The ends of stages in the order of the setup: each comes after the stage's steps, and before
    those of the next one.
    """

    def __init__(self, sheet: Sheet, pace: float) -> None:
        self._sheet, self._pace = sheet, pace
        self._open = [one.stage for one in stages_of(sheet)]
        self._keys: list[str] = []
        self.before: tuple[str, ...] = ()

    def has(self, key: str) -> None:
        """A step since the last end of a stage."""
        self._keys.append(key)

    def ended_before(self, ident: str | None, wave: int, last: Iterable[str]) -> list[Step]:
        """The ends of the stages before one, '' all; `last`: the last step of each node so far."""
        found: list[Step] = []
        if ident and ident not in {one.id for one in self._open}:
            # a stage of which this plan has nothing
            return found
        while ident is not None and self._open and self._is_over(ident):
            stage, first = self._open.pop(0), self._sheet.nodes[0]
            checks = [one.id for one in self._sheet.kit.acceptance if one.stage == stage.id]
            detail = {"stage": stage.id, "by": first.id, "checks": ",".join(checks)}
            after = tuple(dict.fromkeys((*(self._keys or last), *self.before)))
            step = make(
                "stage",
                f"stage/{stage.id}",
                f"{stage.label} checked",
                first,
                wave,
                after,
                self._pace * stage.wait.expected,
                node="",
                deadline=stage.wait.longest,
                waits=True,
                # by: whether that node is on a machine tells which driver there is
                detail={**detail, "hold": "yes"} if stage.hold else detail,
            )
            found.append(step)
            self.before, self._keys = (step.key,), []
        return found

    def _is_over(self, ident: str) -> bool:
        return self._open[0].id != ident


def _with_handover(sheet: Sheet, steps: list[Step]) -> list[Step]:
    """Roles that come after another also wait for what that one keeps for them (its token), not
    only for its services.
    """
    roles = {node.id: node.role for node in sheet.nodes}
    keeps: dict[str, list[str]] = defaultdict(list)  # by role
    for step in steps:
        if step.detail.get("keeps"):
            keeps[roles.get(step.node, "")].append(step.key)
    out = []
    for step in steps:
        starts = step.kind in ("start", "power-on")
        role = sheet.kit.role(roles.get(step.node, "")) if starts else None
        extra = tuple(key for earlier in (role.after if role else ()) for key in keeps[earlier])
        out.append(replace(step, after=tuple(dict.fromkeys(step.after + extra))) if extra else step)
    return out


def _by_depth(steps: list[Step]) -> list[Step]:
    """Steps in the order of how many others must come before; those of one depth stay as they are.
    Cost: O(steps + dependencies).
    """
    depth: dict[str, int] = {}
    known = {step.key for step in steps}
    later: list[Step] = []
    # most sequences name their steps in order: one pass
    for step in steps:
        if all(key in depth or key not in known for key in step.after):
            depth[step.key] = 1 + max((depth.get(key, -1) for key in step.after), default=-1)
        else:
            later.append(step)
    while later:
        rest = []
        for step in later:
            if all(key in depth or key not in known for key in step.after):
                depth[step.key] = 1 + max((depth.get(key, -1) for key in step.after), default=-1)
            else:
                rest.append(step)
        if len(rest) == len(later):
            break  # a ring: its steps get no slot
        later = rest
    return sorted((step for step in steps if step.key in depth), key=lambda step: depth[step.key])


def forecast(
    steps: list[Step], limits: Limits = Limits(), done: Mapping[str, Slot] | None = None
) -> Forecast:
    """Play the sequence through with its expected times and limits. Cost: O(steps × log lanes +
    dependencies).

    `done`: slots of steps that are finished already, seconds from the start.
    """
    slots: dict[str, Slot] = dict(done or {})
    cause: dict[str, str] = {}
    hosts: dict[str, list[float]] = defaultdict(lambda: [0.0] * limits.per_host)
    overall = [0.0] * limits.overall
    for step in _by_depth(steps):
        if step.key in slots:
            continue
        start, blocker = 0.0, ""
        for key in step.after:
            slot = slots.get(key)
            if slot is not None and (slot.end_s, key) > (start, blocker):
                start, blocker = slot.end_s, key
        if not step.waits:
            # a node without a host yet will have one, with lanes of its own
            lane = hosts[step.host] if step.host else overall
            start = max(start, lane[0], overall[0])
            if lane is not overall:
                heapreplace(lane, start + step.expected_s)
            heapreplace(overall, start + step.expected_s)
        slots[step.key] = Slot(start, start + step.expected_s)
        cause[step.key] = blocker
    if not slots:
        return Forecast({}, 0.0, 0.0, ())
    last = max(slots, key=lambda key: slots[key].end_s)
    way = [last]
    while cause.get(way[-1]):
        way.append(cause[way[-1]])
    end = slots[last].end_s
    return Forecast(slots, end, end * WORST, tuple(reversed(way)))
