"""The one sentence that says where things stand, and the one sensible next thing. Pure words."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.findings import Edit, Finding
from nimble_stone.core.ledger import spread_text
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.units import count_text, inside, time_text

_WORDS = ("No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten", "Eleven", "Twelve")


@dataclass(frozen=True)
class Action:
    """The next sensible thing. `kind` tells the page what to do: licence, cell, remedy, package, run, hold, resume, retry, look, prove, none."""

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


def word(count: int) -> str:
    """A small number in words, capitalised."""
    return _WORDS[count] if count < len(_WORDS) else str(count)


def of_plan(sheet: Sheet, findings: Sequence[Finding], forecast_s: float, way: Sequence[str]) -> Sentence:
    """Where a plan stands."""
    count = Counter(finding.severity for finding in findings)
    spread = spread_text(sheet)
    before = " ".join(word(int(part)).lower() if part.isdigit() else part for part in spread.split()).capitalize() + ". "
    below = f"expected {time_text(forecast_s)}" + (f" · critical path: {' → '.join(way)}" if way else "")
    blockers = [finding for finding in findings if finding.severity == "blocker"]
    if not blockers:
        strong = "Ready to run" if not count["caution"] else f"Ready to run, with {count_text(count['caution'], 'caution')}"
        return Sentence(before, strong, ".", below, Action("run", "Check and run"))
    first = blockers[0]
    after = f" {word(len(blockers) - 1)} more must be settled before it can run." if len(blockers) > 1 else " All else fits."
    return Sentence(before, first.message, after, below, _remedy_of(first))


def _remedy_of(finding: Finding) -> Action:
    kinds = {"licence": "licence", "package-missing": "package", "package-unfit": "package"}
    label = finding.remedy.label if finding.remedy else "Show where"
    if finding.remedy and finding.remedy.edit:
        return Action("remedy", label, finding.node, finding.column, finding.remedy.edit)
    if finding.code in kinds:
        return Action(kinds[finding.code], label)
    return Action("cell", label if len(label) <= 36 else "Show where", finding.node, finding.column)


@dataclass(frozen=True)
class StepState:
    """How a step stands, for words about it."""

    node: str
    state: str
    label: str
    message: str


def of_run(sheet: Sheet, run_state: str, steps: Mapping[str, StepState], left_s: float, started: str) -> Sentence:
    """Where a run stands. `left_s`: forecast seconds to the end."""
    names = {node.id: node.name for node in sheet.nodes}
    per_node: dict[str, list[str]] = {node.id: [] for node in sheet.nodes}
    for step in steps.values():
        if step.node in per_node:
            per_node[step.node].append(step.state)
    stand = sum(all(state in ("done", "skipped") for state in states) for states in per_node.values())
    laid = sum(any(s in ("working", "waiting") for s in states) for states in per_node.values())
    total = len(per_node)
    failed = [step for step in steps.values() if step.state == "failed"]
    end = f"started {started} · about {time_text(left_s)} to go"
    if run_state == "undone":
        return Sentence("", "Everything this run made was taken back.", "", f"started {started}", Action("none", ""))
    if run_state == "undoing":
        left = sum(step.state not in ("planned", "undone") for step in steps.values())
        if failed:
            return Sentence(f"Taking back got stuck: {_name(failed[0], names)}: ", failed[0].message, "", f"started {started}",
                            Action("undo", "Take back what is left"))
        return Sentence("", "Taking back what this run made", f"; {count_text(left, 'step')} to go.", f"started {started}", Action("none", ""))
    if run_state == "done":
        return Sentence(f"{word(total)} nodes stand. ", "All of it is proved.", "", f"started {started}", Action("acceptance", "Look at the proofs"))
    if run_state == "unproved":
        return Sentence(f"{word(total)} nodes stand, but ", "not everything could be proved.", "", f"started {started}",
                        Action("acceptance", "Look at the proofs"))
    if run_state == "proving":
        return Sentence(f"{word(total)} nodes stand. ", "They are being proved.", "", f"started {started}", Action("none", ""))
    verb = "stands" if stand <= 1 else "stand"
    before = f"{word(stand) if stand else 'None'} of {word(total).lower()} nodes {verb}" + (
        f", {word(laid).lower()} {'is' if laid == 1 else 'are'} being laid. " if laid else ". ")
    if failed:
        more = f" {word(len(failed) - 1)} more failed." if len(failed) > 1 else ""
        return Sentence(before, f"{_name(failed[0], names)}: {failed[0].message}", more, end, Action("retry", "Retry what failed" if len(failed) > 1 else
                                                                                    f"Retry {inside(failed[0].label)}"))
    if run_state == "held":
        return Sentence(before, "Held by you", "; what had begun is finished, nothing new begins.", f"started {started}", Action("resume", "Go on"))
    waiting = next((step for step in steps.values() if step.state == "waiting"), None)
    working = next((step for step in steps.values() if step.state == "working"), None)
    now = waiting or working
    strong = (f"{names[now.node]}: {inside(now.label)}" if now.node in names else now.label) if now else "All goes well"
    return Sentence(before, strong, " is awaited." if waiting else " is under way." if working else ".", end, Action("hold", "Hold"))


def _name(step: StepState, names: Mapping[str, str]) -> str:
    return names.get(step.node, "") or step.label


def of_acceptance(sheet: Sheet, verdicts: Sequence[Verdict], at: str) -> Sentence:
    """Where the acceptance stands."""
    if not verdicts:
        return Sentence("", "Nothing was proved yet.", " Proofs are made when a run ends.", "", Action("none", ""))
    names = {node.id: node.name for node in sheet.nodes}
    failed = [verdict for verdict in verdicts if not verdict.passed]
    below = f"proved {at}"
    if not failed:
        return Sentence(f"{word(len(sheet.nodes))} nodes stand. ", f"All {len(verdicts)} proofs hold.", "", below, Action("prove", "Prove again"))
    first = failed[0]
    where = names.get(first.node, "cluster")
    many = f"{len(failed)} of {count_text(len(verdicts), 'proof')} {'does' if len(failed) == 1 else 'do'} not hold. "
    return Sentence(many, f"{where}: {inside(first.label)}",
                    f" was to be {first.expected}, found {first.found}.", below, Action("prove", "Prove again"))
