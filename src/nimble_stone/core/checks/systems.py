"""Systems outside the plan that its setup steps ask: reached, and known by their certificates."""

from __future__ import annotations

from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation, SystemTrouble
from nimble_stone.core.findings import Edit, Finding, Remedy
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
