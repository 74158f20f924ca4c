"""The package of each role is of the kind that the kit can make nodes from."""

from __future__ import annotations

from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.findings import Finding, Remedy
from nimble_stone.core.plan.packages import SYSTEMS, formats_of
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.units import count_text


def packages(s: Situation) -> Iterator[Finding]:
    """Package and kit fit each other."""
    for role in s.sheet.kit.roles:
        package = s.sheet.packages.of(role.id)
        if package is None or not s.sheet.by_role.get(role.id):
            continue
        systems = [one.name for one in package.systems or (package.descriptor,)]
        several = package.format in SYSTEMS and (len(systems) > 1 or bool(role.system))
        if several and role.system not in systems:
            ids = ", ".join(sorted(systems)[:6])
            yield _about(
                s.sheet.by_role[role.id][0],
                "package-systems",
                f"{package.title} holds {count_text(len(systems), 'system')} ({ids}); the kit makes"
                f" {role.label} nodes from {role.system or 'none of them'}.",
                "Correct `system` of the role in the kit, or choose another package",
            )
            continue
        if package.format in formats_of(s.sheet.kit, role.id):
            continue
        node, title = s.sheet.by_role[role.id][0], package.title
        if role.installer is not None:
            yield _about(
                node,
                "installer-package",
                f"{title} is no installer ISO; the kit installs {role.label} nodes.",
                "Choose an installer ISO",
            )
        elif role.image is not None:
            yield _about(
                node,
                "image-package",
                f"{title} is no disk image; the kit makes {role.label} nodes from one.",
                "Choose a disk image",
            )
        elif package.format == "iso":
            yield _about(
                node,
                "installer-unknown",
                f"{title} is an installer ISO; the kit does not say how it is told.",
                "Choose a package with a descriptor, or a kit with answer files",
            )
        else:
            yield _about(
                node,
                "image-unknown",
                f"{title} is a disk image; the kit does not say what hardware it gets.",
                "Choose a package with a descriptor, or a kit that states hardware",
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
