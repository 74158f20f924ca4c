"""The steps of a change to a deployment: of the sequence that would build all of it, the part that
new nodes need; then what takes others away. Pure.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from heapq import heappop, heappush
from typing import Final

from nimble_stone.core import admission, drive_choice
from nimble_stone.core.deployment import Changes, Move
from nimble_stone.core.kit.changing import Changing
from nimble_stone.core.kit.membership import Leaving
from nimble_stone.core.kit.systems import ITSELF
from nimble_stone.core.machine_sequence import OWN_DRIVES, WRITES
from nimble_stone.core.plan.columns import SYSTEM_DRIVE
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.step import Step, make

REMOVE_S = 6.0
"""How long stopping a VM and deleting its disks takes."""
WITHOUT, STILL, BEFORE = "without", "still", "before"
"""In a step's detail: nodes that its checks leave out, nodes that go and are still there, and
whether nodes that are restarted later are checked as they were before the change.
"""
RECONFIGURE: Final = "reconfigure"
UUID = "uuid"
"""In a step's detail: the VM that is adopted."""
LOST = "lost"
"""In a step's detail: the node's host is lost, and is not asked for anything."""
STAYS = "stays"
"""In a step's detail: the node, on a bare machine, is only away while its system is written."""
OLD = "old"
"""In a step's detail: it is about the node as it stood before the change."""


def of_change(
    sheet: Sheet,
    found: Changes,
    whole: Sequence[Step],
    *,
    pace: float = 1.0,
    drives: Mapping[str, int] | None = None,
) -> list[Step]:
    """The steps, in an order that respects their dependencies. `whole`: the steps that would build
    all of the sheet; `drives`: serial number → bytes, of drives in bare machines. What is added
    comes before what is removed, so that there is never less than need be; a node that is made
    again is removed first. One is removed after the other.

    Cost: O(steps × log steps + dependencies).
    """
    if found.adopts:
        return _adopting(sheet, found, whole, pace)
    if found.repairs:
        return _repairing(sheet, found, whole, pace)
    if found.stage:
        return _only(whole, lambda step: step.detail.get("stage") == found.stage)
    parts: dict[str, list[Step]] = defaultdict(list)
    for step in whole:
        parts[step.node].append(step)
    steps, before = _reset(sheet, found, parts, pace)
    redone, before = _redone(sheet, found, parts, before, pace)
    steps += [_over_itself(step, sheet, found, drives or {}) for step in redone]
    known = {step.key for step in steps}
    kept = _needed({*found.adds, *found.in_place}, whole)
    new = [step for step in kept if step.key not in known and step.node not in found.in_place]
    # who is new comes when all that are made again are back
    steps += [_after_others(step, before, new) if step.node in found.adds else step for step in new]
    steps = _admitted(sheet, found, steps, pace)
    before = (*before, *(step.key for step in steps if step.key not in known))
    growing = [
        _growing(sheet.by_id[ident], found, before, pace)
        for ident in dict.fromkeys(one.node for one in found.grows)
    ]
    steps += growing
    before = (*before, *(step.key for step in growing))
    for ident in found.resizes:
        if _restarts(found, ident):
            # it had its size with its config ISO
            continue
        own = _resizing(sheet, found, ident, parts[ident], before, pace)
        steps += own
        before = (own[-1].key,)
    for move in found.moves:
        own = _moving(sheet, found, move, parts[move.node], before, pace)
        steps += own
        before = (own[-1].key,)
    for ident in found.removes:
        if ident in found.remade:
            continue
        steps += _away(sheet, found.standing[ident].node, before, pace)
        before = (steps[-1].key,)
    steps += _again(sheet, whole, steps)
    known = {step.key for step in steps}
    return _in_order(
        [replace(step, after=tuple(key for key in step.after if key in known)) for step in steps]
    )


def _reset(
    sheet: Sheet, found: Changes, parts: Mapping[str, Sequence[Step]], pace: float
) -> tuple[list[Step], tuple[str, ...]]:
    """Settings that get other values, one node after the other, first of all: what comes then goes
    by the new ones, such as a password. And what comes after all of them. `parts`: node → the steps
    that would build it.
    """
    steps: list[Step] = []
    before: tuple[str, ...] = ()
    password = sheet.kit.admin_password
    # whoever changes the password comes first: all others log in with the new one
    for changing in sorted(sheet.kit.changing, key=lambda one: password not in one.values):
        own = [one.node for one in found.alters if one.how == changing.id]
        if changing.way == "restart" and own and not any(s.kind == RECONFIGURE for s in steps):
            restarted = _restarted(sheet, found, parts, before, pace)
            steps += restarted
            before = (restarted[-1].key,)
        elif changing.way == "call":
            for ident in own[:1] if changing.once else own:
                steps.append(_altering(changing, sheet.by_id[ident], before, pace))
                before = (steps[-1].key,)
    return steps, before


def _restarted(
    sheet: Sheet,
    found: Changes,
    parts: Mapping[str, Sequence[Step]],
    before: tuple[str, ...],
    pace: float,
) -> list[Step]:
    """Nodes that start with a new config ISO, one after the other, whatever is new in it."""
    steps: list[Step] = []
    later = [one for one in found.reset if _restarts(found, one)]
    new = tuple(ident for ident in found.adds if ident not in found.removes)
    there = _Moment(new, _going(found), waiting=True)
    for ident in later:
        own = _reconfiguring(sheet, found, ident, parts[ident], before, pace)
        own += _healthy(sheet, sheet.by_id[ident], (own[-1].key,), pace, there, False)
        steps += own
        before = (own[-1].key,)
    return steps


def _restarts(found: Changes, ident: str) -> bool:
    return any(one.node == ident and one.way == "restart" for one in found.alters)


def _altering(changing: Changing, node: Node, before: tuple[str, ...], pace: float) -> Step:
    return make(
        "change",
        f"change/{changing.id}/{node.id}",
        changing.label,
        node,
        1,
        before,
        pace * changing.wait.expected,
        deadline=changing.wait.longest,
        detail={"changing": changing.id},
    )


def _reconfiguring(
    sheet: Sheet,
    found: Changes,
    ident: str,
    whole: Sequence[Step],
    before: tuple[str, ...],
    pace: float,
) -> list[Step]:
    """A node shuts down, gets its config ISO, and where it is resized its size, and is there
    again.
    """
    node, expected = sheet.by_id[ident], pace * (STOP_S + sheet.kit.durations.define)
    key = f"reconfigure/{ident}"
    own = [make(RECONFIGURE, key, "New config ISO", node, 1, before, expected)]
    if ident in found.resizes:
        own.append(_resize(found, node, (key,), pace))
    return _there_again(own, whole)


def _redone(
    sheet: Sheet,
    found: Changes,
    parts: Mapping[str, Sequence[Step]],
    before: tuple[str, ...],
    pace: float,
) -> tuple[list[Step], tuple[str, ...]]:
    """Nodes that are made again or get another system disk, one after the other, those first that
    others come after; and what comes after all of them.
    """
    steps: list[Step] = []
    waves = {node: max(step.wave for step in own) for node, own in parts.items() if own}
    touched = {*found.remade, *found.in_place}
    nodes = [node for node in sheet.nodes if node.id in touched]
    holds = _holding(sheet, found)
    new = tuple(ident for ident in found.adds if ident not in touched)
    absent = [*new, *found.lost]
    for node in sorted(nodes, key=lambda one: waves.get(one.id, 0)):
        # whose host is lost is not there until its turn has come
        absent = [one for one in absent if one != node.id]
        there = _Moment(tuple(absent), _going(found))
        own = list(parts[node.id])
        if node.id in found.in_place:
            steps += _swapping(sheet, node, own, before, pace)
        else:
            was = found.standing[node.id].node
            if node.id in found.rewritten:
                away = [_retire(was, before, pace, "Shut down", {STAYS: "yes"})]
            else:
                away = _away(sheet, was, before, pace, lost=node.id in found.lost)
            steps += [*away, *(_after_others(step, (away[-1].key,), own) for step in own)]
        before = (steps[-1].key,)
        if found.upgrades or len(nodes) > 1:
            looked = _healthy(sheet, node, before, pace, there, node.id in holds)
            steps += looked
            before = (looked[-1].key,) if looked else before
    return steps, before


def _over_itself(step: Step, sheet: Sheet, found: Changes, drives: Mapping[str, int]) -> Step:
    """What writes an image to a machine where the node was before may write over it: its drives
    hold what it left there. Those with data are wiped, unless the node stays in its cluster.
    """
    if step.kind not in WRITES or step.node not in found.remade:
        return step
    was, now = found.standing[step.node].node, sheet.by_id[step.node]
    if was.value("host") != now.value("host"):
        return step
    written, own = drive_choice.serials(now.value(SYSTEM_DRIVE)), drives_of(was)
    wiped = [
        one
        for one in dict.fromkeys((*written, *own))
        if one in own and one in drives and (one in written or step.node not in found.rewritten)
    ]
    known = {one: drives[one] for one in wiped}
    return replace(step, detail={**step.detail, OWN_DRIVES: json.dumps(known)})


def drives_of(node: Node) -> tuple[str, ...]:
    """Serial numbers of the drives that a node on a machine has, the system's first."""
    return (*drive_choice.serials(node.value(SYSTEM_DRIVE)), *node.extra_places)


def wiped_drives(steps: Iterable[Step]) -> dict[str, tuple[str, ...]]:
    """Node → serial numbers of its drives that are wiped whatever they hold. Cost: O(steps)."""
    return {
        step.node: tuple(json.loads(step.detail[OWN_DRIVES]))
        for step in steps
        if OWN_DRIVES in step.detail
    }


def _admitted(sheet: Sheet, found: Changes, steps: Sequence[Step], pace: float) -> list[Step]:
    """The steps so far, with those that let in nodes which are made."""
    if not sheet.kit.joining:
        return list(steps)

    def looks(node: Node, before: tuple[str, ...], joined: tuple[str, ...]) -> list[Step]:
        absent = (one for one in found.adds if one not in (*joined, *found.remade))
        there = _Moment(tuple(absent), _going(found))
        return _healthy(sheet, node, before, pace, there, False)

    return admission.admitted(sheet, found.adds, _in_order(steps), looks, pace)


def _in_order(steps: Sequence[Step]) -> list[Step]:
    """As they are written, each after those that it waits for. Cost: O(steps × log steps)."""
    place = {step.key: number for number, step in enumerate(steps)}
    waits = {step.key: len(step.after) for step in steps}
    followers: dict[str, list[str]] = defaultdict(list)
    for step in steps:
        for key in step.after:
            followers[key].append(step.key)
    ready = [place[key] for key, number in waits.items() if not number]
    found = []
    while ready:
        step = steps[heappop(ready)]
        found.append(step)
        for key in followers[step.key]:
            waits[key] -= 1
            if not waits[key]:
                heappush(ready, place[key])
    # a ring has no order; its steps are shown nevertheless
    return [*found, *(step for step in steps if waits[step.key])]


ANSWERS = ("boot", "services")
"""Kinds of steps that wait until a node answers."""
MARK_S = 2.0


def _adopting(sheet: Sheet, found: Changes, whole: Sequence[Step], pace: float) -> list[Step]:
    """Each VM is marked, then answers as the kit says; nothing else is done to it."""
    steps = []
    for ident, vm in found.adopts.items():
        node = found.standing[ident].node
        key = f"adopt/{ident}"
        steps.append(
            make("adopt", key, "Mark VM", node, 1, (), pace * MARK_S, detail={UUID: vm.uuid})
        )
        before = (key,)
        for step in whole:
            if step.node == ident and step.kind in ANSWERS:
                host, store = node.value("host"), node.value("datastore")
                steps.append(replace(step, after=before, wave=1, host=host, datastore=store))
                before = (step.key,)
    return steps


REPAIRS = ("define", "start", "learn", "boot", "services")
"""Kinds of steps that put a node's VM back: each looks first, and does only what is not so."""


def _repairing(sheet: Sheet, found: Changes, whole: Sequence[Step], pace: float) -> list[Step]:
    """Each step looks first, and does only what is not so. Nodes whose size is put back restart:
    one after the other, when all others are there again.
    """
    steps = _only(
        whole,
        lambda one: one.node in set(found.repairs) - set(found.sized) and one.kind in REPAIRS,
    )
    before = tuple(step.key for step in steps)
    for ident in found.sized:
        define, *rest = [step for step in whole if step.node == ident and step.kind in REPAIRS]
        own = [replace(define, after=before)]
        own.append(_resize(found, found.standing[ident].node, (define.key,), pace))
        own = _there_again(own, rest)
        if ident != found.sized[-1]:
            own += _healthy(sheet, sheet.by_id[ident], (own[-1].key,), pace, _Moment(), False)
        steps += own
        before = (own[-1].key,)
    return steps


def _only(whole: Sequence[Step], wanted: Callable[[Step], bool]) -> list[Step]:
    steps = [step for step in whole if wanted(step)]
    known = {step.key for step in steps}
    return [replace(step, after=tuple(key for key in step.after if key in known)) for step in steps]


GROW_S = 3.0
"""How long a disk usually takes to grow, or to be added."""
NEW, LARGER = "new", "larger"
"""In a step's detail: disks that a node gets, and those that grow."""


def _growing(node: Node, found: Changes, before: tuple[str, ...], pace: float) -> Step:
    own = [one for one in found.grows if one.node == node.id]
    new = ",".join(one.disk for one in own if not one.was_bytes)
    larger = ",".join(one.disk for one in own if one.was_bytes)
    label = "Grow disks"
    if new:
        label = "Grow and add disks" if larger else "Add disks"
    detail = {key: disks for key, disks in ((NEW, new), (LARGER, larger)) if disks}
    key = f"grow/{node.id}"
    return make("grow", key, label, node, 1, before, pace * GROW_S, detail=detail)


STOP_S = 20.0
"""How long a system usually takes to shut down."""
RESTARTS = ("start", "learn", "boot", "services")
"""Kinds of steps after which a node that was off is there again."""


def _resizing(
    sheet: Sheet,
    found: Changes,
    ident: str,
    whole: Sequence[Step],
    before: tuple[str, ...],
    pace: float,
) -> list[Step]:
    """A node shuts down, gets its size, and is there again; then the cluster is well again, before
    the next one.
    """
    node = sheet.by_id[ident]
    own = _there_again([_resize(found, node, before, pace)], whole)
    there = _Moment(still=_going(found))
    return [*own, *_healthy(sheet, node, (own[-1].key,), pace, there, False)]


def _there_again(own: Sequence[Step], part: Sequence[Step]) -> list[Step]:
    """Steps with which a node went off, and those after which it is there again. `part`: what would
    build the node.
    """
    found = list(own)
    for step in part:
        if step.kind in RESTARTS:
            found.append(replace(step, after=(found[-1].key,)))
    return found


def _resize(found: Changes, node: Node, before: tuple[str, ...], pace: float) -> Step:
    was = found.standing[node.id].node
    detail = {"was_vcpu": str(was.vcpu), "was_memory": str(was.memory_bytes)}
    key = f"resize/{node.id}"
    return make("resize", key, "Resize", node, 1, before, pace * STOP_S, detail=detail)


FROM_HOST, FROM_STORE = "from_host", "from_store"
"""In a step's detail: where a node was before it moved."""
COPY_BYTES_PER_S = 40 << 20


def _moving(
    sheet: Sheet,
    found: Changes,
    move: Move,
    whole: Sequence[Step],
    before: tuple[str, ...],
    pace: float,
) -> list[Step]:
    """A node shuts down, its disks go where it is planned, and it is there again; what it leaves
    behind is removed when the cluster is well.
    """
    node, key = sheet.by_id[move.node], f"move/{move.node}"
    detail = {FROM_HOST: move.was_host, FROM_STORE: move.was_store}
    seconds = STOP_S + node.thin_bytes / COPY_BYTES_PER_S
    own = [make("move", key, "Move", node, 1, before, pace * seconds, patience=60.0, detail=detail)]
    own = _there_again(own, whole)
    there = _Moment(still=_going(found))
    own += _healthy(sheet, node, (own[-1].key,), pace, there, False)
    last = (own[-1].key,)
    clear = f"clear/{move.node}"
    own.append(make("clear", clear, "Remove former disks", node, 1, last, pace, detail=detail))
    return own


def _going(found: Changes) -> tuple[str, ...]:
    """Nodes that are removed at the end."""
    return tuple(ident for ident in found.removes if ident not in found.remade)


@dataclass(frozen=True)
class _Moment:
    """Who is there between two steps: not yet the nodes that come later (`without`), still those
    that go at the end (`still`), and those whose turn comes as they were before (`waiting`).
    """

    without: tuple[str, ...] = ()
    still: tuple[str, ...] = ()
    waiting: bool = False

    @property
    def detail(self) -> dict[str, str]:
        """For a step's detail."""
        found = {
            WITHOUT: ",".join(self.without),
            STILL: ",".join(self.still),
            BEFORE: "yes" if self.waiting else "",
        }
        return {key: value for key, value in found.items() if value}


def _healthy(
    sheet: Sheet, node: Node, before: tuple[str, ...], pace: float, there: _Moment, hold: bool
) -> list[Step]:
    """The checks that must pass before the next node is touched; `hold`: a person looks as well."""
    checks = [one.id for one in sheet.kit.acceptance if one.id in sheet.kit.healthy]
    if not checks and not hold:
        return []
    detail = {"checks": ",".join(checks), **there.detail, **({"hold": "yes"} if hold else {})}
    return [
        make(
            "stage",
            f"healthy/{node.id}",
            "Cluster healthy" if checks else "First node upgraded",
            node,
            2,
            before,
            pace * 5.0,
            deadline=HEALTHY_S,
            waits=True,
            detail=detail,
        )
    ]


def _holding(sheet: Sheet, found: Changes) -> set[str]:
    """The first node of each role after whose upgrade the run holds."""
    first: dict[str, str] = {}
    for one in found.upgrades:
        said = sheet.kit.upgrading_of(one.role)
        if one.way and said is not None and said.hold:
            first.setdefault(one.role, one.node)
    return set(first.values())


HEALTHY_S = 600.0
"""How long the checks between two nodes may take to pass."""
PREPARES = ("clone", "medium", "boot-files")
"""Kinds of steps that prepare a new system disk while the old one is in use."""
SET_UP = (*RESTARTS, "host-keys", "first-password", "call")
"""Kinds of steps that a node goes through with a new system disk."""


def _swapping(
    sheet: Sheet, node: Node, own: Sequence[Step], before: tuple[str, ...], pace: float
) -> list[Step]:
    """A node shuts down, gets its new system disk, and is set up again. `own`: the steps that would
    build it.
    """
    found = [step for step in own if step.kind in PREPARES]
    after = (*(step.key for step in found), *before)
    expected = pace * (STOP_S + sheet.kit.durations.define)
    found.append(make("swap", f"swap/{node.id}", "Replace system disk", node, 1, after, expected))
    for step in own:
        if step.kind in SET_UP:
            others = tuple(key for key in step.after if not key.endswith(f"/{node.id}"))
            found.append(replace(step, after=(*others, found[-1].key)))
    return found


def _needed(nodes: Collection[str], whole: Sequence[Step]) -> list[Step]:
    """Steps of nodes that are made, and of those before them what serves several nodes: images on
    their datastores, and what a setup step of theirs is told by another node.
    """
    by_key = {step.key: step for step in whole}
    wanted = {step.key for step in whole if step.node and step.node in nodes}
    open_ = list(wanted)
    while open_:
        for key in by_key[open_.pop()].after:
            step = by_key.get(key)
            if step is not None and key not in wanted and _serves(step):
                wanted.add(key)
                open_.append(key)
    return [step for step in whole if step.key in wanted]


def _serves(step: Step) -> bool:
    if step.kind == "call":
        return bool(step.detail.get("keeps"))
    return not step.node


def _after_others(step: Step, others: tuple[str, ...], own: Iterable[Step]) -> Step:
    """A step that begins its node's own ones comes after `others`."""
    begins = not {one.key for one in own if one.node == step.node} & set(step.after)
    return replace(step, after=(*step.after, *others)) if begins else step


def _again(sheet: Sheet, whole: Sequence[Step], steps: Sequence[Step]) -> list[Step]:
    """Setup steps of the cluster that the kit repeats whenever its nodes change."""
    repeated = {one.id for one in sheet.kit.forming if one.again}
    before = tuple(step.key for step in steps)
    known = set(before)
    return [
        replace(step, after=before)
        for step in whole
        if step.detail.get("forming") in repeated and step.key not in known
    ]


def leaving_of(sheet: Sheet, node: Node, *, lost: bool = False) -> list[Leaving]:
    """What the kit asks for before a node may go; of one that is lost nothing is asked itself."""
    return [
        one
        for one in sheet.kit.leaving
        if node.has_any((one.role,))
        and not (lost and one.asks == ITSELF)
        and admission.can_be_asked(sheet, node, one.asks)
    ]


def _away(
    sheet: Sheet, node: Node, before: tuple[str, ...], pace: float, *, lost: bool = False
) -> list[Step]:
    """One node leaves, then it is removed; where its host is lost, what is there stays there."""
    steps = []
    for one in leaving_of(sheet, node, lost=lost):
        detail = {"leaving": one.id, "by": node.id, OLD: "yes"}
        steps.append(admission.step_of("leave", one, node, before, pace, detail))
        before = (steps[-1].key,)
    label = "Leave on lost host" if lost else "Remove"
    return [*steps, _retire(node, before, pace, label, {LOST: "yes"} if lost else {})]


def _retire(
    node: Node, before: tuple[str, ...], pace: float, label: str, detail: Mapping[str, str]
) -> Step:
    """What was made for a node is taken away."""
    seconds = pace * (STOP_S if STAYS in detail else REMOVE_S)
    key = f"retire/{node.id}"
    return make("retire", key, label, node, 1, before, seconds, detail={OLD: "yes", **detail})
