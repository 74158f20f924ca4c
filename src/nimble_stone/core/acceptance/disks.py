"""Checks of a VM's disks and of what it starts from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimble_stone.core.acceptance.model import Kind, Subject
from nimble_stone.core.units import count_text, exact_size_text

OTHERS = 0o007
"""Bits of a file's mode that let every account of the host read, write or run it."""


@dataclass(frozen=True)
class Disks:
    """How much each disk of a node holds, in bytes, the largest first; and the files of its disks
    and of its config ISO that every account of the host may read or write, each with its mode.
    """

    capacities: tuple[int, ...]
    open_to_all: tuple[str, ...] = ()


def found_disks(capacities: Sequence[int], modes: Sequence[tuple[str, str]]) -> Disks:
    """Of what a host says: capacities in bytes, and of each file its name and its mode in octal
    digits, '' where the host does not tell.
    """
    opened = [f"{name} ({mode})" for name, mode in modes if mode and int(mode, 8) & OTHERS]
    return Disks(tuple(sorted(capacities, reverse=True)), tuple(sorted(opened)))


def _disks(subject: Subject) -> Disks | None:
    node = subject.node
    assert node is not None
    package = subject.sheet.packages.of(node.role)
    if package is None or node.is_adopted:
        # how large the disks were that others made was recorded when it was adopted
        return None
    sizes = {disk.id: disk.capacity_bytes for disk in package.descriptor.disks}
    own = [sizes[ident] for ident in package.descriptor.disk_order]
    return found_disks([*own, *(one.capacity_bytes for one in node.extra)], ())


def _say_disks(found: Disks) -> str:
    sizes = ", ".join(map(exact_size_text, found.capacities))
    words = f"{count_text(len(found.capacities), 'disk')}: {sizes}"
    if not found.open_to_all:
        return words
    return f"{words}; open to all accounts of the host: {', '.join(found.open_to_all)}"


def _boots(subject: Subject) -> str:
    node = subject.node
    assert node is not None
    role = subject.sheet.kit.role(node.role)
    return "kernel" if role and role.image and role.image.args else "disk"


def _say_boots(found: str) -> str:
    return "starts from a kernel on its host" if found == "kernel" else f"starts from {found}"


KINDS = (
    Kind("disks", "node", _disks, _say_disks),
    Kind("boot", "node", _boots, _say_boots),
)
