"""What a KVM host must do for us, stand-in or real."""

from __future__ import annotations

import hashlib
import re
from collections.abc import AsyncIterator
from ipaddress import IPv4Address

from nimble_stone.core import groundwork as g
from nimble_stone.core.disk import convert
from nimble_stone.core.disk.opening import open_image
from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.errors import Conflict, RemoteFailed
from nimble_stone.core.estate import Mark
from nimble_stone.hosts import groundwork, medium
from nimble_stone.hosts.kvm import KvmHost
from nimble_stone.hosts.xml_out import GuestDesign, GuestDisk
from nimble_stone.lab import appliance


async def _once(data: bytes) -> AsyncIterator[bytes]:
    yield data


async def _fails(awaitable: object) -> str:
    try:
        await awaitable  # type: ignore[misc]
    except RemoteFailed as error:
        return str(error)
    raise AssertionError("no failure")


async def _prepared(host: KvmHost) -> None:
    """Groundwork by its exact commands: done, done again without harm, seen, taken back."""
    actions: tuple[g.Action, ...] = (
        g.IsolatedNetwork(host=host.name, name="ns-inner", bridge="ns-inner0"),
        g.FolderStore(host=host.name, name="ns-folder", path="/var/lib/libvirt/images/ns-folder"),
        g.AddNames(
            host=host.name,
            records=(g.NameRecord(address=IPv4Address("10.44.99.1"), names=("ns-contract",)),),
        ),
    )
    for action in actions:
        for command in groundwork.work(action, "gcontract").act():
            await host.do(command)
    found = await host.network("ns-inner")
    assert found is not None
    assert (found[0].isolated, found[0].uuid, found[1]) == (
        True,
        groundwork.uuid_of("gcontract", host.name, "network", "ns-inner"),
        True,
    )
    pool = await host.pool("ns-folder")
    assert pool is not None
    assert (pool.uuid, pool.path) == (
        groundwork.uuid_of("gcontract", host.name, "pool", "ns-folder"),
        "/var/lib/libvirt/images/ns-folder",
    )
    assert await host.pool_runs("ns-folder")
    assert await host.listing("/var/lib/libvirt/images/ns-folder") == []
    assert "10.44.99.1 ns-contract # nimble-stone:gcontract\n" in (
        await host.text_of("/etc/hosts") or ""
    )
    for action in actions[:2]:
        for command in groundwork.work(action, "gcontract").act():
            # once more: it is so already
            await host.do(command)
    await host.create_volume("ns-folder", "ns-inside", "raw", 1 << 20)
    assert await host.listing("/var/lib/libvirt/images/ns-folder") == ["ns-inside"]
    await host.delete_volume("ns-folder", "ns-inside")
    for action in actions:
        for command in groundwork.work(action, "gcontract").undo():
            await host.do(command)
    assert await host.network("ns-inner") is None
    assert await host.pool("ns-folder") is None
    assert "gcontract" not in (await host.text_of("/etc/hosts") or "")
    assert await host.text_of("/nowhere/at-all") is None


async def keep(host: KvmHost, *, datastore: str, network: str) -> None:
    """Volumes, clones, a guest with our mark, its removal, and the words of failures. Leaves
    nothing behind.
    """
    facts = await host.read_facts(1.0)
    assert facts.memory_bytes > 0
    assert facts.datastore(datastore) is not None
    assert network in {net.name for net in facts.networks if net.active}
    assert facts.kernel
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
    assert await host.volume(datastore, base) is None
    await host.create_volume(datastore, base, "qcow2", conversion.capacity_bytes)
    sent: list[int] = []
    await host.upload(datastore, base, _once(disk), limit_s=60, sent=sent.append)
    assert sent[-1] == len(disk)
    found = await host.volume(datastore, base)
    assert found is not None
    assert await host.digest(found.path) == hashlib.sha256(disk).hexdigest()
    assert "exists already" in await _fails(host.create_volume(datastore, base, "qcow2", 1 << 20))
    assert "torage pool not found" in await _fails(
        host.create_volume("nowhere", base, "qcow2", 1 << 20)
    )
    await host.refresh(datastore)
    await host.clone(datastore, base, clone, full=False, capacity_bytes=conversion.capacity_bytes)
    await host.clone(datastore, base, full, full=True, capacity_bytes=conversion.capacity_bytes)
    copy = await host.volume(datastore, clone)
    assert copy is not None
    assert copy.capacity_bytes == conversion.capacity_bytes
    await host.overlay(datastore, found.path, laid, conversion.capacity_bytes)
    over = await host.volume(datastore, laid)
    assert over is not None
    assert over.capacity_bytes == conversion.capacity_bytes
    assert over.physical_bytes < found.physical_bytes or found.physical_bytes < 1 << 20
    assert await host.file_size(found.path) == len(disk)
    assert await host.file_size("/nowhere/at-all") == -1
    assert await host.push_rate(_once(b"x" * (1 << 20)), 1 << 20) > 0
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
    await host.create_volume(datastore, config, "raw", len(image))
    await host.upload(datastore, config, _once(image), limit_s=60, sent=lambda _: None)
    design = GuestDesign(
        "ns-test-guest",
        Mark(run="rt", node="lead-1", plan="test"),
        facts.domain_type or "qemu",
        1,
        128 << 20,
        (
            GuestDisk(datastore, clone, "qcow2"),
            GuestDisk(datastore, laid, "qcow2", "scsi", "sda", 0),
        ),
        (datastore, config, "hda"),
        (network, network),
        ("virtio", "e1000"),
        ("virtio-scsi",),
        macs=("52:54:00:44:99:01",),
    )
    assert await host.domain("ns-test-guest") is None
    await host.define(design)
    defined = await host.domain("ns-test-guest")
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
    assert not await host.running("ns-test-guest")
    await host.start("ns-test-guest")
    assert await host.running("ns-test-guest")
    assert any(
        guest.mark == design.mark and guest.running and guest.macs == defined.macs
        for guest in (await host.read_facts(2.0, facts)).guests
    )
    # nobody listens on the discard port
    assert await host.reaches("127.0.0.1", 9) != ""
    assert await host.reaches(host._target.address, 22) == ""
    # nothing in it asks for one
    assert await host.first_addresses("ns-test-guest") == []
    try:
        await host.remove("ns-test-guest", "another-run")
        raise AssertionError("a guest of another run was removed")
    except Conflict:
        pass
    assert await host.remove("ns-test-guest", "rt")
    assert not await host.remove("ns-test-guest", "rt")
    for name in (laid, base, clone, full, config):
        await host.delete_volume(datastore, name)
        assert await host.volume(datastore, name) is None
