"""Taking over VMs that others made: which of them could be which node, what the plan would have
made otherwise, and the node as it is then deployed. Pure.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import zip_longest
from typing import Literal

from nimble_stone.core.estate import Facts
from nimble_stone.core.findings import Edit
from nimble_stone.core.package.model import Size
from nimble_stone.core.plan import planned_size
from nimble_stone.core.plan.cells import Cell
from nimble_stone.core.plan.columns import network_column
from nimble_stone.core.plan.sheet import FoundDisk, Node, Sheet, macs_of, networks_of
from nimble_stone.core.units import count_text, size_text


@dataclass(frozen=True)
class Disk:
    """A disk of a VM that exists: where it lies; its datastore is '' where it is in none."""

    datastore: str
    volume: str
    capacity_bytes: int = 0


def disk_of(facts: Facts, source: str) -> Disk:
    """A disk as its VM names it: by datastore and volume, or by a path, which may lie in the folder
    of a datastore.
    """
    if not source.startswith("/"):
        store, _, name = source.partition("/")
        return Disk(store, name)
    folder, _, name = source.rpartition("/")
    stores = (one.name for one in facts.datastores if one.path.rstrip("/") == folder)
    store = next(stores, "")
    return Disk(store, name if store else source)


@dataclass(frozen=True)
class Existing:
    """A VM that nobody marked. Memory in bytes. `address`: what its host knows of its first
    interface, '' nothing.
    """

    host: str
    name: str
    uuid: str
    running: bool
    vcpu: int
    memory_bytes: int
    disks: tuple[Disk, ...]
    networks: tuple[str, ...]
    macs: tuple[str, ...]
    autostart: bool = False
    address: str = ""

    @property
    def ident(self) -> str:
        """`host/name`: no other VM has it."""
        return f"{self.host}/{self.name}"


Then = Literal["plan", "run", "stays"]
"""What becomes of a difference: the plan is changed to what was found, the next run changes the VM
to what is planned, or neither does anything.
"""


@dataclass(frozen=True)
class Compared:
    """One thing about a node: as the VM has it, and as the plan would have made it."""

    label: str
    found: str
    planned: str
    then: Then

    @property
    def same(self) -> bool:
        """Whether both are the same."""
        return self.found == self.planned


LIKE = 2
"""How many of three traits a VM shares with a node that it is proposed for by likeness."""


def propose(sheet: Sheet, found: Iterable[Existing]) -> dict[str, Existing]:
    """Node id → the VM that it probably is: of the same name, or with its MAC address; what is left
    by size, disks and networks, in the order of names. Cost: O(nodes × VMs).
    """
    free = {one.ident: one for one in sorted(found, key=lambda one: (one.name, one.host))}
    proposed: dict[str, Existing] = {}
    for same in (_same_name, _same_mac, _alike):
        for node in sheet.nodes:
            if node.id in proposed or node.on_machine:
                continue
            match = next((one for one in free.values() if same(sheet, node, one)), None)
            if match is not None:
                proposed[node.id] = free.pop(match.ident)
    return proposed


def _same_name(sheet: Sheet, node: Node, vm: Existing) -> bool:
    return bool(node.name) and node.name == vm.name


def _same_mac(sheet: Sheet, node: Node, vm: Existing) -> bool:
    planned = macs_of(sheet.kit, node, _interfaces(sheet, node))
    return bool({mac for mac in planned if mac} & set(vm.macs))


def _alike(sheet: Sheet, node: Node, vm: Existing) -> bool:
    traits = (
        node.vcpu == vm.vcpu,
        node.memory_bytes >> 20 == vm.memory_bytes >> 20,
        _own_disks(sheet, node) + len(node.extra) == len(vm.disks),
    )
    networks = networks_of(sheet.kit, node, _interfaces(sheet, node))
    return networks == vm.networks and sum(traits) >= LIKE and not troubles(sheet, node, vm)


def _interfaces(sheet: Sheet, node: Node) -> int:
    package = sheet.packages.of(node.role)
    return max(1, len(package.descriptor.nics)) if package else 1


def _own_disks(sheet: Sheet, node: Node) -> int:
    package = sheet.packages.of(node.role)
    return len(package.descriptor.disk_order) if package else 1


def troubles(sheet: Sheet, node: Node, vm: Existing) -> list[str]:
    """Why a VM cannot become a node, in words; none where it can."""
    found = []
    if node.on_machine:
        found.append(f"{node.id} is planned on a bare machine")
    if lost := [disk.volume for disk in vm.disks if not disk.datastore]:
        found.append(
            f"disk {lost[0]} of {vm.name} is in no datastore of {vm.host}: make one of its folder"
        )
    own = _own_disks(sheet, node)
    if len(vm.disks) < own:
        found.append(f"{vm.name} has {count_text(len(vm.disks), 'disk')}; the package has {own}")
    if len(vm.networks) != len(vm.macs):
        found.append(f"an interface of {vm.name} is on no network of {vm.host}")
    if not vm.running:
        found.append(f"{vm.name} is off: start it, so that it can be checked")
    return found


def edits(sheet: Sheet, node: Node, vm: Existing) -> list[Edit]:
    """What plans a node as the VM is: its name, place, networks, MAC addresses, size where the plan
    can say it, and its address where none is planned.
    """
    first = vm.disks[0].datastore if vm.disks else ""
    values: dict[str, str] = {"name": vm.name, "host": vm.host, "datastore": first}
    columns = {column.id for column in sheet.columns}
    for number, (network, mac) in enumerate(zip(vm.networks, vm.macs, strict=False), 1):
        for column, value in (
            (_column(sheet, number, "network"), network),
            (_column(sheet, number, "mac"), mac),
        ):
            values[column] = value
    if vm.address and node.cells["address"].origin != "node":
        values |= {"address": vm.address}
    found = [
        Edit(path=("nodes", node.id, column), value=value)
        for column, value in values.items()
        if value and column in columns and node.value(column) != value
    ]
    return [*found, *(planned_size.edits(sheet, node, vm.vcpu, vm.memory_bytes) or ())]


def _column(sheet: Sheet, interface: int, part: str) -> str:
    """The column of an interface's network or MAC address; '' where the kit has none for it."""
    named = next((net.id for net in sheet.kit.networks if net.interface == interface), "")
    if named:
        return network_column(named, part)
    return part if interface == 1 else ""


def compared(sheet: Sheet, node: Node, vm: Existing) -> list[Compared]:
    """The VM beside what the plan would have made."""
    role, count = sheet.kit.role(node.role), _interfaces(sheet, node)
    networks = networks_of(sheet.kit, node, count)
    sized: Then = (
        "run" if planned_size.edits(sheet, node, vm.vcpu, vm.memory_bytes) is None else "plan"
    )
    typed = node.cells["address"].origin == "node"
    autostart = role is None or role.vm.autostart
    found = [
        Compared("Name", vm.name, node.name, "plan"),
        Compared("Host", vm.host, node.value("host"), "plan"),
        Compared("Datastore", _stores(vm), node.value("datastore"), "plan"),
        Compared("vCPU", str(vm.vcpu), str(node.vcpu or ""), sized),
        Compared("Memory", size_text(vm.memory_bytes), size_text(node.memory_bytes), sized),
        *_disks_compared(sheet, node, vm),
        Compared("Networks", ", ".join(vm.networks), ", ".join(networks), "plan"),
        Compared("Starts with its host", _yes(vm.autostart), _yes(autostart), "stays"),
    ]
    if vm.address:
        then: Then = "stays" if typed else "plan"
        found.append(Compared("Address", vm.address, node.value("address"), then))
    return found


def _yes(so: bool) -> str:
    return "yes" if so else "no"


def _disks_compared(sheet: Sheet, node: Node, vm: Existing) -> list[Compared]:
    """The package's own disks together, then each that the plan adds."""
    own = _own_disks(sheet, node)
    sizes = [disk.capacity_bytes for disk in vm.disks]
    planned = _package_bytes(sheet, node)
    found = [Compared("Disks of the package", _sizes(sizes[:own]), _sizes(planned), "stays")]
    for disk, size in zip_longest(node.extra, sizes[own:]):
        if disk is None:
            found.append(Compared("Further disk", size_text(size), "", "stays"))
            continue
        then: Then = "run" if (size or 0) < disk.capacity_bytes else "stays"
        had = size_text(size) if size else ""
        found.append(Compared(f"Disk {disk.ref}", had, size_text(disk.capacity_bytes), then))
    return found


def _package_bytes(sheet: Sheet, node: Node) -> list[int]:
    package = sheet.packages.of(node.role)
    if package is None:
        return []
    sizes = {disk.id: disk.capacity_bytes for disk in package.descriptor.disks}
    return [sizes[ident] for ident in package.descriptor.disk_order]


def _sizes(found: Sequence[int]) -> str:
    return " + ".join(size_text(one) for one in found)


def _stores(vm: Existing) -> str:
    return ", ".join(dict.fromkeys(disk.datastore or disk.volume for disk in vm.disks))


def as_found(sheet: Sheet, node: Node, vm: Existing) -> Node:
    """The node that stands once the VM is adopted: as it was found, whatever the plan says. What
    its VM does not tell (answers, an address that no host knows) is as it is planned.
    """
    own = _own_disks(sheet, node)
    refs = [str(number) for number in range(1, own + 1)] + [one.ref for one in node.extra]
    volumes = tuple(
        FoundDisk(
            disk.datastore, disk.volume, refs[n] if n < len(refs) else "", disk.capacity_bytes
        )
        for n, disk in enumerate(vm.disks)
    )
    by_ref = {disk.ref: disk for disk in volumes if disk.ref}
    extra = tuple(
        replace(one, capacity_bytes=by_ref[one.ref].capacity_bytes)
        for one in node.extra
        if one.ref in by_ref
    )
    first = vm.disks[0].datastore
    values = {"name": vm.name, "host": vm.host, "datastore": first}
    for number, (network, mac) in enumerate(zip(vm.networks, vm.macs, strict=True), 1):
        values |= {
            _column(sheet, number, "network"): network,
            _column(sheet, number, "mac"): mac,
        }
    cells = {column: Cell(value, "node") for column, value in values.items() if column and value}
    own_size = node.size or Size(node.value("size"), "", "", False, 0, 0)
    return replace(
        node,
        cells={**node.cells, **cells},
        size=replace(own_size, vcpu=vm.vcpu, memory_bytes=vm.memory_bytes),
        extra=extra,
        extra_places=tuple(by_ref[one.ref].datastore for one in extra),
        volumes=volumes,
    )


def as_deployed(sheet: Sheet, chosen: Mapping[str, Existing]) -> dict[str, Node]:
    """Node id → the node that stands once its VM is adopted."""
    return {
        node.id: as_found(sheet, node, chosen[node.id]) for node in sheet.nodes if node.id in chosen
    }
