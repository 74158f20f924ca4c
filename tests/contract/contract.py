"""What a driver of hosts with VMs must do for us, whatever its kind, stand-in or real."""

from __future__ import annotations

import hashlib
import re
from collections.abc import AsyncIterator
from dataclasses import replace
from ipaddress import IPv4Address

from nimble_stone.core import preparation as prep
from nimble_stone.core.disk import convert
from nimble_stone.core.disk.opening import open_image
from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.errors import Conflict, RemoteFailed
from nimble_stone.core.estate import Mark
from nimble_stone.hosts import medium
from nimble_stone.hosts.api import HostDriver, VmDesign, VmDisk, VmLimits, VmMedium
from nimble_stone.lab.scenario import appliance


async def _once(data: bytes) -> AsyncIterator[bytes]:
    yield data


async def _all(pieces: AsyncIterator[bytes]) -> bytes:
    return b"".join([piece async for piece in pieces])


async def _fails(awaitable: object) -> str:
    try:
        await awaitable  # type: ignore[misc]
    except (Conflict, RemoteFailed) as error:
        return str(error)
    raise AssertionError("no failure")


async def _prepared(host: HostDriver) -> None:
    """Host preparation: done, done again without harm, seen, rolled back."""
    actions: tuple[prep.Action, ...] = (
        prep.IsolatedNetwork(host=host.name, name="ns-inner", bridge="ns-inner0"),
        prep.FolderStore(
            host=host.name, name="ns-folder", path="/var/lib/libvirt/images/ns-folder"
        ),
        prep.AddNames(
            host=host.name,
            records=(prep.NameRecord(address=IPv4Address("10.44.99.1"), names=("ns-contract",)),),
        ),
    )
    ground = host.preparation
    for action in actions:
        for command in ground.work(action, "gcontract").act():
            await ground.send(command)
    found = await ground.network("ns-inner")
    assert found is not None
    assert (found.isolated, found.uuid, found.ready) == (
        True,
        ground.uuid("gcontract", "network", "ns-inner"),
        True,
    )
    pool = await ground.store("ns-folder")
    assert pool is not None
    assert (pool.uuid, pool.path) == (
        ground.uuid("gcontract", "pool", "ns-folder"),
        "/var/lib/libvirt/images/ns-folder",
    )
    assert await ground.store_ready("ns-folder")
    assert await ground.contents("/var/lib/libvirt/images/ns-folder") == []
    assert (await ground.name_records())["10.44.99.1"] == {"ns-contract"}
    for action in actions[:2]:
        for command in ground.work(action, "gcontract").act():
            # once more: it is so already
            await ground.send(command)
    await host.storage.create_image("ns-folder", "ns-inside", 1 << 20)
    assert await ground.contents("/var/lib/libvirt/images/ns-folder") == ["ns-inside"]
    await host.storage.delete("ns-folder", "ns-inside")
    for action in actions:
        for command in ground.work(action, "gcontract").undo():
            await ground.send(command)
    assert await ground.network("ns-inner") is None
    assert await ground.store("ns-folder") is None
    assert "10.44.99.1" not in await ground.name_records()
    assert await ground.contents("/nowhere/at-all") == []


async def _resized(host: HostDriver) -> None:
    """Other vCPUs and memory are stored at once and there with the next start, more or less of
    them.
    """
    vms, name = host.vms, "ns-test-guest"
    before = (1, 128 << 20)
    for vcpu, mib in ((3, 192), (2, 160), (1, 128)):
        await vms.resize(name, vcpu, mib << 20)
        state = await vms.state(name)
        assert state is not None
        assert state.live is not None
        assert (state.stored.vcpu, state.stored.memory_bytes) == (vcpu, mib << 20)
        assert state.stored.given_bytes == mib << 20
        assert (state.live.vcpu, state.live.memory_bytes) == before
        # nothing in it hears the power button; asking it is no failure
        await vms.shut_down(name)
        if await vms.running(name):
            await vms.cut(name)
        assert not await vms.running(name)
        await vms.start(name)
        state = await vms.state(name)
        assert state is not None
        assert state.live is not None
        assert (state.live.vcpu, state.live.memory_bytes) == (vcpu, mib << 20)
        before = (vcpu, mib << 20)


async def _paused(host: HostDriver) -> None:
    """A VM that somebody paused counts as running, and goes on when it is started."""
    vms, name = host.vms, "ns-test-guest"
    assert not await vms.paused(name)
    # no driver pauses a VM: somebody does, by the host's own command
    session = vms._session  # type: ignore[attr-defined]
    await session.virsh("suspend", name)
    assert await vms.paused(name)
    assert await vms.running(name)
    await vms.start(name)
    assert not await vms.paused(name)
    assert await vms.running(name)


async def _adopted(host: HostDriver, design: VmDesign, datastore: str, disk: str) -> None:
    """A running VM is released, so that it is nobody's, and adopted again, stored and live; by its
    UUID only. Its disk is known to be its own.
    """
    vms, name = host.vms, design.name
    before = await vms.find(name)
    assert before is not None

    async def marks() -> list[Mark | None]:
        state = await vms.state(name)
        assert state is not None
        assert state.live is not None
        return [state.stored.mark, state.live.mark]

    assert not await vms.release(name, "another-run")
    assert await vms.release(name, design.mark.run)
    assert not await vms.release(name, design.mark.run)
    assert await marks() == [None, None]
    new = Mark(run="ra", node="archive-2", plan='pl&n "x"')
    assert "with UUID" in await _fails(vms.adopt(name, "0" * 8 + before.uuid[8:], new))
    for _ in range(2):
        await vms.adopt(name, before.uuid, new)
        assert await marks() == [new, new]
    assert "belongs to plan" in await _fails(vms.adopt(name, before.uuid, design.mark))
    assert await host.preparation.vms_with_disk(datastore, disk) == [name]
    assert await vms.release(name, "ra")
    await vms.adopt(name, before.uuid, design.mark)
    assert await marks() == [design.mark, design.mark]


async def _grown(host: HostDriver, datastore: str, name: str) -> None:
    """A disk gets larger while its VM runs, and while it is off; it never shrinks."""
    storage, vms = host.storage, host.vms

    async def capacity() -> int:
        await storage.refresh(datastore)
        found = await storage.volume(datastore, name)
        assert found is not None
        return found.capacity_bytes

    found = await storage.volume(datastore, name)
    assert found is not None
    # nobody but its owner reads it
    assert found.mode
    assert int(found.mode, 8) & 0o007 == 0
    state = await vms.state("ns-test-guest")
    assert state is not None
    assert state.stored.boots == "disk"
    assert len(state.stored.media) == 1
    await vms.grow_disk("ns-test-guest", found.path, 64 << 20)
    assert await capacity() == 64 << 20
    await vms.cut("ns-test-guest")
    await storage.grow(datastore, name, 96 << 20)
    assert await capacity() == 96 << 20
    assert "shrink" in await _fails(storage.grow(datastore, name, 32 << 20))
    await vms.start("ns-test-guest")
    assert await vms.running("ns-test-guest")
    await _further_disk(host, datastore)


async def _further_disk(host: HostDriver, datastore: str) -> None:
    """A running VM gets a further disk, once however often it is said; and loses it again."""
    storage, vms, name, volume = host.storage, host.vms, "ns-test-guest", "ns-test-further"
    await storage.create_disk(datastore, volume, 8 << 20)
    wanted = VmDisk(datastore, volume)
    for _ in range(2):
        await vms.attach_disk(name, wanted, VmLimits())
        state = await vms.state(name)
        assert state is not None
        assert state.live is not None
        for seen in (state.stored, state.live):
            assert seen.sources.count(f"{datastore}/{volume}") == 1
    # nothing runs in it that could let the disk go, so it is switched off
    await vms.detach_disk(name, datastore, volume)
    await vms.cut(name)
    assert await vms.detach_disk(name, datastore, volume)
    state = await vms.state(name)
    assert state is not None
    assert f"{datastore}/{volume}" not in state.stored.sources
    # off, it is only stored
    await vms.attach_disk(name, wanted, VmLimits())
    assert await vms.detach_disk(name, datastore, volume)
    await storage.delete(datastore, volume)
    await vms.start(name)


async def _defined_anew(host: HostDriver, design: VmDesign) -> None:
    """A VM that is off gets other disks and another mark, and stays the same machine; and back."""
    vms = host.vms
    before = await vms.find(design.name)
    assert before is not None
    await vms.cut(design.name)
    other = replace(
        design,
        mark=design.mark.model_copy(update={"run": "rn"}),
        disks=design.disks[:1],
        instead_of=before.uuid,
    )
    for wanted in (other, replace(design, instead_of=before.uuid)):
        await vms.define(wanted)
        state = await vms.state(design.name)
        assert state is not None
        assert (state.stored.uuid, state.stored.mark) == (before.uuid, wanted.mark)
        assert (state.stored.disks, state.autostart) == (len(wanted.disks), True)
        await vms.start(design.name)
        assert await vms.running(design.name)
        await vms.cut(design.name)
    await vms.start(design.name)


async def keep(host: HostDriver, *, address: str, datastore: str, network: str) -> None:
    """Volumes, clones, a VM with our mark, its removal, and the words of failures. Leaves
    nothing behind.
    """
    storage, vms = host.storage, host.vms
    facts = await host.reading.facts(1.0)
    assert facts.memory_bytes > 0
    assert facts.datastore(datastore) is not None
    assert network in {net.name for net in facts.networks if net.active}
    assert facts.kernel
    # a host whose KVM hangs offers ancient ones only
    assert facts.vm_processors
    assert facts.os
    assert facts.uptime_s > 0
    assert facts.time is not None
    assert facts.interfaces
    carried = next(net for net in facts.networks if net.name == network)
    assert any(link.master == carried.bridge for link in facts.interfaces)
    await _prepared(host)
    conversion = convert.prepare(
        open_image(BytesSource(appliance.vmdk(8 << 20, {0: b"boot" * 100, 9: b"x" * 65536})))
    )
    disk = b"".join(conversion.stream())
    base, clone, full, config = "ns-test-base0", "ns-test-disk0", "ns-test-disk1", "ns-test-config"
    laid = "ns-test-disk2"
    assert await storage.volume(datastore, base) is None
    await storage.create_disk(datastore, base, conversion.capacity_bytes)
    sent: list[int] = []
    await storage.upload(datastore, base, _once(disk), limit_s=60, sent=sent.append)
    assert sent[-1] == len(disk)
    found = await storage.volume(datastore, base)
    assert found is not None
    assert await storage.digest(found.path) == hashlib.sha256(disk).hexdigest()
    assert await _all(storage.download(datastore, base, limit_s=60)) == disk
    assert "ns-nothing" in await _fails(_all(storage.download(datastore, "ns-nothing", limit_s=60)))
    assert "exists already" in await _fails(storage.create_disk(datastore, base, 1 << 20))
    assert "torage pool not found" in await _fails(storage.create_disk("nowhere", base, 1 << 20))
    await storage.refresh(datastore)
    await storage.clone(
        datastore, base, clone, full=False, capacity_bytes=conversion.capacity_bytes
    )
    await storage.clone(datastore, base, full, full=True, capacity_bytes=conversion.capacity_bytes)
    copy = await storage.volume(datastore, clone)
    assert copy is not None
    assert copy.capacity_bytes == conversion.capacity_bytes
    await storage.overlay(datastore, found.path, laid, conversion.capacity_bytes)
    over = await storage.volume(datastore, laid)
    assert over is not None
    assert over.capacity_bytes == conversion.capacity_bytes
    assert over.physical_bytes < found.physical_bytes or found.physical_bytes < 1 << 20
    assert await storage.file_size(found.path) == len(disk)
    assert await storage.file_size("/nowhere/at-all") == -1
    assert await host.probes.push_rate(_once(b"x" * (1 << 20)), 1 << 20) > 0
    # an address of its own: nobody there asks for a lease
    own = {"gauge.hostname": 'n<&>"', "gauge.address": "10.44.20.9", "gauge.prefix": "24"}
    image = medium.build(
        "n",
        own,
        {
            "name": "n",
            "address": "10.44.20.9",
            "prefix": "24",
            "gateway": "10.44.20.1",
            "dns": "",
            "domain": "x",
        },
    )
    await storage.create_image(datastore, config, len(image))
    await storage.upload(datastore, config, _once(image), limit_s=60, sent=lambda _: None)
    design = VmDesign(
        "ns-test-guest",
        Mark(run="rt", node="lead-1", plan="test"),
        facts.domain_type or "qemu",
        1,
        128 << 20,
        (
            VmDisk(datastore, clone),
            VmDisk(datastore, laid, "scsi", "sda", 0),
        ),
        VmMedium(datastore, config, "hda"),
        (network, network),
        ("virtio", "e1000"),
        ("virtio-scsi",),
        macs=("52:54:00:44:99:01",),
    )
    assert await vms.find("ns-test-guest") is None
    await vms.define(design)
    defined = await vms.find("ns-test-guest")
    assert defined is not None
    assert (defined.mark, defined.vcpu, defined.memory_bytes, defined.disks) == (
        design.mark,
        1,
        128 << 20,
        2,
    )
    assert defined.macs[0] == "52:54:00:44:99:01"
    # none was planned: the hypervisor gives one
    assert re.fullmatch("52:54:00(:[0-9a-f]{2}){3}", defined.macs[1])
    # whoever defined it was cut off before it was told to start with its host
    halfway = await vms.state("ns-test-guest")
    assert halfway is not None
    assert not halfway.autostart
    await vms.define(replace(design, autostart=True))
    whole = await vms.state("ns-test-guest")
    assert whole is not None
    assert (whole.autostart, whole.stored.uuid) == (True, halfway.stored.uuid)
    assert not await vms.running("ns-test-guest")
    await vms.start("ns-test-guest")
    assert await vms.running("ns-test-guest")
    assert any(
        guest.mark == design.mark and guest.running and guest.macs == defined.macs
        for guest in (await host.reading.facts(2.0, facts)).guests
    )
    # nobody listens on the discard port
    assert await host.probes.reaches("127.0.0.1", 9) != ""
    assert await host.probes.reaches(address, 22) == ""
    # nothing in it asks for one
    assert await vms.addresses("ns-test-guest") == []
    await _resized(host)
    await _paused(host)
    await _adopted(host, design, datastore, clone)
    await _grown(host, datastore, clone)
    await _defined_anew(host, replace(design, autostart=True))
    try:
        await vms.remove("ns-test-guest", "another-run")
        raise AssertionError("a VM of another run was removed")
    except Conflict:
        pass
    assert await vms.remove("ns-test-guest", "rt")
    assert not await vms.remove("ns-test-guest", "rt")
    assert (facts.tpm, facts.secure_boot) == (True, True)
    signed = replace(
        design,
        disks=design.disks[:1],
        scsi=(),
        machine="q35",
        firmware="efi",
        secure_boot=True,
        tpm=True,
        limits=VmLimits(disk_mib_s=80, disk_iops=900),
        boots_media=True,
    )
    await vms.define(signed)
    await vms.start("ns-test-guest")
    assert await vms.media("ns-test-guest") != []
    await vms.eject("ns-test-guest")
    assert await vms.media("ns-test-guest") == []
    assert await vms.running("ns-test-guest")
    assert await vms.remove("ns-test-guest", "rt")
    for name in (laid, base, clone, full, config):
        await host.storage.delete(datastore, name)
        assert await storage.volume(datastore, name) is None
