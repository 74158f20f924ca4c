"""Rules about nodes on bare machines: the machine, its drives and its ports."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from nimble_stone.core import drive_choice, drive_rule
from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.drive_choice import KnownDrive
from nimble_stone.core.errors import FormatError
from nimble_stone.core.estate import MachineFacts
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.marks import drive_mark, whose
from nimble_stone.core.package.model import Descriptor
from nimble_stone.core.plan.carried import ALSO, refused
from nimble_stone.core.plan.columns import (
    NO_BOND,
    SYSTEM_DRIVE,
    SYSTEM_RULE,
    data_drives,
    data_rule,
    network_column,
)
from nimble_stone.core.plan.machines import (
    bond_of,
    by_network,
    known_ports,
    memory_of,
    ports_in,
    threads_of,
    unreached,
)
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.units import count_text, size_text

OFF = "Off"


def _nodes(s: Situation) -> Iterator[tuple[Node, MachineFacts]]:
    """Nodes on machines whose facts are known."""
    for node in s.sheet.nodes:
        facts = s.estate.machine_facts.get(node.value("host")) if node.on_machine else None
        if facts is not None and facts.read_at:
            yield node, facts


def known(s: Situation) -> Iterator[Finding]:
    """The machine exists, was read, answers, is off, and was looked into."""
    unseen: list[Node] = []
    for node in s.sheet.nodes:
        name = node.value("host")
        if not node.on_machine or not name:
            continue
        facts = s.estate.machine_facts.get(name)
        if s.estate.machine(name) is None:
            yield _about(
                node,
                "machine-unknown",
                f"The estate has no machine “{name}”.",
                "The node cannot be placed.",
                Remedy(label="Let placement choose", edit=Edit(path=("nodes", node.id, "host"))),
            )
        elif facts is None or not facts.read_at:
            yield _about(
                node,
                "machine-unread",
                f"The controller of {name} was never read.",
                "Its memory, drives and ports are unknown.",
                Remedy(label=f"Refresh {name} on the estate page"),
            )
        elif facts.trouble:
            yield _about(
                node,
                "machine-silent",
                f"{name}: {facts.trouble.rstrip('.')}.",
                "It can be neither switched nor given a medium.",
                Remedy(label=f"Refresh {name} when its controller answers"),
            )
        else:
            if facts.inside is None:
                unseen.append(node)
            yield from _ready(s, node, facts)
    if unseen:
        yield _not_inspected(unseen)


def _not_inspected(nodes: list[Node]) -> Finding:
    names = [node.value("host") for node in nodes]
    shown = ", ".join(names[:3]) + (
        f" and {count_text(len(names) - 3, 'more', 'more')}" if len(names) > 3 else ""
    )
    return _about(
        nodes[0],
        "machine-not-inspected",
        f"Not inspected: {shown}.",
        "What is on their drives is unknown, and a drive that holds something is not written.",
        Remedy(label="Inspect them on the estate page"),
    )


def _ready(s: Situation, node: Node, facts: MachineFacts) -> Iterator[Finding]:
    name = node.value("host")
    if facts.power != OFF and not s.own_runs:
        yield _about(
            node,
            "machine-on",
            f"{name} is {'on' if facts.power == 'On' else facts.power or 'in an unknown state'}.",
            "Something may run there; it is not stopped for this plan.",
            Remedy(label=f"Shut {name} down, then refresh it"),
        )
    networked = by_network(s.sheet.kit.role(node.role))
    if why := unreached(facts, s.estate.machine(name), networked):
        yield _about(
            node,
            "machine-media",
            f"{name} {why}.",
            "Nothing can be brought onto it.",
            Remedy(label="Choose another machine"),
        )


def supported(s: Situation) -> Iterator[Finding]:
    """What cannot be done on bare machines is told before anything is written."""
    told: set[str] = set()
    for node in s.sheet.nodes:
        if not node.on_machine or node.role in told:
            continue
        package = s.sheet.packages.of(node.role)
        filled = len(_filled(package.descriptor)) if package else 1
        if filled != 1:
            told.add(node.role)
            yield _about(
                node,
                "machine-image",
                f"The package of {node.name} has {filled} disks with content.",
                "On a bare machine one is written, to the system drive.",
                Remedy(label="Choose a package with one disk, or hosts for this role"),
                column="on",
            )
        if node.value("addressing") == "dhcp":
            told.add(node.role)
            yield _about(
                node,
                "machine-dhcp",
                f"{node.name} gets its address by DHCP.",
                "On a bare machine nothing tells which address it was given.",
                Remedy(label="Use static addresses"),
                column="addressing",
            )
    stays = next((node for node in s.sheet.nodes if node.on_machine), None)
    if stays is not None and s.sheet.plan.placement.survive:
        yield _about(
            stays,
            "machine-stays",
            "Nodes on bare machines do not move when a machine is lost.",
            "“Host failures to tolerate” is checked for nodes on hosts only.",
            Remedy(label="See the failure impact"),
            blocks=False,
        )


def _filled(descriptor: Descriptor) -> set[str]:
    """Ids of the disks of a node that have content."""
    return {disk.id for disk in descriptor.disks if disk.file_id} & set(descriptor.disk_order)


def enough(s: Situation) -> Iterator[Finding]:
    """The machine has the memory and the processors of the node's size."""
    for node, facts in _nodes(s):
        short = []
        if 0 < memory_of(facts) < node.memory_bytes:
            short.append(f"{size_text(memory_of(facts))} of {size_text(node.memory_bytes)} memory")
        if 0 < threads_of(facts) < node.vcpu:
            short.append(f"{threads_of(facts)} of {node.vcpu} threads")
        if short:
            yield _about(
                node,
                "machine-small",
                f"{node.value('host')} has {' and '.join(short)} that {node.name} needs.",
                "The product is not supported on less.",
                Remedy(label="Choose another machine or a smaller size"),
            )


def taken(s: Situation) -> Iterator[Finding]:
    """A machine carries one node, of one plan."""
    seen: dict[str, Node] = {}
    claimed = {claim.host: claim for claim in s.claims if claim.host}
    for node in s.sheet.nodes:
        name = node.value("host")
        if not node.on_machine or not name:
            continue
        other, claim = seen.get(name), claimed.get(name)
        if other is not None:
            yield _about(
                node,
                "machine-twice",
                f"{node.name} and {other.name} are both on {name}.",
                "A machine carries one node.",
                Remedy(label="Let placement choose", edit=Edit(path=("nodes", node.id, "host"))),
            )
        elif claim is not None:
            by = f"run {claim.run} of plan {claim.plan}" if claim.run else f"plan {claim.plan}"
            yield _about(
                node,
                "machine-taken",
                f"{name} is taken by {by} ({claim.name}).",
                "Two plans cannot have one machine.",
                Remedy(label="Let placement choose", edit=Edit(path=("nodes", node.id, "host"))),
                blocks=bool(claim.run),
            )
        seen.setdefault(name, node)


def drives(s: Situation) -> Iterator[Finding]:
    """Drives are there, hold nothing, serve one purpose, and the image fits."""
    yield from _rules(s)
    marks = {drive_mark(s.sheet.plan.name, node.id): node.name for node in s.sheet.nodes}
    for node, facts in _nodes(s):
        there = {drive.serial: drive for drive in drive_choice.drives_of(facts)}
        used: set[str] = set()
        system = node.value(SYSTEM_DRIVE)
        if not system:
            yield _about(
                node,
                "drive-missing",
                f"{node.name} has no system drive: no empty drive of {node.value('host')} fits"
                f" “{node.value(SYSTEM_RULE)}”.",
                "There is nothing to write the image to.",
                Remedy(label="Change the rule, wipe a drive, or choose another machine"),
                column=SYSTEM_DRIVE,
            )
        for column in (SYSTEM_DRIVE, *map(data_drives, _disks(s, node))):
            for serial in drive_choice.serials(node.value(column)):
                drive = there.get(serial)
                ours = whose(drive.holds or "", marks) if drive else ""
                yield from _drive(node, column, serial, drive, serial in used, ours)
                used.add(serial)
        package = s.sheet.packages.of(node.role)
        drive = there.get(system)
        if package and drive and drive.size_bytes < package.descriptor.full_bytes:
            yield _about(
                node,
                "drive-small",
                f"Drive {system} has {size_text(drive.size_bytes)}; the image takes"
                f" {size_text(package.descriptor.full_bytes)}.",
                "The image does not fit.",
                Remedy(label="Choose another drive"),
                column=SYSTEM_DRIVE,
            )


def idle(s: Situation) -> Iterator[Finding]:
    """Empty drives that nothing uses are seen."""
    left: dict[str, int] = {}
    for node, facts in _nodes(s):
        columns = (SYSTEM_DRIVE, *map(data_drives, _disks(s, node)))
        used = {serial for column in columns for serial in drive_choice.serials(node.value(column))}
        there = drive_choice.drives_of(facts) if facts.inside else ()
        if count := sum(drive.free and drive.serial not in used for drive in there):
            left[node.id] = count
    if not left:
        return
    nodes = [s.sheet.by_id[ident] for ident in left]
    first = nodes[0].value("host")
    more = f" and {count_text(len(nodes) - 1, 'more machine')}" if len(nodes) > 1 else ""
    yield Finding(
        severity="note",
        code="drives-idle",
        node=nodes[0].id,
        column=SYSTEM_DRIVE,
        host=first,
        message=f"{first}{more}: {count_text(sum(left.values()), 'empty drive')} unused.",
        consequence="They stay empty.",
        remedy=_all_drives(s, left),
    )


def _all_drives(s: Situation, left: Mapping[str, int]) -> Remedy | None:
    """All drives for the kit's further disk, where it has one and allows so many everywhere.
    `left`: node → unused drives.
    """
    first = s.sheet.by_id[next(iter(left))]
    disks = [disk for disk in s.sheet.kit.extra_disks if disk.id in _disks(s, first)]
    if not disks:
        return _another_role(s, first)
    if len(disks) != 1:
        return None
    disk, column = disks[0], data_rule(disks[0].id)
    for ident, unused in left.items():
        node = s.sheet.by_id[ident]
        drives = node.cells[data_drives(disk.id)]
        many = len(drive_choice.serials(drives.value)) + unused
        if drives.origin == "node" or many > disk.limits(node.value("use"))[1].most:
            return None
    if first.value(column) == "all":
        return None
    by_role = first.cells[column].origin == "group"
    path = ("roles", first.role, "values", column) if by_role else ("values", column)
    return Remedy(label=f"Use all as {disk.label.lower()}", edit=Edit(path=path, value="all"))


def _another_role(s: Situation, node: Node) -> Remedy | None:
    """Another role that would use the drives of a node that has no use for them."""
    own = s.sheet.kit.role(node.role)
    for disk in s.sheet.kit.extra_disks:
        for ident in disk.roles:
            role = s.sheet.kit.role(ident)
            if role and own and not refused(s.sheet.kit, own, ident, node.roles[1:]):
                also = ", ".join((*node.roles[1:], ident))
                return Remedy(
                    label=f"Let {node.name} carry {role.label} too",
                    edit=Edit(path=("nodes", node.id, ALSO), value=also),
                )
    return None


def network_boot(s: Situation) -> Iterator[Finding]:
    """Machines that boot from the network are answered by this server."""
    if not s.no_network_boot:
        return
    nodes = [
        node
        for node in s.sheet.nodes
        if node.on_machine
        and (machine := s.estate.machine(node.value("host")))
        and machine.boots == "network"
    ]
    if nodes:
        many = f" and {count_text(len(nodes) - 1, 'more machine')}" if len(nodes) > 1 else ""
        yield _about(
            nodes[0],
            "network-boot",
            f"{nodes[0].value('host')}{many} cannot boot from the network: {s.no_network_boot}.",
            "The installation stops there.",
            Remedy(label="Start the server with --netboot-interface, or boot from media"),
        )


def ports(s: Situation) -> Iterator[Finding]:
    """Ports are the machine's own, have a link, and serve one network, or several by VLAN."""
    idents = ("", *(network.id for network in s.sheet.kit.networks))
    for node, facts in _nodes(s):
        used: dict[str, set[str]] = {}
        for ident in idents:
            column = network_column(ident, "port")
            if column in node.cells and node.cells[column].origin != "unused":
                yield from _ports_of(node, facts, ident, used)


def _ports_of(
    node: Node, facts: MachineFacts, ident: str, used: dict[str, set[str]]
) -> Iterator[Finding]:
    """A network's ports. `used`: port → the VLANs it serves so far, '' untagged; added to."""
    column, host = network_column(ident, "port"), node.value("host")
    macs, known = ports_in(node.value(column)), known_ports(facts)
    # the service network is untagged on its port
    vlan = node.value(network_column(ident, "vlan")) if ident else ""
    bond = bond_of(node.cells, ident)
    linked = {nic.mac.lower(): nic.link for nic in (facts.inside.nics if facts.inside else ())}
    if not macs:
        yield _about(
            node,
            "port-unknown",
            f"{host} has no port left for it.",
            "The network cannot be set up.",
            Remedy(label="Choose a port of the machine"),
            column=column,
        )
    if bond != NO_BOND and len(macs) == 1:
        yield _about(
            node,
            "bond-short",
            f"{node.name}: a bond needs 2 ports; {macs[0]} is 1.",
            "When it fails, the network is gone.",
            Remedy(label="Add a port, or choose no bond"),
            column=column,
        )
    if bond == NO_BOND and len(macs) > 1:
        yield _about(
            node,
            "bond-missing",
            f"{node.name} names {len(macs)} ports and no bond.",
            "Only a bond uses several ports.",
            Remedy(label="Choose a bond, or 1 port"),
            column=column,
        )
    for mac in macs:
        if mac not in known:
            yield _about(
                node,
                "port-unknown",
                f"{host} has no port {mac}.",
                "The network cannot be set up.",
                Remedy(label="Choose a port of the machine"),
                column=column,
            )
        elif vlan in used.get(mac, ()):
            tagged = f" in VLAN {vlan}" if vlan else " without VLAN"
            yield _about(
                node,
                "port-twice",
                f"{node.name} uses port {mac} for two networks{tagged}.",
                "A port serves one network, or several with a VLAN each.",
                Remedy(label="Choose another port"),
                column=column,
            )
        elif linked.get(mac) is False:
            yield _about(
                node,
                "port-no-link",
                f"Port {mac} of {host} had no link when it was inspected.",
                "The node cannot be reached through it.",
                Remedy(label="Plug it in and inspect again, or choose another port"),
                column=column,
                blocks=False,
            )
        used.setdefault(mac, set()).add(vlan)


def _disks(s: Situation, node: Node) -> list[str]:
    return [disk.id for disk in s.sheet.kit.extra_disks if node.has_any(disk.roles)]


def _rules(s: Situation) -> Iterator[Finding]:
    """Rules for drives can be read; each text is told once."""
    columns = (SYSTEM_RULE, *(data_rule(disk.id) for disk in s.sheet.kit.extra_disks))
    told: set[tuple[str, str]] = set()
    for node in s.sheet.nodes:
        for column in columns:
            text = node.value(column)
            if not text or (column, text) in told:
                continue
            told.add((column, text))
            try:
                drive_rule.parse(text)
            except FormatError as error:
                yield _about(
                    node,
                    "drive-rule",
                    f"{str(error)[:1].upper()}{str(error)[1:]}.",
                    "No drive can be chosen by it.",
                    Remedy(label=error.hint.rstrip(".")),
                    column=column,
                )


def _drive(
    node: Node, column: str, serial: str, drive: KnownDrive | None, again: bool, ours: str
) -> Iterator[Finding]:
    name = node.value("host")
    if drive is None:
        yield _about(
            node,
            "drive-unknown",
            f"{name} has no single drive with serial number {serial}.",
            "It cannot be found again when the image is written.",
            Remedy(label="Choose a drive of the machine"),
            column=column,
        )
    elif again:
        yield _about(
            node,
            "drive-twice",
            f"{node.name} uses drive {serial} for two purposes.",
            "A drive serves one purpose.",
            Remedy(label="Choose another drive"),
            column=column,
        )
    elif drive.holds:
        yield _about(
            node,
            "drive-holds",
            f"Drive {serial} of {name} holds {drive.holds}{f' ({ours})' if ours else ''}.",
            "A drive that holds something is not written over.",
            Remedy(label=f"Wipe it on the page of {name}, or choose another"),
            column=column,
        )


def _about(
    node: Node,
    code: str,
    message: str,
    consequence: str,
    remedy: Remedy,
    *,
    column: str = "host",
    blocks: bool = True,
) -> Finding:
    return Finding(
        severity="blocker" if blocks else "caution",
        code=code,
        node=node.id,
        column=column,
        host=node.value("host"),
        message=message,
        consequence=consequence,
        remedy=remedy,
    )
