"""The steps of VMs that an unattended installer sets up, onto a blank disk from its ISO. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from nimble_stone.core.kit.installer import Installer
from nimble_stone.core.machine_sequence import answer_room, installer_of
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.step import Step, make
from nimble_stone.core.vm_steps import disks, sent, started

SEND_BYTES_PER_S = 40 << 20
MEDIUM_S = 2.0
EJECT_S = 3.0


def shared(
    sheet: Sheet, nodes: Iterable[Node], stores: Mapping[str, str], pace: float
) -> list[Step]:
    """What several nodes need: the ISO on each datastore where answers come on a medium of their
    own, else an ISO with room for them on the server. `stores`: node → place of its disks.
    """
    found: dict[str, Step] = {}
    for node in nodes:
        installer, package = installer_of(sheet, node), sheet.packages.of(node.role)
        if installer is None or package is None:
            continue
        if installer.label:
            place, sha256 = stores[node.id], package.sha256
            seconds = pace * (MEDIUM_S + package.file_bytes / SEND_BYTES_PER_S)
            key = f"boot-files/{place}/{sha256[:12]}"
            step = sent(key, "installer", node, place, sha256, seconds)
        else:
            step = answer_room(sheet, node, pace)
        found.setdefault(step.key, step)
    return list(found.values())


def of_node(
    sheet: Sheet,
    node: Node,
    installer: Installer,
    place: str,
    wave: int,
    before: Sequence[str],
    boot: Sequence[Step],
    pace: float,
) -> list[Step]:
    """The steps of one node. `before`: what must answer before it starts; `boot`: its first boot,
    whose first step waits for the end of the installation.
    """
    ident, package = node.id, sheet.packages.of(node.role)
    sha256 = package.sha256[:12] if package else ""
    medium = f"boot-files/{place}/{sha256}" if installer.label else f"answer-room/{node.role}"
    size = package.file_bytes if package and not installer.label else 0
    return [
        disks(node, place, (), pace),
        make(
            "installer-medium",
            f"installer-medium/{ident}",
            "Create answers ISO" if installer.label else "Copy installer with answers",
            node,
            1,
            (medium,),
            pace * (MEDIUM_S + size / SEND_BYTES_PER_S),
        ),
        *started(sheet, node, wave, (f"clone/{ident}", f"installer-medium/{ident}"), before, pace),
        make(
            "install-vm",
            f"install-vm/{ident}",
            "Install",
            node,
            wave,
            (f"start/{ident}",),
            pace * installer.expected,
            deadline=installer.longest,
            waits=True,
        ),
        make(
            "vm-eject",
            f"vm-eject/{ident}",
            "Remove installer",
            node,
            wave,
            (f"install-vm/{ident}",),
            pace * EJECT_S,
        ),
        *boot,
    ]
