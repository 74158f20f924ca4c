"""The one sentence that says where things stand, and the one sensible next thing. Pure words."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.deployment import Changes
from nimble_stone.core.findings import Edit, Finding
from nimble_stone.core.ledger import spread_text
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.run_words import Checks, RunWords, every
from nimble_stone.core.runs.states import RunState
from nimble_stone.core.units import count_text, inside, time_text


@dataclass(frozen=True)
class Action:
    """The next sensible thing. `kind` tells the page what to do: licence, cell, remedy, package,
    run, hold, resume, retry, look, prove, none.
    """

    kind: str
    label: str
    node: str = ""
    column: str = ""
    edit: Edit | None = None


@dataclass(frozen=True)
class Sentence:
    """`before` + **`strong`** + `after`, with a smaller line below, and the action."""

    before: str
    strong: str
    after: str
    below: str
    action: Action


def of_plan(
    sheet: Sheet,
    findings: Sequence[Finding],
    forecast_s: float,
    way: Sequence[str],
    changes: Changes | None = None,
) -> Sentence:
    """Where a plan stands; `changes`: what a run would change of what is deployed."""
    count = Counter(finding.severity for finding in findings)
    before = f"{spread_text(sheet)}. "
    below = f"expected {time_text(forecast_s)}" + (
        f" · critical path: {' → '.join(way)}" if way else ""
    )
    blockers = [finding for finding in findings if finding.severity == "blocker"]
    if changes is not None and not blockers:
        return _of_deployed(changes, below)
    if not blockers:
        strong = (
            "Ready to run"
            if not count["caution"]
            else f"Ready to run, with {count_text(count['caution'], 'caution')}"
        )
        return Sentence(before, strong, ".", below, Action("run", "Check and run"))
    first = blockers[0]
    more = len(blockers) - 1
    after = f" {count_text(more, 'more blocker')}." if more else " No other blockers."
    return Sentence(before, first.message, after, below, _remedy_of(first))


def _disks(changes: Changes) -> list[str]:
    grows = sum(bool(one.was_bytes) for one in changes.grows)
    new = len(changes.grows) - grows
    counted = ((grows, "to grow"), (new, "to add"))
    return [f"{count_text(count, 'disk')} {what}" for count, what in counted if count]


def _of_deployed(changes: Changes, below: str) -> Sentence:
    """Where a plan stands whose nodes are deployed."""
    before = f"{count_text(len(changes.standing), 'node')} deployed: "
    parts = []
    if upgraded := sum(bool(one.way) for one in changes.upgrades):
        parts.append(f"{upgraded} to upgrade to {_versions(changes)}, one after the other")
    if added := len(set(changes.adds) - set(changes.removes)):
        parts.append(f"{added} to add")
    if removed := len(set(changes.removes) - set(changes.adds)):
        parts.append(f"{removed} to remove")
    if moved := len(changes.moves):
        parts.append(f"{moved} to move, one after the other, each with a restart")
    if again := len(set(changes.remade) - {one.node for one in changes.upgrades}):
        parts.append(f"{again} to make again")
    parts += _disks(changes)
    if resized := len(changes.resizes):
        parts.append(f"{resized} to resize, one after the other, each with a restart")
    if settings := len({one.node for one in changes.alters if one.way != "again"}):
        parts.append(f"{settings} to get other settings")
    if not parts:
        return Sentence(before, "no node to add or remove", ".", "", Action("look", "Show run"))
    return Sentence(before, ", ".join(parts), ".", below, Action("run", "Check and change"))


def _versions(changes: Changes) -> str:
    """What nodes are upgraded to: “Gauge Collector 4.3.0”."""
    return ", ".join(dict.fromkeys(one.now for one in changes.upgrades if one.way))


def _remedy_of(finding: Finding) -> Action:
    kinds = {"licence": "licence", "package-missing": "package", "package-unfit": "package"}
    label = finding.remedy.label if finding.remedy else "Show where"
    if finding.remedy and finding.remedy.edit:
        return Action("remedy", label, finding.node, finding.column, finding.remedy.edit)
    if finding.code in kinds:
        return Action(kinds[finding.code], label)
    return Action("cell", label if len(label) <= 36 else "Show where", finding.node, finding.column)


def of_run(words: RunWords, below: str) -> Sentence:
    """Where a run stands, as its page begins."""
    return Sentence(
        words.before, words.strong, words.after, below, Action(words.action, words.label)
    )


def of_acceptance(sheet: Sheet, verdicts: Sequence[Verdict], run_state: str) -> Sentence:
    """Where the acceptance stands."""
    checks = checks_of({node.id: node.name for node in sheet.nodes}, verdicts)
    again = (
        Action("none", "")
        if run_state in (RunState.UNDOING, RunState.UNDONE)
        else Action("prove", "Run checks again")
    )
    if run_state in (RunState.UNDOING, RunState.UNDONE):
        old = (
            f" What is below was found before: {checks.all - checks.failed - checks.open} of"
            f" {count_text(checks.all, 'check')} passed."
            if verdicts
            else ""
        )
        return Sentence(
            "", "Rolled back." if run_state == RunState.UNDONE else "Rolling back.", old, "", again
        )
    if not verdicts:
        return Sentence(
            "",
            "No acceptance checks yet.",
            " They run when the deployment steps finish.",
            "",
            Action("none", ""),
        )
    if checks.failed:
        open_too = f", {checks.open} could not run" if checks.open else ""
        return Sentence(
            "",
            f"{checks.failed} of {count_text(checks.all, 'acceptance check')} failed{open_too}.",
            f" First: {checks.first_failed}.",
            "",
            again,
        )
    if checks.open:
        strong = (
            f"0 of {count_text(checks.all, 'acceptance check')} failed, {checks.open} could not"
            " run."
        )
        return Sentence("", strong, f" First: {checks.first_open}.", "", again)
    return Sentence(
        "",
        every(checks.all),
        f" {count_text(len(sheet.nodes), 'node')}.",
        "",
        again,
    )


def checks_of(names: Mapping[str, str], verdicts: Sequence[Verdict]) -> Checks:
    """Acceptance checks, counted, with the first of each kind of trouble in words. `names`: of
    nodes by id.
    """
    failed = [verdict for verdict in verdicts if not verdict.passed and verdict.checked]
    unknown = [verdict for verdict in verdicts if not verdict.checked]
    return Checks(
        len(verdicts),
        len(failed),
        len(unknown),
        (
            f"{names.get(failed[0].node, 'cluster')} {inside(failed[0].label)}, expected"
            f" {failed[0].expected}, found {failed[0].found}"
            if failed
            else ""
        ),
        (
            f"{names.get(unknown[0].node, 'cluster')} {inside(unknown[0].label)},"
            f" {unknown[0].found.removeprefix('not known: ')}"
            if unknown
            else ""
        ),
    )
