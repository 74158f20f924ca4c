"""A node's own disks and its config medium."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

from nimble_stone.core.change_sequence import LARGER, NEW
from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.installing import answers
from nimble_stone.core.plan.columns import network_column
from nimble_stone.core.plan.sheet import Node, macs_of
from nimble_stone.core.units import count_text
from nimble_stone.engine import retiring
from nimble_stone.engine.filling import environment_of, value
from nimble_stone.engine.steps.context import (
    Context,
    Found,
    Kind,
    limits_of,
    our_vm,
    remove_volume,
    volume_of,
)
from nimble_stone.hosts import medium
from nimble_stone.hosts.api import VmDisk, Volume
from nimble_stone.packages import copies, stored, transfer


class Clone:
    """A node's disks, cloned on the datastore."""

    async def observe(self, c: Context) -> Found | None:
        """All are there, made by this attempt: a copy that was cut looks like a whole one from
        outside.
        """
        if not c.acted:
            return None
        found = [await c.host.storage.volume(disk.datastore, disk.volume) for disk in node_disks(c)]
        return (
            {"bytes": sum(volume.physical_bytes for volume in found if volume)}
            if all(found)
            else None
        )

    async def act(self, c: Context) -> None:
        """Clone each from the copy on the datastore, or lay it over that; a disk without content is
        made empty. A VM of this run that lost its disks goes first: it may still hold the old ones.
        """
        standing = await c.host.vms.find(c.node.name)
        if standing is not None and standing.is_of(c.maker):
            await c.host.vms.remove(c.node.name, c.maker)
        for store in dict.fromkeys((c.step.datastore, *c.node.extra_places)):
            await c.host.storage.refresh(store)
        how, filled = c.node.value("provisioning"), set(stored.disk_ids(c.contents))
        for disk in node_disks(c):
            name, capacity = disk.volume, disk.capacity_bytes
            if disk.kept:
                continue
            await remove_volume(c, name, disk.datastore)
            if disk.ident not in filled:
                await c.host.storage.create_disk(disk.datastore, name, capacity)
                continue
            base = copies.name_of(c.contents.sha256, disk.ident)
            if how == "overlay":
                below = await c.host.storage.volume(c.step.datastore, base)
                if below is None:
                    raise RemoteFailed(
                        f"the copy that {name} is to build on is gone from {c.step.datastore}",
                        target=c.host.name,
                        hint="Retry the step that carries it.",
                    )
                await c.host.storage.overlay(c.step.datastore, below.path, name, capacity)
            else:
                await c.host.storage.clone(
                    c.step.datastore, base, name, full=how == "full", capacity_bytes=capacity
                )
                made = await c.host.storage.volume(c.step.datastore, name)
                # a copy is as large as what it was made from; a kit may state more
                if made is not None and made.capacity_bytes < capacity:
                    await c.host.storage.grow(c.step.datastore, name, capacity)

    async def undo(self, c: Context) -> str:
        """Remove them."""
        for store in dict.fromkeys((c.step.datastore, *c.node.extra_places)):
            await c.host.storage.refresh(store)
        keeps = await keeps_data(c)
        own = [disk for disk in node_disks(c) if not disk.kept and not (keeps and not disk.ident)]
        gone = [await remove_volume(c, disk.volume, disk.datastore) for disk in own]
        removed = f"{sum(gone)} disks of {c.node.name} removed from {c.step.detail['place']}"
        kept = await kept_words(c) if keeps else ""
        return "; ".join(filter(None, (removed, kept)))


async def keeps_data(c: Context) -> bool:
    """Whether the data disks stay: the whole deployment goes, and a person said so."""
    return await retiring.asked(c.ports, c.run.sheet.plan.name) == retiring.KEEP_DATA


async def kept_words(c: Context) -> str:
    """Which data disks stay, and where."""
    found = []
    for disk in (one for one in node_disks(c) if not one.ident):
        if await c.host.storage.volume(disk.datastore, disk.volume) is not None:
            found.append(f"{disk.datastore}/{disk.volume}")
    return f"kept: {', '.join(found)}" if found else ""


class Medium:
    """The config CD-ROM: made here, sent once."""

    async def observe(self, c: Context) -> Found | None:
        """It is there, sent whole by this attempt."""
        volume = (
            await c.host.storage.volume(c.step.datastore, c.volume(f"{c.node.name}-config"))
            if c.acted
            else None
        )
        if volume is None:
            return None
        return (
            {"bytes": volume.capacity_bytes}
            if await c.host.storage.digest(volume.path) == c.answer.get("sha256")
            else None
        )

    async def act(self, c: Context) -> None:
        """Fill in the kit's environment from the sheet and send the image."""
        image = await config_image(c)
        name = c.volume(f"{c.node.name}-config")
        await c.host.storage.refresh(c.step.datastore)
        await remove_volume(c, name)
        await c.host.storage.create_image(c.step.datastore, name, len(image))
        await c.host.storage.upload(
            c.step.datastore,
            name,
            transfer.pieces(iter([image]), lambda _: None),
            limit_s=120,
            sent=c.transfer(len(image)),
        )
        c.answer["sha256"] = hashlib.sha256(image).hexdigest()

    async def undo(self, c: Context) -> str:
        """Remove it."""
        gone = await remove_volume(c, c.volume(f"{c.node.name}-config"))
        return f"config ISO of {c.node.name} removed" if gone else ""


async def config_image(c: Context) -> bytes:
    """The config ISO of the step's node: the kit's environment, filled in from the sheet, and the
    NoCloud seed.
    """
    macs = _own_macs(c)
    further = {}
    for net in c.run.sheet.kit.networks:
        mac = macs[net.interface - 1] if len(macs) >= net.interface else ""
        if found := _configured(c.node, net.id, mac):
            further[net.interface - 1] = found
    keys = (
        "name",
        "address",
        "prefix",
        "gateway",
        "dns",
        "domain",
        "addressing",
        "address6",
        "prefix6",
        "gateway6",
        "search",
        "mtu",
        "port",
        "bond",
        "routes",
    )
    values = {key: c.node.value(key) for key in keys}
    return medium.build(
        c.node.name,
        await environment_of(c),
        values | ({"port": macs[0]} if macs else {}),
        further,
        await _user_data(c),
    )


async def _user_data(c: Context) -> str:
    """What the kit tells an image's first start. Raises FormatError."""
    role = c.run.sheet.kit.role(c.node.role)
    text = role.image.user_data if role and role.image else ""
    values = {name: await value(c, name) for name in answers.names(text)}
    return answers.filled(text, "yaml", values)


def _own_macs(c: Context) -> tuple[str, ...]:
    """MAC addresses of an image's interfaces: its system knows them by nothing else. None on a bare
    machine, which has ports of its own, and for packages that describe their hardware.
    """
    role = c.run.sheet.kit.role(c.node.role)
    if c.node.on_machine or role is None or role.image is None:
        return ()
    return macs_of(c.run.sheet.kit, c.node, len(c.descriptor.nics))


def _configured(node: Node, network: str, mac: str = "") -> medium.Configured | None:
    """How an interface beyond the first is set up; None where the node has no address there."""

    def value(part: str) -> str:
        return node.value(network_column(network, part))

    addresses = tuple(
        f"{value(address)}/{value(prefix)}"
        for address, prefix in (("address", "prefix"), ("address6", "prefix6"))
        if value(address)
    )
    dhcp = value("addressing") == "dhcp"
    if not addresses and not dhcp:
        return None
    return medium.Configured(
        addresses,
        dhcp,
        value("mtu"),
        mac or value("port"),
        value("bond"),
        value("vlan"),
        value("gateway"),
        value("dns"),
        value("routes"),
    )


@dataclass(frozen=True)
class NodeDisk:
    """A disk of a node: its volume, the package's disk it holds ('' none), and where it lies.
    `kept`: an earlier run made it; `found`: it was there when its VM was adopted; `ref`: which of
    those that the plan adds it is, '' none.
    """

    volume: str
    ident: str
    capacity_bytes: int
    datastore: str
    kept: bool = False
    found: bool = False
    ref: str = ""


def node_disks(c: Context) -> list[NodeDisk]:
    """In the order of the VM's drives: the package's own, then what the plan adds."""
    if c.node.is_adopted:
        return _adopted_disks(c)
    own = c.descriptor
    capacities = {disk.id: disk.capacity_bytes for disk in own.disks}
    found = [
        NodeDisk(
            c.volume(f"{c.node.name}-disk{number}"), ident, capacities[ident], c.step.datastore
        )
        for number, ident in enumerate(own.disk_order)
    ]
    return found + [
        NodeDisk(
            volume_of(c.node.disks_of or c.maker, f"{c.node.name}-{extra.ref}"),
            "",
            extra.capacity_bytes,
            place or c.step.datastore,
            kept=c.node.disks_of not in ("", c.maker),
            ref=extra.ref,
        )
        for extra, place in zip(c.node.extra, c.node.extra_places, strict=True)
    ]


def _adopted_disks(c: Context) -> list[NodeDisk]:
    """Those that the VM had, in the order of its drives, then what it was given since."""
    wanted = {disk.ref: disk.capacity_bytes for disk in c.node.extra}
    there = {disk.ref for disk in c.node.volumes}
    found = [
        NodeDisk(
            disk.volume,
            "" if disk.ref in wanted else disk.ref or disk.volume,
            wanted.get(disk.ref, disk.capacity_bytes),
            disk.datastore,
            found=True,
            ref=disk.ref if disk.ref in wanted else "",
        )
        for disk in c.node.volumes
    ]
    return found + [
        NodeDisk(
            c.volume(f"{c.node.name}-{extra.ref}"),
            "",
            extra.capacity_bytes,
            place or c.step.datastore,
            ref=extra.ref,
        )
        for extra, place in zip(c.node.extra, c.node.extra_places, strict=True)
        if extra.ref not in there
    ]


class Grow:
    """A node has its data disks, as large as planned; while its VM runs, if it does."""

    async def observe(self, c: Context) -> Found | None:
        """Each of them is, and its VM has those that are new."""
        for disk, volume in await self._own(c):
            if volume is None or volume.capacity_bytes < disk.capacity_bytes:
                return None
        new = _new(c)
        if not new:
            return {}
        state = await c.host.vms.state(c.node.name)
        if state is None:
            return None
        seen = [state.stored, *([state.live] if state.live else [])]
        there = all(f"{one.datastore}/{one.volume}" in vm.sources for one in new for vm in seen)
        return {"way": f"{c.step.detail[NEW].replace(',', ', ')} added"} if there else None

    async def _own(self, c: Context) -> list[tuple[NodeDisk, Volume | None]]:
        """The disks that the plan adds to the package's, with their volumes."""
        for store in dict.fromkeys(place or c.step.datastore for place in c.node.extra_places):
            await c.host.storage.refresh(store)
        disks = [one for one in node_disks(c) if one.ref]
        return [(one, await c.host.storage.volume(one.datastore, one.volume)) for one in disks]

    async def act(self, c: Context) -> None:
        """Grow those that are smaller, make and attach those that are new. Raises RemoteFailed for
        one that is gone, Conflict for a VM that is not ours.
        """
        await our_vm(c, c.maker)
        runs, new = await c.host.vms.running(c.node.name), _new(c)
        for disk, volume in await self._own(c):
            if volume is None and disk not in new:
                raise RemoteFailed(
                    f"disk {disk.volume} of {c.node.name} is not on {disk.datastore}",
                    target=c.host.name,
                    hint="Make the node again.",
                )
            if volume is None:
                await c.host.storage.create_disk(disk.datastore, disk.volume, disk.capacity_bytes)
            elif volume.capacity_bytes >= disk.capacity_bytes:
                continue
            elif runs:
                await c.host.vms.grow_disk(c.node.name, volume.path, disk.capacity_bytes)
            else:
                await c.host.storage.grow(disk.datastore, disk.volume, disk.capacity_bytes)
        limits, buses = limits_of(c), {one.ref: one.bus for one in c.node.extra}
        for disk in new:
            wanted = VmDisk(disk.datastore, disk.volume, buses[disk.ref])
            await c.host.vms.attach_disk(c.node.name, wanted, limits)

    async def undo(self, c: Context) -> str:
        """What is new goes again, with what is on it. A disk does not shrink: what is in it may
        reach to its end. Raises RemoteFailed where the node's system does not let a disk go.
        """
        if await keeps_data(c):
            return await kept_words(c)
        new, gone = _new(c), 0
        there = bool(new) and await our_vm(c, c.maker) is not None
        for disk in new:
            if there:
                await _let_go(c, disk)
            await c.host.storage.refresh(disk.datastore)
            gone += await remove_volume(c, disk.volume, disk.datastore)
        removed = f"{count_text(gone, 'disk')} of {c.node.name} removed" if gone else ""
        if new and LARGER not in c.step.detail:
            return removed
        return "; ".join(
            filter(None, (removed, f"disks of {c.node.name} stay as large as they are"))
        )


async def _let_go(c: Context, disk: NodeDisk) -> None:
    """The VM has the disk no more. Raises RemoteFailed where its system keeps it."""
    for _ in range(LETS_GO_S):
        if await c.host.vms.detach_disk(c.node.name, disk.datastore, disk.volume):
            return
        await c.ports.pause(1.0)
    raise RemoteFailed(
        f"the system of {c.node.name} does not let disk {disk.volume} go",
        target=c.host.name,
        hint="Unmount it there, or shut the VM down; then retry.",
    )


LETS_GO_S = 60
"""How long the system in a VM may take to let a disk go, in seconds."""


def _new(c: Context) -> list[NodeDisk]:
    """Disks that the node gets by this step."""
    names = c.step.detail.get(NEW, "").split(",")
    return [disk for disk in node_disks(c) if disk.ref and disk.ref in names]


KINDS: dict[str, Kind] = {"clone": Clone(), "medium": Medium(), "grow": Grow()}
