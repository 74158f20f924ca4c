"""Rules about installer ISOs: the package is one where the kit has an installer, and only there."""

from __future__ import annotations

from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.findings import Finding, Remedy
from nimble_stone.core.plan.sheet import Node


def packages(s: Situation) -> Iterator[Finding]:
    """Package and kit fit each other."""
    for role in s.sheet.kit.roles:
        package = s.sheet.packages.of(role.id)
        if package is None or not s.sheet.by_role.get(role.id):
            continue
        node = s.sheet.by_role[role.id][0]
        if role.installer is not None and package.format != "iso":
            yield _about(
                node,
                "installer-package",
                f"{package.title} is no installer ISO; the kit installs {role.label} nodes.",
                "Choose an installer ISO",
            )
        elif role.installer is None and package.format == "iso":
            yield _about(
                node,
                "installer-unknown",
                f"{package.title} is an installer ISO; the kit does not say how it is told.",
                "Choose a disk package, or a kit with answer files",
            )


def _about(node: Node, code: str, message: str, remedy: str) -> Finding:
    return Finding(
        severity="blocker",
        code=code,
        node=node.id,
        column="name",
        message=message,
        consequence="The nodes cannot be made from it.",
        remedy=Remedy(label=remedy),
    )
