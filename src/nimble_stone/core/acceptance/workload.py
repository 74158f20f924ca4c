"""A small workload: things that are done one after the other, what each must answer, how long they
take together, and that nothing of them stays.
"""

from __future__ import annotations

from dataclasses import dataclass

from nimble_stone.core.acceptance.asked import number_of
from nimble_stone.core.acceptance.model import Kind, Subject
from nimble_stone.core.kit.checks import WorkStep
from nimble_stone.core.plan.sheet import Node


@dataclass(frozen=True)
class Work:
    """What is to be done, in words, and how many seconds it may take; None: not limited."""

    steps: tuple[str, ...]
    longest_s: float | None = None


@dataclass(frozen=True)
class Done:
    """What was done: by how many nodes, in how many seconds; `wrong`: what was wrong, in words."""

    label: str
    nodes: int
    seconds: float
    wrong: str = ""


@dataclass(frozen=True)
class Round:
    """One round; it ends at the first step that is wrong. `left`: what could not be removed."""

    done: tuple[Done, ...]
    left: str = ""

    @property
    def seconds(self) -> float:
        """Of all steps together, without what removes them."""
        return sum(one.seconds for one in self.done)


def doers(subject: Subject, step: WorkStep) -> list[Node]:
    """The nodes that do a step, in the sheet's order."""
    roles = subject.proof.roles
    nodes = [node for node in subject.sheet.nodes if not roles or node.has_any(roles)]
    if step.on == "each":
        return nodes
    return nodes[1:] if step.on == "others" else nodes[:1]


def _work(subject: Subject) -> Work | None:
    steps = [step for step in subject.proof.workload if doers(subject, step)]
    if not steps:
        return None
    first = subject.sheet.nodes[0]
    return Work(
        tuple(step.label for step in steps), number_of(subject.proof.at_most, subject, first)
    )


def _holds(wanted: Work, found: Round, _: float) -> bool:
    as_said = tuple(one.label for one in found.done) == wanted.steps
    right = as_said and not found.left and not any(one.wrong for one in found.done)
    return right and (wanted.longest_s is None or found.seconds <= wanted.longest_s)


def _work_text(wanted: Work, _: float) -> str:
    steps = " → ".join(wanted.steps)
    return steps if wanted.longest_s is None else f"{steps}, within {wanted.longest_s:g} s"


def _round_text(found: Round) -> str:
    told = []
    for one in found.done:
        nodes = f" by {one.nodes} nodes" if one.nodes > 1 else ""
        words = f": {one.wrong}" if one.wrong else f" {one.seconds:.2f} s"
        told.append(f"{one.label}{nodes}{words}")
    left = f"; not removed: {found.left}" if found.left else ""
    return " → ".join(told) + left


KINDS = (Kind("workload", "cluster", _work, _round_text, _holds, _work_text),)
