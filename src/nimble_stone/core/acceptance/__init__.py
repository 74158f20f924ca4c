"""The acceptance list: the plan read backwards. What is expected is computed here, what was found
comes from outside; the verdict is pure. One module per family of checks, one registry.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any

from nimble_stone.core.acceptance import (
    asked,
    cluster,
    disks,
    hardware,
    identity,
    series,
    workload,
)
from nimble_stone.core.acceptance.model import (
    Answer,
    Chart,
    Expected,
    Kind,
    Mesh,
    Subject,
    Verdict,
)
from nimble_stone.core.plan.sheet import Sheet, holding

__all__ = [
    "KINDS",
    "Answer",
    "Expected",
    "Kind",
    "Subject",
    "Verdict",
    "expectations",
    "fell_silent",
    "judge",
    "totals",
    "verdict_of",
]

KINDS: Mapping[str, Kind] = {
    kind.id: kind
    for kind in (
        *hardware.KINDS,
        *disks.KINDS,
        *identity.KINDS,
        *cluster.KINDS,
        *asked.KINDS,
        *series.KINDS,
        *workload.KINDS,
    )
}
OF_VMS = ("hardware", "networks", "mac", "autostart", "fence", "disks", "boot")
"""Kinds that ask a hypervisor what it gave a node; a bare machine is as it is."""
NOT_ASKED = Answer(None, "not asked", unknown="not asked")


def expectations(sheet: Sheet) -> list[Expected]:
    """Every check of every node, then those of the cluster."""
    return [*_of_nodes(sheet), *_of_cluster(sheet)]


def _of_nodes(sheet: Sheet) -> Iterator[Expected]:
    for node in sheet.nodes:
        for proof in sheet.kit.acceptance:
            if proof.of != "node" or (node.on_machine and proof.kind in OF_VMS):
                continue
            if node.on_machine and proof.kind == "running":
                yield from _expected(
                    Subject(sheet, node, proof.model_copy(update={"label": "Machine on"}))
                )
            else:
                yield from _expected(Subject(sheet, node, proof))


def _of_cluster(sheet: Sheet) -> Iterator[Expected]:
    for proof in sheet.kit.acceptance:
        if proof.of == "cluster":
            yield from _expected(Subject(sheet, None, proof))


def _expected(subject: Subject) -> Iterator[Expected]:
    proof, kind = subject.proof, KINDS[subject.proof.kind]
    about = asked.subject_node(subject)
    if about is not None and not holding(subject.sheet, [about], proof.when):
        return
    wanted = kind.expect(subject)
    if wanted is None:
        return
    text = kind.say_expected(wanted, proof.limit) if kind.say_expected else kind.say(wanted)
    node = subject.node.id if subject.node else ""
    yield Expected(proof.id, proof.label, node, proof.kind, wanted, proof.limit, text)


def judge(item: Expected, answer: Answer) -> Verdict:
    """The verdict on what was found. Values are compared, never words; nothing found never
    passes, and what could not be asked is neither a pass nor a failure.
    """
    kind = KINDS[item.kind]
    passed, drawn = False, answer.value is not None and not answer.unknown
    if answer.unknown:
        found = f"not known: {answer.unknown}"
    elif answer.value is None:
        found = answer.said or "nothing"
    else:
        found = kind.say(answer.value) or "nothing"
        passed = kind.fits(item.wanted, answer.value, item.limit)
        if kind.say_other and not passed:
            found = kind.say_other(item.wanted, answer.value) or "nothing"
    return Verdict(
        item.proof,
        item.label,
        item.node,
        item.expected,
        found,
        passed,
        answer.how,
        not answer.unknown,
        kind.mesh(answer.value) if kind.mesh and drawn else None,
        kind.chart(item.wanted, answer.value) if kind.chart and drawn else None,
    )


def fell_silent(
    items: Iterable[Expected], verdicts: Iterable[Verdict], elsewhere: Collection[str]
) -> dict[str, set[str]]:
    """Node → ids of checks that could not be asked, of nodes that passed more than twice as many:
    contact was lost for a moment. Of a node that is gone little passes, such as a port that must be
    closed, and waiting for it twice tells nothing. `elsewhere`: kinds of checks that are asked of
    the node's host. They do not tell whether the node answers; where it does, its host runs, and
    what the host did not answer is asked again too.
    """
    silent: dict[str, set[str]] = {}
    unheard: Counter[str] = Counter()
    passed: Counter[str] = Counter()
    for item, verdict in zip(items, verdicts, strict=True):
        if not item.node:
            continue
        if not verdict.checked:
            silent.setdefault(item.node, set()).add(item.proof)
        if item.kind not in elsewhere:
            passed[item.node] += verdict.passed
            unheard[item.node] += not verdict.checked
    return {node: checks for node, checks in silent.items() if passed[node] > 2 * unheard[node]}


def verdict_of(kept: Mapping[str, Any]) -> Verdict:
    """A verdict as it was kept; those of earlier versions have no mesh and no chart."""
    mesh, chart = kept.get("mesh"), kept.get("chart")
    drawn = (
        Mesh(tuple(mesh["nodes"]), tuple(map(tuple, mesh["lost"])), tuple(mesh.get("silent", ())))
        if mesh
        else None
    )
    series = Chart(**{**chart, "values": tuple(chart["values"])}) if chart else None
    return Verdict(**{**kept, "mesh": drawn, "chart": series})


def totals(verdicts: Sequence[Verdict]) -> Mapping[str, int]:
    """passed, failed and open (could not be asked) counts."""
    passed = sum(verdict.passed for verdict in verdicts)
    unknown = sum(not verdict.checked for verdict in verdicts)
    return {"passed": passed, "failed": len(verdicts) - passed - unknown, "open": unknown}
