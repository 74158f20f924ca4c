"""The steps of nodes that live in VMs: their disks, their definition, their first start. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.step import Step, make

CLONE_BYTES_PER_S = 400 << 20
KEYS_SHARE = 0.3
"""How long after its port answers a system has written its keys, as a share of its boot."""
LEASE_SHARE = 0.7
"""When in its boot a guest asks for an address, as a share of it."""
KERNEL_S = 5.0
"""How long a kernel and its ramdisks take to a datastore."""


def place_text(place: str) -> str:
    """'store' for shared ones and for stores named after their host, 'store on host' otherwise."""
    host, _, store = place.rpartition(":")
    return store if not host or store.startswith(host) else f"{store} on {host}"


def sent(key: str, what: str, node: Node, place: str, sha256: str, seconds: float) -> Step:
    """The step that copies what VMs start from out of a package to a datastore, for all its nodes;
    `node` is the first of them.
    """
    return make(
        "boot-files",
        key,
        f"Copy {what} to {place_text(place)}",
        node,
        1,
        (),
        seconds,
        node="",
        patience=10.0,
        detail={"place": place, "package": sha256, "by": node.id},
    )


def disks(node: Node, place: str, after: Sequence[str], seconds: float) -> Step:
    """The step that creates a node's disks."""
    key = f"clone/{node.id}"
    return make(
        "clone", key, "Create disks", node, 1, tuple(after), seconds, detail={"place": place}
    )


def started(
    sheet: Sheet,
    node: Node,
    wave: int,
    parts: Sequence[str],
    before: Sequence[str],
    pace: float,
) -> list[Step]:
    """A VM is defined from its `parts`, and started once those `before` it are done."""
    ident, times = node.id, sheet.kit.durations
    define, start = f"define/{ident}", f"start/{ident}"
    return [
        make("define", define, "Define VM", node, wave, tuple(parts), pace * times.define),
        make("start", start, "Start VM", node, wave, (define, *before), pace * times.start),
    ]


def boot_files(
    sheet: Sheet, nodes: Iterable[Node], stores: Mapping[str, str], pace: float
) -> dict[str, Step]:
    """Place and package → the step that brings a kernel and its ramdisks there."""
    found: dict[str, Step] = {}
    for node in nodes:
        key = _boot_key(sheet, node, stores[node.id])
        package = sheet.packages.of(node.role)
        if not key or key in found or package is None:
            continue
        place = stores[node.id]
        found[key] = sent(key, "kernel", node, place, package.sha256, pace * KERNEL_S)
    return found


def _boot_key(sheet: Sheet, node: Node, place: str) -> str:
    """Key of the step that brings the node's kernel; '' where it has a boot loader."""
    role, package = sheet.kit.role(node.role), sheet.packages.of(node.role)
    if role is None or role.image is None or not role.image.args or package is None:
        return ""
    return f"boot-files/{place}/{package.sha256[:12]}"


def _host_keys(sheet: Sheet, node: Node, wave: int, pace: float, slower: float) -> list[Step]:
    """Reading a system's SSH host key from its console, where it is written there."""
    role, times = sheet.kit.role(node.role), sheet.kit.durations
    if role is None or role.image is None or not role.image.console_keys:
        return []
    return [
        make(
            "host-keys",
            f"host-keys/{node.id}",
            "Host key",
            node,
            wave,
            (f"boot/{node.id}",),
            pace * slower * times.boot.expected * KEYS_SHARE,
            deadline=slower * times.boot.longest,
            waits=True,
        )
    ]


def node_steps(
    sheet: Sheet,
    node: Node,
    place: str,
    carried: str,
    wave: int,
    before: Sequence[str],
    pace: float,
    slower: float,
) -> list[Step]:
    """The steps of one node whose disks come from a package. `place`: where they lie; `carried`:
    the step that brings what they are made from; `before`: what must answer before it starts;
    `slower`: how many times longer its host takes.
    """
    times, ident = sheet.kit.durations, node.id
    size = node.full_bytes if node.value("provisioning") == "full" else node.thin_bytes
    boots = _boot_key(sheet, node, place)
    return [
        disks(node, place, (carried,), pace * (1 + size / CLONE_BYTES_PER_S)),
        make("medium", f"medium/{ident}", "Create config ISO", node, 1, (), pace * times.medium),
        *started(
            sheet,
            node,
            wave,
            (f"clone/{ident}", f"medium/{ident}", *((boots,) if boots else ())),
            before,
            pace,
        ),
        *first_boot(sheet, node, wave, f"start/{ident}", pace, slower),
    ]


def first_boot(
    sheet: Sheet, node: Node, wave: int, after: str, pace: float, slower: float
) -> list[Step]:
    """A VM comes up: its address where that is given on the way, its start, its services."""
    times, ident = sheet.kit.durations, node.id
    by_dhcp = node.value("addressing") == "dhcp"
    keys = _host_keys(sheet, node, wave, pace, slower)
    found = []
    if by_dhcp:
        found.append(
            make(
                "learn",
                f"learn/{ident}",
                "Address by DHCP",
                node,
                wave,
                (after,),
                pace * slower * times.boot.expected * LEASE_SHARE,
                deadline=slower * times.boot.longest,
                waits=True,
            )
        )
    return [
        *found,
        make(
            "boot",
            f"boot/{ident}",
            "Boot",
            node,
            wave,
            (f"learn/{ident}" if by_dhcp else after,),
            pace * slower * times.boot.expected * (1 - LEASE_SHARE if by_dhcp else 1),
            deadline=slower * times.boot.longest,
            waits=True,
        ),
        *keys,
        make(
            "services",
            f"services/{ident}",
            "Services",
            node,
            wave,
            tuple(step.key for step in keys) or (f"boot/{ident}",),
            pace * slower * times.services.expected,
            deadline=slower * times.services.longest,
            waits=True,
        ),
    ]
