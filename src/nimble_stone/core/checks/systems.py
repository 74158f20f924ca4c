"""Who is outside the plan: systems that its setup steps ask, reached and known by their
certificates or host keys; and bays from which its nodes are to be reached.
"""

from __future__ import annotations

from collections.abc import Iterator

from nimble_stone.core.acceptance.asked import bays_of
from nimble_stone.core.acceptance.model import Subject
from nimble_stone.core.checks.situation import Situation, SystemTrouble
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.kit.checks import HOSTS, NODES
from nimble_stone.core.kit.systems import OutsideSystem


def column_of(template: str) -> str:
    """The setting that a template is, '' for one of more than that."""
    name = template.removeprefix("{").removesuffix("}")
    return name if template == f"{{{name}}}" and "{" not in name else ""


def answering(s: Situation) -> Iterator[Finding]:
    """Each was asked just now, and can be used."""
    for system in s.sheet.kit.systems:
        trouble = s.systems.get(system.id)
        if trouble is None:
            continue
        if trouble.shown:
            yield _unconfirmed(system, trouble)
            continue
        yield Finding(
            severity="blocker",
            code="system-unreached",
            column=column_of(system.address),
            message=f"{system.label} cannot be used: {trouble.why}.",
            consequence=system.purpose or "Setup steps ask it; they would fail.",
            remedy=Remedy(label="Correct what the plan says of it, or see that it answers"),
        )


def _unconfirmed(system: OutsideSystem, trouble: SystemTrouble) -> Finding:
    column = column_of(system.host_key if trouble.host_key else system.trust)
    what = "host key" if trouble.host_key else "certificate"
    return Finding(
        severity="blocker",
        code="system-unconfirmed",
        column=column,
        message=f"{system.label} presents a {what} that is not confirmed yet: {trouble.shown}.",
        consequence="Whoever answers there would get its password.",
        remedy=Remedy(
            label="It is the right one: compare it on the system itself, then confirm",
            edit=Edit(path=("values", column), value=trouble.shown) if column else None,
        ),
    )


def bays(s: Situation) -> Iterator[Finding]:
    """An acceptance check asks from bays that the estate has, with hosts."""
    for check in s.sheet.kit.acceptance:
        if check.kind != "reach" or check.source in (NODES, HOSTS):
            continue
        for bay in bays_of(Subject(s.sheet, None, check)):
            if s.estate.bay(bay):
                continue
            yield Finding(
                severity="blocker",
                code="reach-bay",
                column=column_of(check.source),
                message=f"“{check.label}” asks from bay “{bay}”, which has no host.",
                consequence="The check cannot pass.",
                remedy=Remedy(label=f"Name another bay: {', '.join(_with_hosts(s))}"),
            )


def _with_hosts(s: Situation) -> list[str]:
    return sorted({host.bay for host in s.estate.hosts})[:12]
