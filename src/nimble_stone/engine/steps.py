"""The kinds of steps. Each says how to observe that it is done, how to act, and how to undo what it
made.

`observe` answers what it found (a small mapping for the journal) or None; it is asked before acting
and again after.
"""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Protocol

from nimble_stone.core.errors import Conflict, RemoteError, RemoteFailed, RemoteTimeout, Unreachable
from nimble_stone.core.estate import Mark
from nimble_stone.core.kit.model import Call, Forming
from nimble_stone.core.package import adapt
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.plan.columns import network_column
from nimble_stone.core.plan.sheet import Node, macs_of, networks_of
from nimble_stone.core.sequence import Step
from nimble_stone.core.units import count_text
from nimble_stone.engine import copies, packages, spool, transfer
from nimble_stone.engine.filling import environment_of, fill, fill_command, kept_name
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.world import World
from nimble_stone.hosts import medium, xml_out
from nimble_stone.hosts.kvm import KvmHost, Recorder
from nimble_stone.hosts.node import NodeAccess, NodeDoor
from nimble_stone.store import library, records, runs
from nimble_stone.store.library import Copy

Found = dict[str, Any]


@dataclass
class Context:
    """A step about to be carried out. `acted`: the act of this attempt has returned; what is there
    now is its work.
    """

    world: World
    run: FrozenRun
    step: Step
    contents: Contents
    host: KvmHost
    record: Recorder
    acted: bool = False
    answer: Found = field(default_factory=dict)

    @property
    def who(self) -> str:
        """Whom it is about, for people."""
        return self.node.name

    @property
    def node(self) -> Node:
        """The step's node (for cluster and datastore steps the one that acts)."""
        node = (
            self.run.sheet.node(self.step.node or self.step.detail.get("by", ""))
            or self.run.sheet.nodes[0]
        )
        return node

    def volume(self, what: str) -> str:
        """Name of a volume of this run: the name is its mark."""
        return f"ns-{self.run.id}-{what}"

    def tell(self, **values: Any) -> None:
        """Passing progress."""
        self.world.hub.tell(self.run.id, self.step.key, **values)

    def transfer(self, total: int) -> Callable[[int], None]:
        """A teller of bytes sent, with the rate so far in bytes per second."""
        began = self.world.clock()
        return lambda sent: self.tell(
            sent=sent, total=total, rate=sent / max(0.05, self.world.clock() - began)
        )

    async def door(self, node: Node) -> NodeDoor:
        """The node's own interface."""
        kit = self.run.sheet.kit
        password = await self.world.open_for_plan(
            self.run.sheet.plan.name, node.value(kit.admin_password)
        )
        return NodeDoor(
            self.world.reach,
            NodeAccess(node.name, node.value("address"), kit.service.port, kit.admin, password),
            self.record,
        )


class Kind(Protocol):
    """What every kind of step can do."""

    async def observe(self, c: Context) -> Found | None: ...
    async def act(self, c: Context) -> None: ...
    async def undo(self, c: Context) -> str: ...


async def _remove_volume(c: Context, name: str, datastore: str = "") -> bool:
    """Remove a volume of this run if it is there, waiting out a copy that the host still makes.
    True when it was there.
    """
    datastore = datastore or c.step.datastore
    for _ in range(60):
        if await c.host.volume(datastore, name) is None:
            return False
        try:
            await c.host.delete_volume(datastore, name)
            return True
        except RemoteFailed as error:
            if "being allocated" not in str(error) and "in use" not in str(error):
                raise
        await c.world.pause(1.0)
    raise RemoteFailed(
        f"volume {name} on {c.host.name} stays in use",
        target=c.host.name,
        hint="See what holds it, then retry.",
    )


class Carry:
    """The package's disks onto a datastore, converted on the way: once per datastore, whoever needs
    them.
    """

    async def observe(self, c: Context) -> Found | None:
        """Every copy is there with the right digest."""
        await c.host.refresh(c.step.datastore)
        place = await _place(c)
        known = {
            copy.name: copy
            for copy in await c.world.store.read(library.copies, c.contents.sha256)
            if copy.place == place
        }
        total = 0
        for disk in _file_disks(c):
            name = copies.name_of(c.contents.sha256, disk)
            volume = await c.host.volume(c.step.datastore, name)
            if volume is None:
                return None
            if name in c.answer:
                expected = c.answer[name]
            elif name in known:
                expected = known[name].digest
            elif (
                whole := await asyncio.to_thread(_whole, c, disk, volume.physical_bytes)
            ) is not None:
                # it arrived whole perhaps, but we ended before it was noted
                expected = whole
            else:
                return None  # an attempt that was cut
            if await c.host.digest(volume.path) != expected:
                if c.acted:
                    raise RemoteFailed(
                        f"what arrived on {c.host.name} is not what was sent ({volume.name})",
                        target=c.host.name,
                        hint="Retry; if it happens again, look at the datastore's disk.",
                    )
                return None
            now = c.world.clock()
            await c.world.store.write(
                library.put_copy,
                Copy(
                    place,
                    name,
                    expected,
                    volume.physical_bytes,
                    c.contents.sha256,
                    c.host.name,
                    c.step.datastore,
                    c.run.id,
                    now,
                    now,
                ),
            )
            total += volume.physical_bytes
        return {
            "bytes": total,
            "sent": "way" in c.answer,
            "way": c.answer.get("way", "was there already; nothing was sent"),
        }

    async def act(self, c: Context) -> None:
        """Send what is not there; leftovers of an attempt that was cut are removed first."""
        place = await _place(c)
        for disk in _file_disks(c):
            name = copies.name_of(c.contents.sha256, disk)
            async with c.world.lock(f"copy {place} {name}"):
                there = [
                    copy
                    for copy in await c.world.store.read(library.copies, c.contents.sha256)
                    if (copy.place, copy.name) == (place, name)
                ]
                volume = await c.host.volume(c.step.datastore, name)
                if (
                    there
                    and volume is not None
                    and await c.host.digest(volume.path) == there[0].digest
                ):
                    # another run brought it while we waited
                    c.answer[name] = there[0].digest
                    continue
                await c.world.store.write(library.drop_copy, place, name)
                await _remove_volume(c, name)
                digest, trial = await transfer.carry(
                    c.world,
                    c.host,
                    c.contents,
                    disk,
                    c.step.datastore,
                    name,
                    lambda sent, total, rate: c.tell(sent=sent, total=total, rate=rate),
                    many=sum(step.kind == "carry" for step in c.run.steps.values()) > 1,
                )
                c.answer[name], c.answer["way"] = digest, trial.why

    async def undo(self, c: Context) -> str:
        """Remove the copies that this run brought, unless others use them."""
        gone, place = 0, await _place(c)
        for copy in await c.world.store.read(library.copies, c.contents.sha256):
            if copy.place != place or copy.made_by != c.run.id:
                continue
            async with c.world.lock(f"copy {place} {copy.name}"):
                if await copies.users(c.world, copy, besides=c.run.id):
                    continue
                gone += await _remove_volume(c, copy.name)
                await c.world.store.write(library.drop_copy, place, copy.name)
        # an attempt that was cut before it was noted
        for disk in _file_disks(c):
            name = copies.name_of(c.contents.sha256, disk)
            async with c.world.lock(f"copy {place} {name}"):
                if not [
                    copy
                    for copy in await c.world.store.read(library.copies, c.contents.sha256)
                    if (copy.place, copy.name) == (place, name)
                ]:
                    gone += await _remove_volume(c, name)
        if gone:
            return f"{count_text(gone, 'copy', 'copies')} removed from {c.step.detail['place']}"
        return f"copies on {c.step.detail['place']} stay: others use them"


def _whole(c: Context, disk: str, size: int) -> str | None:
    """The digest a volume of that size would have if all of the disk had arrived, None when the
    size says it has not.
    """
    spooled = spool.find(c.world.packages, c.contents, disk)
    if spooled is not None and spooled.size == size:
        return spooled.sha256
    with packages.open_disk(c.world.packages, c.contents, disk) as conversion:
        if conversion.file_bytes != size:
            return None
    return transfer.digest_of(c.world, c.contents, disk)


async def _place(c: Context) -> str:
    return copies.place_of(
        await c.world.store.read(records.load_estate), c.step.host, c.step.datastore
    )


class Tidy:
    """Only in runs of the first version: their copies bore the run's own name and were removed
    after cloning.
    """

    async def observe(self, c: Context) -> Found | None:
        """None of them is there."""
        for number in range(len(c.contents.descriptor.disk_order)):
            if await c.host.volume(c.step.datastore, c.volume(f"base{number}")) is not None:
                return None
        return {}

    async def act(self, c: Context) -> None:
        """Remove them."""
        await self.undo(c)

    async def undo(self, c: Context) -> str:
        """Remove them."""
        await c.host.refresh(c.step.datastore)
        gone = [
            await _remove_volume(c, c.volume(f"base{number}"))
            for number in range(len(c.contents.descriptor.disk_order))
        ]
        return (
            f"{sum(gone)} travelling copies removed from {c.step.detail['place']}"
            if any(gone)
            else ""
        )


class Clone:
    """A node's disks, cloned on the datastore."""

    async def observe(self, c: Context) -> Found | None:
        """All are there, made by this attempt: a copy that was cut looks like a whole one from
        outside.
        """
        if not c.acted:
            return None
        found = [await c.host.volume(store, name) for name, _, _, store in _node_disks(c)]
        return (
            {"bytes": sum(volume.physical_bytes for volume in found if volume)}
            if all(found)
            else None
        )

    async def act(self, c: Context) -> None:
        """Clone each from the copy on the datastore, or lay it over that; a disk without content is
        made empty.
        """
        for store in dict.fromkeys((c.step.datastore, *c.node.extra_places)):
            await c.host.refresh(store)
        how, filled = c.node.value("provisioning"), set(_file_disks(c))
        for name, ident, capacity, store in _node_disks(c):
            await _remove_volume(c, name, store)
            if ident not in filled:
                await c.host.create_volume(store, name, "qcow2", capacity)
                continue
            base = copies.name_of(c.contents.sha256, ident)
            if how == "overlay":
                below = await c.host.volume(c.step.datastore, base)
                if below is None:
                    raise RemoteFailed(
                        f"the copy that {name} is to build on is gone from {c.step.datastore}",
                        target=c.host.name,
                        hint="Retry the step that carries it.",
                    )
                await c.host.overlay(c.step.datastore, below.path, name, capacity)
            else:
                await c.host.clone(
                    c.step.datastore, base, name, full=how == "full", capacity_bytes=capacity
                )

    async def undo(self, c: Context) -> str:
        """Remove them."""
        for store in dict.fromkeys((c.step.datastore, *c.node.extra_places)):
            await c.host.refresh(store)
        gone = [await _remove_volume(c, name, store) for name, _, _, store in _node_disks(c)]
        return f"{sum(gone)} disks of {c.node.name} removed from {c.step.detail['place']}"


class Medium:
    """The config CD-ROM: made here, sent once."""

    async def observe(self, c: Context) -> Found | None:
        """It is there, sent whole by this attempt."""
        volume = (
            await c.host.volume(c.step.datastore, c.volume(f"{c.node.name}-config"))
            if c.acted
            else None
        )
        if volume is None:
            return None
        return (
            {"bytes": volume.capacity_bytes}
            if await c.host.digest(volume.path) == c.answer.get("sha256")
            else None
        )

    async def act(self, c: Context) -> None:
        """Fill in the kit's environment from the sheet and send the image."""
        further = {
            net.interface - 1: found
            for net in c.run.sheet.kit.networks
            if (found := _configured(c.node, net.id))
        }
        image = medium.build(
            c.node.name,
            await environment_of(c),
            {
                key: c.node.value(key)
                for key in (
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
                )
            },
            further,
        )
        name = c.volume(f"{c.node.name}-config")
        await c.host.refresh(c.step.datastore)
        await _remove_volume(c, name)
        await c.host.create_volume(c.step.datastore, name, "raw", len(image))
        await c.host.upload(
            c.step.datastore,
            name,
            transfer.pieces(iter([image]), lambda _: None),
            limit_s=120,
            sent=c.transfer(len(image)),
        )
        c.answer["sha256"] = hashlib.sha256(image).hexdigest()

    async def undo(self, c: Context) -> str:
        """Remove it."""
        gone = await _remove_volume(c, c.volume(f"{c.node.name}-config"))
        return f"config medium of {c.node.name} removed" if gone else ""


class Define:
    """The guest, defined with our mark."""

    async def observe(self, c: Context) -> Found | None:
        """A guest of that name bears our mark. Raises Conflict when somebody else's has the
        name.
        """
        found = await c.host.domain(c.node.name)
        if found is None:
            return None
        if found.mark is None or found.mark.run != c.run.id:
            raise Conflict(
                f"a guest {c.node.name} stands on {c.host.name} and is not of this run; it stays"
                " untouched",
                code="not-ours",
                hint="Rename the node, or remove that guest yourself; then retry.",
            )
        return {"uuid": found.uuid}

    async def act(self, c: Context) -> None:
        """Define it. A new guest has a new SSH host key: what an earlier one at this address had
        shown is forgotten.
        """
        node, datastore = c.node, c.step.datastore
        if node.value("address"):
            await c.world.store.write(records.drop_pin, f"{node.value('address')}:22")
        await c.host.refresh(datastore)
        guest = adapt.adapt(c.contents.descriptor, node.extra)
        for store in dict.fromkeys(node.extra_places):
            await c.host.refresh(store)
        drives = [(name, store) for name, _, _, store in _node_disks(c)]
        await c.host.define(
            xml_out.GuestDesign(
                name=node.name,
                mark=Mark(run=c.run.id, node=node.id, plan=c.run.sheet.plan.name),
                domain_type=c.run.domain_types.get(c.step.host, "qemu"),
                vcpu=node.vcpu,
                memory_bytes=node.memory_bytes,
                disks=tuple(
                    xml_out.GuestDisk(
                        store, name, "qcow2", place.bus, place.target, place.controller
                    )
                    for (name, store), place in zip(drives, guest.disks, strict=True)
                ),
                medium=(datastore, c.volume(f"{node.name}-config"), guest.config_target),
                networks=networks_of(c.run.sheet.kit, node, len(guest.nics)),
                nics=guest.nics,
                macs=macs_of(c.run.sheet.kit, node, len(guest.nics)),
                scsi=guest.controllers,
                firmware=guest.firmware,
            )
        )

    async def undo(self, c: Context) -> str:
        """Stop and undefine it, if it bears our mark."""
        gone = await c.host.remove(c.node.name, c.run.id)
        return f"guest {c.node.name} removed from {c.host.name}" if gone else ""


class Start:
    """The guest runs."""

    async def observe(self, c: Context) -> Found | None:
        """It runs."""
        return {} if await c.host.running(c.node.name) else None

    async def act(self, c: Context) -> None:
        """Start it."""
        await c.host.start(c.node.name)

    async def undo(self, c: Context) -> str:
        """Undoing the definition stops it."""
        return ""


class _Waiting:
    """What waiting for a guest has in common."""

    async def act(self, c: Context) -> None:
        """Nothing to do but wait. A guest that was found stopped is started again on retry."""
        if not await c.host.running(c.node.name):
            await c.host.start(c.node.name)

    async def undo(self, c: Context) -> str:
        """Nothing was made; a lease runs out by itself."""
        return ""


async def _standing(c: Context) -> None:
    """Raises RemoteFailed when the guest that is waited for has stopped, or is no longer there."""
    domain = await c.host.domain(c.node.name)
    if domain is None or domain.mark is None or domain.mark.run != c.run.id:
        raise RemoteFailed(
            f"VM {c.node.name} is no longer on {c.host.name}",
            target=c.host.name,
            code="guest-gone",
            hint="Somebody removed it. Roll the run back and start it again.",
        )
    if not await c.host.running(c.node.name):
        raise RemoteFailed(
            f"VM {c.node.name} on {c.host.name} has stopped",
            target=c.host.name,
            code="guest-stopped",
            hint="Look at its console; retry starts it again.",
        )


class Learn(_Waiting):
    """The address that the node was given by DHCP, as its host sees it: by lease, by the guest's
    own agent, or by its neighbour table.
    """

    async def observe(self, c: Context) -> Found | None:
        """An address of the service network at the first interface. A new guest has a new SSH host
        key: an earlier one's at this address is forgotten.
        """
        known = c.run.sheet.by_id[c.node.id].value("address")
        if known:
            return {"address": known}
        for address, prefix in await c.host.first_addresses(c.node.name):
            if any(
                address == other
                for node, _, other in c.run.sheet.addresses()
                if node is None or node.id != c.node.id
            ):
                # somebody else's of this very plan: an old entry of the host's table
                continue
            await c.world.store.write(records.drop_pin, f"{address}:22")
            values = {"address": address} | ({"prefix": prefix} if prefix else {})
            await c.world.store.write(runs.learn, c.run.id, c.node.id, values)
            c.run.learn(c.node.id, values)
            return {"address": address, "way": address}
        if c.acted:
            await _standing(c)
        return None


class Boot(_Waiting):
    """The node answers on its address."""

    async def observe(self, c: Context) -> Found | None:
        """Its service port accepts connections. Raises RemoteFailed when the guest has stopped
        meanwhile.
        """
        door = await c.door(c.node)
        if await door.port_open(c.run.sheet.kit.service.port):
            return {}
        if c.acted:
            await _standing(c)
        return None


class Services:
    """The node's services say that they are ready."""

    async def observe(self, c: Context) -> Found | None:
        """The status has the members the kit calls ready."""
        kit = c.run.sheet.kit
        try:
            status = await (await c.door(c.node)).call("GET", kit.service.path, login=False)
        except RemoteError:
            status = {}
        if matches(status, kit.service.ready):
            return {"version": str(status.get("version", ""))[:60]}
        if c.acted:
            await _standing(c)
        return None

    async def act(self, c: Context) -> None:
        """Nothing to do but wait. A guest that was found stopped is started again on retry."""
        if not await c.host.running(c.node.name):
            await c.host.start(c.node.name)

    async def undo(self, c: Context) -> str:
        """Nothing was made."""
        return ""


class Calling:
    """A request of the kit's forming: its token, its join, the cluster."""

    async def observe(self, c: Context) -> Found | None:
        """What the kit says tells that it has happened; a GET tells by itself."""
        forming = forming_of(c)
        if forming.observe is not None:
            return (
                {}
                if matches(await self._send(c, forming.observe), forming.observe.confirm)
                else None
            )
        if forming.call.method == "GET" and not forming.call.ssh:
            return await self._kept(c, forming.call, await self._send(c, forming.call))
        return {} if c.acted and matches(c.answer, forming.call.confirm) else None

    async def _kept(self, c: Context, call: Call, answer: Found) -> Found | None:
        if not matches(answer, call.confirm) or not all(
            str(answer.get(member) or "") for member in call.keep.values()
        ):
            return None
        for name, member in call.keep.items():
            await c.world.keep_secret(kept_name(c.run.id, name), str(answer[member]), "token")
        return {"kept": sorted(call.keep)} if call.keep else {}

    async def _send(self, c: Context, call: Call) -> Found:
        try:
            return await self._sent(c, call)
        except (Unreachable, RemoteTimeout):
            # a node that is gone is no node that is silent
            await _standing(c)
            raise

    async def _sent(self, c: Context, call: Call) -> Found:
        if call.ssh:
            return await (await c.door(c.node)).shell(await fill_command(c, call.ssh))
        body = {key: await fill(c, text) for key, text in call.body.items()}
        return await (await c.door(c.node)).call(
            call.method, call.path, login=call.login, body=body or None, secret=call.keep.values()
        )

    async def act(self, c: Context) -> None:
        """Send it; a GET was sent by observing."""
        call = forming_of(c).call
        if call.method != "GET" or call.ssh:
            c.answer = await self._send(c, call)

    async def undo(self, c: Context) -> str:
        """It goes with the guests."""
        return ""


KINDS: dict[str, Kind] = {
    "carry": Carry(),
    "tidy": Tidy(),
    "clone": Clone(),
    "medium": Medium(),
    "define": Define(),
    "start": Start(),
    "learn": Learn(),
    "boot": Boot(),
    "services": Services(),
    "call": Calling(),
}
POLLED = {"learn", "boot", "services", "call"}


def matches(answer: Found, wanted: dict[str, str]) -> bool:
    """Whether the answer has the wanted members."""
    return all(str(answer.get(key)) == value for key, value in wanted.items())


def forming_of(c: Context) -> Forming:
    """The kit's forming step."""
    return next(
        forming for forming in c.run.sheet.kit.forming if forming.id == c.step.detail["forming"]
    )


def _configured(node: Node, network: str) -> medium.Configured | None:
    """How an interface beyond the first is set up; None where the node has no address there."""

    def value(part: str) -> str:
        return node.value(network_column(network, part))

    addresses = tuple(
        f"{value(address)}/{value(prefix)}"
        for address, prefix in (("address", "prefix"), ("address6", "prefix6"))
        if value(address)
    )
    dhcp = value("addressing") == "dhcp"
    return medium.Configured(addresses, dhcp, value("mtu")) if addresses or dhcp else None


def _file_disks(c: Context) -> list[str]:
    """Ids of disks that have content, each once."""
    return packages.disk_ids(c.contents)


def _node_disks(c: Context) -> list[tuple[str, str, int, str]]:
    """(volume name, disk id, capacity in bytes, datastore) in the order of the guest's drives: the
    package's own, then what the plan lays on top.
    """
    own = c.contents.descriptor
    capacities = {disk.id: disk.capacity_bytes for disk in own.disks}
    found = [
        (c.volume(f"{c.node.name}-disk{number}"), ident, capacities[ident], c.step.datastore)
        for number, ident in enumerate(own.disk_order)
    ]
    return found + [
        (
            c.volume(f"{c.node.name}-{extra.ref}"),
            "",
            extra.capacity_bytes,
            place or c.step.datastore,
        )
        for extra, place in zip(c.node.extra, c.node.extra_places, strict=True)
    ]
