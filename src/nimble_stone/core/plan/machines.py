"""Machines, with drives and ports, for nodes that live on them. Changes the cells it is given."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from functools import partial

from nimble_stone.core import drive_choice, drive_rule
from nimble_stone.core.drive_choice import KnownDrive
from nimble_stone.core.drive_rule import DriveRule
from nimble_stone.core.errors import FormatError
from nimble_stone.core.estate import Estate, Machine, MachineFacts
from nimble_stone.core.kit.disks import ExtraDisk
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.roles import Role
from nimble_stone.core.package.model import Size as PackageSize
from nimble_stone.core.plan.assignment import MAX_EXTRA_GIB, Others, Rows, separations
from nimble_stone.core.plan.carried import ALSO, named
from nimble_stone.core.plan.cells import UNUSED, Cell, Cells
from nimble_stone.core.plan.columns import (
    MACHINE_PARTS,
    NO_BOND,
    SYSTEM_DRIVE,
    SYSTEM_RULE,
    data_drives,
    data_rule,
    lives_on_machine,
    network_column,
)
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.own_size import size_of
from nimble_stone.core.units import GIB, bays_text, count_text, size_text

HOST_PARTS = ("datastore", "provisioning", "mac", "mac_pool")
"""Columns, by the last part of their name, that a node on a machine has not."""


@dataclass(frozen=True)
class Wanted:
    """What a node needs of a machine. Bytes. `system`: the rule for its system drive, None where
    it cannot be read; `by_network`: it can be installed without virtual media.
    """

    memory_bytes: int
    threads: int
    system_bytes: int
    system: DriveRule | None
    by_network: bool = False


def without_the_other(cells: Cells) -> None:
    """Leave out the columns of hosts for a node on a machine, and the other way round."""
    gone = HOST_PARTS if lives_on_machine(cells) else MACHINE_PARTS
    for column in cells:
        if column in gone or column.rpartition(".")[2] in gone:
            cells[column] = UNUSED


def choose(
    rows: Rows,
    base: Mapping[str, Cells],
    sizes: Mapping[str, Mapping[str, PackageSize]],
    estate: Estate,
    plan: Plan,
    kit: Kit,
    others: Others,
    prefer: Mapping[str, str],
    system_bytes: Mapping[str, int],
) -> dict[str, str]:
    """A machine for each node that lives on one, then its drives and ports. Of those that fit, one
    in a failure domain that nodes which are kept apart do not use yet. Answers with
    node → why it has no machine. `prefer`: where nodes stand already; `system_bytes` by role: what
    the package's disk takes. Cost: O(nodes × machines × (drives + rules)).
    """
    own = [(role, n) for role, n in rows if lives_on_machine(base[f"{role.id}-{n}"])]
    names = [one.name for one in estate.machines_in(plan.bays)] if own else []
    free = [name for name in names if name not in plan.placement.avoid]
    # what other plans only mean to take comes last
    free.sort(key=lambda name: name in others.planned)
    given = {base[f"{role.id}-{n}"]["host"].value for role, n in own} - {""}
    left = [name for name in free if name not in given and name not in others.coming]
    reasons: dict[str, str] = {}
    apart = _Apart(kit, plan, estate)
    for role, n in rows:
        ident = f"{role.id}-{n}"
        stays = prefer.get(ident, "") if prefer.get(ident, "") in left else ""
        apart.put(role.id, base[ident]["host"].value or stays)
    for role, n in own:
        ident = f"{role.id}-{n}"
        cells = base[ident]
        size = size_of(role, sizes[role.id], cells)
        wanted = wanted_of(cells, size, system_bytes[role.id], by_network(role))
        if not cells["host"].value:
            there = prefer.get(ident, "")
            against = {
                name: why_not(estate.machine_facts.get(name), wanted, estate.machine(name))
                for name in ([there, *left] if there in left else left)
            }
            fits = [name for name, reason in against.items() if not reason]
            if not fits:
                reasons[ident] = _why_none(plan.bays, names, against)
                continue
            # where it stands already it stays; of equal ones the first
            found = there if there in fits else min(fits, key=partial(apart.breaks, role.id))
            left.remove(found)
            apart.put(role.id, found)
            cells["host"] = Cell(found, "computed")
        facts = estate.machine_facts.get(cells["host"].value)
        if facts is not None:
            _lay(cells, role, kit, facts, wanted)
            _plug(cells, kit, facts)
    return reasons


class _Apart:
    """The failure domains that nodes use, by the rules of kit and plan that keep them apart."""

    def __init__(self, kit: Kit, plan: Plan, estate: Estate) -> None:
        self._rules, self._estate = separations(kit, plan), estate
        self._used: dict[str, set[str]] = {rule.key: {""} for rule in self._rules}
        """Rule → domains. One that is not known is as good as used: nobody can tell."""

    def put(self, role: str, machine: str) -> None:
        """A node of the role stands there; '' nowhere yet."""
        place = self._estate.domains(machine) if machine else None
        for rule in self._rules:
            if place and role in rule.roles:
                self._used[rule.key].add(place.of(rule.by))

    def breaks(self, role: str, machine: str) -> int:
        """How badly a node of the role would stand there: a must weighs more than all wishes."""
        place = self._estate.domains(machine)
        broken = [
            rule
            for rule in self._rules
            if role in rule.roles and place and place.of(rule.by) in self._used[rule.key]
        ]
        return sum(1 + len(self._rules) if rule.must else 1 for rule in broken)


def by_network(role: Role | None) -> bool:
    """Whether nodes of a role can be installed without virtual media."""
    return role is not None and role.installer is not None and role.installer.netboot is not None


def wanted_of(
    cells: Mapping[str, Cell],
    size: PackageSize | None,
    system_bytes: int,
    networked: bool = False,
) -> Wanted:
    """What a node needs, by its size and its rule. `system_bytes`: what the image takes."""
    return Wanted(
        size.memory_bytes if size else 0,
        size.vcpu if size else 0,
        system_bytes,
        rule_of(cells, SYSTEM_RULE),
        networked,
    )


def _why_none(bays: Sequence[str], names: Sequence[str], reasons: Mapping[str, str]) -> str:
    """Why no machine of the bays is left. `reasons`: why those that are not taken do not fit."""
    if not names:
        return f"{bays_text(bays)} {'has' if len(bays) < 2 else 'have'} no machines"
    if not reasons:
        return f"all {count_text(len(names), 'machine')} of {' and '.join(bays)} are taken"
    first, why = next(iter(reasons.items()))
    more = f"; {len(reasons) - 1} more do not fit" if len(reasons) > 1 else ""
    return f"{first} {why}{more}"


def unreached(facts: MachineFacts, machine: Machine | None, networked: bool) -> str:
    """Why nothing can be brought onto a machine, in words that follow its name; '' when it can."""
    if machine is not None and machine.boots == "network":
        return "" if networked else "boots from the network, which the kit does not support"
    return "" if facts.media else "has no virtual media"


def why_not(facts: MachineFacts | None, wanted: Wanted, machine: Machine | None = None) -> str:
    """What keeps a node from living on a machine, in words that follow its name; '' nothing."""
    if facts is None or not facts.read_at:
        return "was never read"
    if why := unreached(facts, machine, wanted.by_network):
        return why
    memory, threads, drives = memory_of(facts), threads_of(facts), drive_choice.drives_of(facts)
    if not (memory and threads and drives):
        return "does not tell its memory, threads or drives: inspect it"
    if memory < wanted.memory_bytes:
        return f"has {size_text(memory)} of memory, {size_text(wanted.memory_bytes)} needed"
    if threads < wanted.threads:
        return f"has {threads} threads, {wanted.threads} needed"
    if not drive_choice.pick(wanted.system or DriveRule(), drives, (), wanted.system_bytes):
        return "has no empty drive for the system"
    return ""


def memory_of(facts: MachineFacts) -> int:
    """Memory of a machine, as its controller says, else as the inspection saw it."""
    return facts.memory_bytes or (facts.inside.memory_bytes if facts.inside else 0)


def threads_of(facts: MachineFacts) -> int:
    """Threads of a machine."""
    return facts.threads or (facts.inside.threads if facts.inside else 0)


def rule_of(cells: Mapping[str, Cell], column: str) -> DriveRule | None:
    """The rule that a column holds, None where it holds none that can be read."""
    try:
        return drive_rule.parse(cells[column].value) if column in cells else None
    except FormatError:
        return None


def _lay(cells: Cells, role: Role, kit: Kit, facts: MachineFacts, wanted: Wanted) -> None:
    """Drives: the system's first, then those of the kit's further disks. What a person typed is
    taken by nothing else.
    """
    drives = drive_choice.drives_of(facts)
    by_serial = {drive.serial: drive for drive in drives}
    roles = {role.id, *(named(cells[ALSO].value) if ALSO in cells else ())}
    disks = [disk for disk in kit.extra_disks if not disk.roles or roles & set(disk.roles)]
    columns = [SYSTEM_DRIVE, *(data_drives(disk.id) for disk in disks)]
    taken = {serial for column in columns for serial in drive_choice.serials(cells[column].value)}
    if cells[SYSTEM_DRIVE].origin == "none" and wanted.system is not None:
        found = drive_choice.pick(wanted.system, drives, taken, wanted.system_bytes)
        _take(cells, SYSTEM_DRIVE, found)
        taken.add(cells[SYSTEM_DRIVE].value)
    for disk in disks:
        column = data_drives(disk.id)
        rule = rule_of(cells, data_rule(disk.id))
        if cells[column].origin == "none" and rule is not None:
            _take(cells, column, drive_choice.pick(rule, drives, taken))
            taken |= set(drive_choice.serials(cells[column].value))
        _measure(cells, disk, by_serial)


def _take(cells: Cells, column: str, found: Sequence[KnownDrive]) -> None:
    if found:
        cells[column] = Cell(", ".join(drive.serial for drive in found), "computed")


def _measure(cells: Cells, disk: ExtraDisk, by_serial: Mapping[str, KnownDrive]) -> None:
    """Size and number of a kit's further disks follow from the drives: layout and sizing read
    them.
    """
    found = [
        by_serial[serial]
        for serial in drive_choice.serials(cells[data_drives(disk.id)].value)
        if serial in by_serial
    ]
    least = min((drive.size_bytes for drive in found), default=0) // GIB
    cells[f"disk.{disk.id}"] = Cell(str(min(least, MAX_EXTRA_GIB)) if found else "0", "computed")
    if f"disk.{disk.id}.count" in cells:
        cells[f"disk.{disk.id}.count"] = Cell(str(len(found)), "computed")


def _plug(cells: Cells, kit: Kit, facts: MachineFacts) -> None:
    """A port for each network, two for a bond: those with a link first, in the order of their
    names. Where none is left, a network with a VLAN shares those of the service network.
    """
    idents = ["", *(network.id for network in kit.networks)]
    idents = [one for one in idents if network_column(one, "port") in cells]
    used = {port for one in idents for port in ports_in(cells[network_column(one, "port")].value)}
    left = [port for port in ports_of(facts) if port not in used]
    for ident in idents:
        column = network_column(ident, "port")
        if cells[column].origin != "none":
            continue
        many = 1 if bond_of(cells, ident) == NO_BOND else 2
        vlan = cells.get(network_column(ident, "vlan"))
        if len(left) >= many:
            cells[column] = Cell(", ".join(left[:many]), "computed")
            del left[:many]
        elif ident and vlan and vlan.value and cells["port"].value:
            cells[column] = Cell(cells["port"].value, "computed")
            cells[network_column(ident, "bond")] = Cell(bond_of(cells, ""), "computed")


def ports_in(text: str) -> list[str]:
    """The MAC addresses that a port's cell names, in small letters."""
    return text.lower().replace(",", " ").split()


def bond_of(cells: Mapping[str, Cell], network: str) -> str:
    """How a network's ports work together."""
    cell = cells.get(network_column(network, "bond"))
    return cell.value if cell and cell.value else NO_BOND


def ports_of(facts: MachineFacts) -> list[str]:
    """MAC addresses of a machine's ports, those with a link first, those without one last."""
    found: list[tuple[str, bool | None]] = (
        [(nic.mac, nic.link) for nic in facts.inside.nics]
        if facts.inside
        else [(nic.mac, nic.link) for nic in facts.nics]
    )
    rank = {True: 0, None: 1, False: 2}
    return [mac.lower() for mac, _ in sorted(found, key=lambda one: rank[one[1]]) if mac]


def known_ports(facts: MachineFacts) -> Collection[str]:
    """All MAC addresses that the machine is known to have."""
    return set(ports_of(facts)) | {nic.mac.lower() for nic in facts.nics}
