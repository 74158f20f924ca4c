"""What is said of a run: one table, by state, for page, lists, tab title and terminal. Pure.

Nothing else may put a run's state into words: a sentence that is true on the page is then true
everywhere.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass

from nimble_stone.core.runs.states import FINISHED, UNDER_WAY, RunState, StepState
from nimble_stone.core.units import count_text, inside, time_text


def every(checks: int) -> str:
    """All acceptance checks passed, in a sentence."""
    if checks == 1:
        return "1 acceptance check passed."
    return f"All {checks} acceptance checks passed."


@dataclass(frozen=True)
class Failed:
    """A step that failed, or one whose undoing failed: of which node (or host), and why."""

    where: str
    message: str


@dataclass(frozen=True)
class RunFacts:
    """How a run stands, counted. `now`: what goes on, in words; `left_s`: expected seconds to the
    end, None when it takes longer than expected; `reason`: why it is not driven, '' while it is;
    `changing`: nodes that stood before and are worked on; `left`: what a rollback left as it is;
    `stage`: the last stage of the setup that has ended.
    """

    state: str
    nodes: int = 0
    deployed: int = 0
    deploying: int = 0
    changing: int = 0
    running_steps: int = 0
    queued: str = ""
    now: str = ""
    left_s: float | None = None
    failed: Sequence[Failed] = ()
    undo_failed: Sequence[Failed] = ()
    skipped: Sequence[str] = ()
    left: Sequence[str] = ()
    stage: str = ""
    checks: int = 0
    checks_failed: int = 0
    checks_open: int = 0
    first_failed: str = ""
    first_open: str = ""
    undo_done: int = 0
    undo_all: int = 0
    removed: str = ""
    reason: str = ""


@dataclass(frozen=True)
class RunWords:
    """A run in words. `sentence` = before + **strong** + after; `action` names what the page may
    do, `label` its button; `short`, `plans`,
    `tab` and `line` are for lists, the plans' list, the tab's title and the terminal."""

    before: str
    strong: str
    after: str
    action: str
    label: str
    short: str
    plans: str
    tab: str
    line: str

    @property
    def sentence(self) -> str:
        """All of it."""
        return self.before + self.strong + self.after


def words_of(f: RunFacts) -> RunWords:
    """The row of the table that fits."""
    return _TABLE[RunState(f.state)](f)


def _share(f: RunFacts) -> str:
    return f"{f.deployed}/{f.nodes}"


def _nodes(f: RunFacts) -> str:
    return f"{f.deployed} of {count_text(f.nodes, 'node')} deployed"


def _counts(f: RunFacts) -> str:
    parts = [_nodes(f)]
    parts += [f"{f.deploying} deploying"] if f.deploying else []
    parts += [f"{f.changing} changing"] if f.changing else []
    parts += [f"{len(f.failed)} failed"] if f.failed else []
    return ", ".join(parts) + ". "


def _first(failed: Sequence[Failed]) -> str:
    one = failed[0]
    told_already = one.message.startswith(f"{one.where}: ")
    return f"{one.where}: {one.message}" if one.where and not told_already else one.message


def _left(f: RunFacts) -> str:
    return (
        "taking longer than expected" if f.left_s is None else f"about {time_text(f.left_s)} left"
    )


def _running(f: RunFacts) -> RunWords:
    share = _share(f)
    if f.failed:
        return RunWords(
            _counts(f),
            _first(f.failed),
            "",
            "retry",
            "Retry",
            f"deploying, {len(f.failed)} failed",
            f"deploying, {len(f.failed)} failed",
            f"! {share}",
            f"deploying {share}, {len(f.failed)} failed: {_first(f.failed)}",
        )
    if f.queued and not f.running_steps:
        return RunWords(
            _counts(f),
            f.queued,
            ".",
            "hold",
            "Hold",
            "deploying",
            f"deploying, {f.deployed} of {count_text(f.nodes, 'node')}",
            share,
            f"deploying {share}: {f.queued}",
        )
    return RunWords(
        _counts(f),
        _as_sentence(f.now) or "Starting",
        ".",
        "hold",
        "Hold",
        "deploying",
        f"deploying, {f.deployed} of {count_text(f.nodes, 'node')}",
        share,
        f"deploying {share}: {f.now or 'starting'}",
    )


def _trouble(f: RunFacts) -> RunWords:
    if f.reason and not f.failed:
        return RunWords(
            f"Stopped: {_counts(f)}",
            f.reason,
            "",
            "retry",
            "Retry",
            "needs attention",
            "needs attention: stopped",
            "! Stopped",
            f"stopped {_share(f)}: {f.reason}",
        )
    first = f": {_first(f.failed)}" if f.failed else ""
    many = f"needs attention: {count_text(len(f.failed), 'step')} failed"
    return RunWords(
        f"Stopped: {_counts(f)}",
        _first(f.failed) if f.failed else "",
        "",
        "retry",
        "Retry",
        "needs attention",
        many,
        "! Stopped",
        f"stopped {_share(f)}, {len(f.failed)} failed{first}",
    )


def _held(f: RunFacts) -> RunWords:
    share = _share(f)
    if f.failed:
        return RunWords(
            f"On hold. {_counts(f)}",
            _first(f.failed),
            "",
            "resume-retry",
            "Resume and retry",
            f"on hold, {len(f.failed)} failed",
            f"on hold, {len(f.failed)} failed",
            "! Hold",
            f"on hold {share}: {_first(f.failed)}",
        )
    if f.stage and not f.running_steps:
        return RunWords(
            f"{f.stage}. ",
            "On hold for you to look",
            f". {_counts(f)}".rstrip(),
            "resume",
            "Resume",
            "on hold",
            "on hold",
            f"Hold {share}",
            f"on hold {share}: {f.stage}",
        )
    if f.running_steps:
        many = count_text(f.running_steps, "running step")
        return RunWords(
            "Holding: ",
            f"{many} will finish",
            ", no new steps start.",
            "resume",
            "Resume",
            "holding",
            "on hold",
            f"Hold {share}",
            f"holding: {count_text(f.running_steps, 'step')} still running",
        )
    return RunWords(
        "",
        "On hold",
        f". {_nodes(f)}, nothing is running.",
        "resume",
        "Resume",
        "on hold",
        f"on hold, {f.deployed} of {count_text(f.nodes, 'node')}",
        f"Hold {share}",
        f"on hold {share}",
    )


def _proving(f: RunFacts) -> RunWords:
    checks = f"{count_text(f.checks, 'acceptance check')}" if f.checks else "acceptance checks"
    return RunWords(
        f"{_nodes(f)}. ",
        f"Running {checks}",
        ".",
        "none",
        "",
        "checking",
        "deployed, checking",
        "Checking",
        f"checking: {checks}",
    )


def _skips(f: RunFacts) -> str:
    return f", {count_text(len(f.skipped), 'step')} skipped by request" if f.skipped else ""


def _done(f: RunFacts) -> RunWords:
    skipped = f", {len(f.skipped)} skipped" if f.skipped else ""
    plans = (
        f"deployed, {count_text(len(f.skipped), 'step')} skipped"
        if f.skipped
        else "deployed, checks passed"
    )
    line = f"checks passed{skipped}: " + (
        f.skipped[0] if f.skipped else f"{count_text(f.nodes, 'node')}, {f.checks} of {f.checks}"
    )
    if not f.checks:
        return RunWords(
            f"{_nodes(f)}{_skips(f)}. ",
            "No acceptance checks were run",
            ".",
            "prove",
            "Run checks",
            f"deployed{skipped}",
            "deployed, not checked",
            "✓",
            "deployed, not checked",
        )
    return RunWords(
        f"{_nodes(f)}{_skips(f)}. ",
        every(f.checks),
        "",
        "acceptance",
        "Show acceptance",
        f"checks passed{skipped}",
        plans,
        "✓",
        line,
    )


def _unproved(f: RunFacts) -> RunWords:
    before = f"{_nodes(f)}{_skips(f)}. "
    if not f.checks_failed and f.checks_open:
        strong = f"0 of {f.checks} checks failed, {f.checks_open} could not run"
        return RunWords(
            before,
            strong,
            f": {f.first_open}" if f.first_open else ".",
            "acceptance",
            "Show acceptance",
            f"{f.checks_open} not checked",
            f"deployed, {f.checks_open} not checked",
            f"! {f.checks_open} open",
            f"checks incomplete: {f.checks_open} of {f.checks} not run",
        )
    open_too = f", {f.checks_open} could not run" if f.checks_open else ""
    after = f"; first: {f.first_failed}." if f.first_failed else "."
    return RunWords(
        before,
        f"{f.checks_failed} of {f.checks} acceptance checks failed{open_too}",
        after,
        "acceptance",
        "Show failed checks",
        f"{count_text(f.checks_failed, 'check')} failed",
        f"deployed, {count_text(f.checks_failed, 'check')} failed",
        f"! {f.checks_failed} failed",
        f"checks failed: {f.checks_failed} of {f.checks}",
    )


def _undoing(f: RunFacts) -> RunWords:
    share = f"{f.undo_done}/{f.undo_all}"
    why = _first(f.undo_failed) if f.undo_failed else f.reason
    if why:
        left = count_text(f.undo_all - f.undo_done, "step")
        return RunWords(
            "Rollback stopped: ",
            why,
            f"{' ' if why.endswith('.') else '. '}{left} left.",
            "undo",
            "Continue rollback",
            "rollback stopped",
            "rollback stopped",
            "! Rollback",
            f"rollback stopped {share}: {why}",
        )
    return RunWords(
        "",
        "Rolling back",
        f": {f.undo_done} of {count_text(f.undo_all, 'step')} undone.",
        "none",
        "",
        "rolling back",
        "rolling back",
        f"Rollback {share}",
        f"rolling back {share}",
    )


def _undone(f: RunFacts) -> RunWords:
    what = f" {f.removed}." if f.removed else ""
    if f.left:
        more = f"; and {len(f.left) - 1} more" if len(f.left) > 1 else ""
        what += f" Not undone: {f.left[0]}{more}."
    return RunWords(
        "",
        "Rolled back.",
        what,
        "none",
        "",
        "rolled back",
        "rolled back",
        "Rolled back",
        "rolled back",
    )


_TABLE: dict[RunState, Callable[[RunFacts], RunWords]] = {
    RunState.RUNNING: _running,
    RunState.TROUBLE: _trouble,
    RunState.HELD: _held,
    RunState.CHECKING: _proving,
    RunState.DONE: _done,
    RunState.UNPROVED: _unproved,
    RunState.UNDOING: _undoing,
    RunState.UNDONE: _undone,
}
STATES = tuple(_TABLE)


@dataclass(frozen=True)
class StepSeen:
    """A step as it is counted: `node` and `where` (its name), `undo_failed`: its undoing failed,
    not it itself.
    """

    node: str
    where: str
    label: str
    kind: str
    state: str
    message: str = ""
    undo_failed: bool = False
    overdue: bool = False


@dataclass(frozen=True)
class Checks:
    """Acceptance checks, counted."""

    all: int = 0
    failed: int = 0
    open: int = 0
    first_failed: str = ""
    first_open: str = ""


_DOING = {
    "clone": "creating disks",
    "medium": "writing config ISO",
    "define": "defining VM",
    "start": "starting VM",
    "unpack": "unpacking image",
    "insert": "inserting boot medium",
    "medium-boot": "booting from medium",
    "write": "writing image",
    "eject": "ejecting boot medium",
    "seed": "inserting config ISO",
    "power-on": "switching on",
    "unseed": "ejecting config ISO",
    "answer-room": "preparing installer",
    "insert-installer": "inserting installer",
    "install": "installing",
    "enroll": "adding host",
    "learn": "waiting for DHCP address",
    "boot": "waiting for boot",
    "host-keys": "waiting for SSH host key",
    "delay": "waiting as the package says",
    "stage": "checking",
    "resize": "resizing",
    "change": "changing settings",
    "reconfigure": "changing settings",
    "grow": "growing disks",
    "swap": "replacing the system disk",
    "move": "moving",
    "clear": "removing the former disks",
    "boot-files": "copying what VMs start from",
    "installer-medium": "copying the installer's answers",
    "install-vm": "installing",
    "vm-eject": "removing the installer",
    "first-password": "changing the first password",
    "names": "creating name records",
    "services": "waiting for services",
}


def facts_of(
    state: str,
    steps: Sequence[StepSeen],
    checks: Checks = Checks(),
    *,
    left_s: float = 0.0,
    queued: Sequence[str] = (),
    told: str = "",
    reason: str = "",
    others: Collection[str] = (),
) -> RunFacts:
    """Count a run's steps. `others`: nodes that were deployed before. `queued`: for each
    step that waits for a slot, which limit keeps it;
    `told`: how far the step that is shown is; `reason`: why the run is not driven.
    """
    per_node: dict[str, list[str]] = {node: [] for node in others}
    changed = {
        step.node for step in steps if step.kind in CHANGES and step.state != StepState.PLANNED
    }
    # a node that stands is deployed until its turn has come
    waits = set(others) - changed
    leaving = {step.node for step in steps if step.kind == "retire"}
    made = {step.node for step in steps if step.kind in ("start", "power-on", "unseed")}
    for step in steps:
        if step.node and step.node not in leaving - made:
            per_node.setdefault(step.node, []).append(step.state)
    busy = [step for step in steps if step.state in UNDER_WAY]
    active = [step for step in steps if step.state != StepState.PLANNED]
    shown = next(
        (step for step in busy if step.state == StepState.WAITING), busy[0] if busy else None
    )
    undone = [
        step.kind for step in steps if step.state == StepState.UNDONE and not step.undo_failed
    ]
    stages = [
        (f"{step.where}: {inside(step.label)}" if step.where else step.label)
        + (f": {step.message}" if step.message else "")
        for step in steps
        if step.kind == "stage" and step.state == StepState.DONE
    ]
    return RunFacts(
        state,
        nodes=len(per_node),
        deployed=sum(
            node in waits or all(s in FINISHED for s in states) for node, states in per_node.items()
        ),
        deploying=sum(_goes_on(states) for node, states in per_node.items() if node not in others),
        changing=sum(
            _goes_on(states)
            for node, states in per_node.items()
            if node in changed.intersection(others)
        ),
        running_steps=len(busy),
        queued=f"{count_text(len(queued), 'step')} queued: {queued[0]}" if queued else "",
        now=_doing(shown, told) if shown else "",
        left_s=None if any(step.overdue for step in busy) else left_s,
        failed=[
            Failed(step.where or step.label, step.message)
            for step in steps
            if step.state == StepState.FAILED and not step.undo_failed
        ],
        undo_failed=[
            Failed(step.where or step.label, step.message)
            for step in steps
            if step.undo_failed and step.state == StepState.FAILED
        ],
        left=[
            f"{step.where + ': ' if step.where else ''}{step.label}: {step.message}"
            for step in steps
            if step.undo_failed and step.state == StepState.UNDONE
        ],
        skipped=[
            f"{step.where + ': ' if step.where else ''}{step.label}: {step.message}"
            for step in steps
            if step.state == StepState.SKIPPED
        ],
        checks=checks.all,
        checks_failed=checks.failed,
        checks_open=checks.open,
        first_failed=checks.first_failed,
        first_open=checks.first_open,
        reason=reason,
        stage=stages[-1] if stages else "",
        undo_done=sum(step.state == StepState.UNDONE for step in active),
        undo_all=len(active),
        removed=_removed(undone.count("define"), undone.count("medium-boot")),
    )


CHANGES = (
    "swap",
    "move",
    "resize",
    "grow",
    "change",
    "reconfigure",
    "leave",
    "retire",
    "define",
    "start",
)
"""Kinds of steps with which the work on a node that stands begins."""


def _goes_on(states: Sequence[str]) -> bool:
    return any(state in UNDER_WAY for state in states)


def _removed(vms: int, machines: int) -> str:
    """What a rollback deleted and switched off, '' nothing."""
    found = []
    if vms:
        what = "1 VM was deleted with its" if vms == 1 else f"{vms} VMs were deleted with their"
        found.append(f"{what} disks and config ISOs; images used elsewhere were kept")
    if machines == 1:
        found.append("1 machine is off; its drive keeps what was written")
    elif machines:
        found.append(f"{machines} machines are off; their drives keep what was written")
    return "; ".join(found)


def _as_sentence(now: str) -> str:
    """With a capital, unless it begins with a node's name."""
    return now if ": " in now else now[:1].upper() + now[1:]


def _doing(step: StepSeen, told: str) -> str:
    what = _DOING.get(step.kind, step.label[:1].lower() + step.label[1:])
    if step.kind == "carry":
        # runs of earlier versions call it otherwise
        what = step.label.replace("Copy image", "copying image", 1)
    more = f" ({told})" if told else ""
    return f"{step.where}: {what}{more}" if step.where else f"{what}{more}"


EVENTS: dict[str, str] = {
    "run-started": "started",
    "taken-up": "resumed after server restart",
    "driver-failed": "stopped: internal error",
    "taken-again": "taken up again",
    "going-on": "deploying",
    "stuck": "stopped: a step failed",
    "held": "on hold",
    "hold-asked": "hold requested",
    "resumed": "resumed",
    "kit-taken": "corrected kit taken over",
    "released": "looked at, to be continued",
    "retry-asked": "retry requested",
    "no-longer": "to be done again",
    "undo-asked": "rollback requested",
    "proving": "running acceptance checks",
    "proved": "all acceptance checks passed",
    "not-proved": "not all acceptance checks passed",
    "taken-back": "rolled back",
    "restored": "on hold: restored from a backup",
    "begun": "started",
    "acting": "acting",
    "done": "done",
    "failed": "failed",
    "skipped": "skipped",
    "try-again": "attempt failed, trying again",
    "undoing": "rolling back",
    "undone": "rolled back",
    "undo-failed": "rollback failed",
    "undo-left": "left as it is",
    "lost-contact": "lost contact, still waiting",
    "contact-again": "contact again",
    "wait-extended": "wait extended",
    "wait-end-asked": "wait ended",
}
"""Kinds of journal entries in words."""
