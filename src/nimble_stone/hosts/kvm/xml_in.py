"""Reading what libvirt and Linux answer. Answers come from machines that may lie: parsed safely,
bounded, numbers checked.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from ipaddress import ip_interface

from lxml import etree

from nimble_stone.core.errors import FormatError, RemoteFailed
from nimble_stone.core.estate import Carried, Datastore, Guest, Mark
from nimble_stone.core.package import xml_safe
from nimble_stone.hosts.api import Net, Store, Vm, VmAddress, Volume
from nimble_stone.hosts.kvm.xml_out import MARK

_UNITS = {
    "": 1,
    "b": 1,
    "bytes": 1,
    "kib": 1 << 10,
    "k": 1 << 10,
    "mib": 1 << 20,
    "m": 1 << 20,
    "gib": 1 << 30,
    "g": 1 << 30,
    "tib": 1 << 40,
}


def net(text: str, ready: bool = False) -> Net:
    """A network document."""
    root = _root(text, "a network")
    bridge = root.find("bridge")
    return Net(
        xml_safe.text(root.find("name")),
        xml_safe.text(root.find("uuid")),
        str(bridge.get("name")) if bridge is not None else "",
        root.find("forward") is None,
        ready,
    )


def _root(text: str, what: str) -> etree._Element:
    try:
        return xml_safe.parse(text.encode(), what)
    except FormatError as error:
        raise RemoteFailed(
            f"the host's answer for {what} cannot be read: {error}",
            operation=what,
            hint="See the transcript for what it said.",
        ) from error


def _number(text: str | None) -> int:
    clean = (text or "").strip()
    return int(clean) if clean.isascii() and clean.isdigit() and len(clean) < 20 else 0


def _sized(element: etree._Element | None, default: str = "bytes") -> int:
    if element is None:
        return 0
    return _number(element.text) * _UNITS.get(str(element.get("unit") or default).lower(), 1)


def domain(text: str) -> Vm:
    """A domain document. Raises RemoteFailed when it is none."""
    root = _root(text, "a VM")
    mark = root.find(f"metadata/{{{MARK}}}mark")
    return Vm(
        name=xml_safe.text(root.find("name")),
        uuid=xml_safe.text(root.find("uuid")),
        vcpu=_vcpus(root),
        memory_bytes=_sized(root.find("memory"), "KiB"),
        given_bytes=_sized(root.find("currentMemory"), "KiB"),
        disks=sum(disk.get("device", "disk") == "disk" for disk in root.findall("devices/disk")),
        mark=(
            Mark(
                run=str(mark.get("run") or ""),
                node=str(mark.get("node") or ""),
                plan=str(mark.get("plan") or ""),
            )
            if mark is not None
            else None
        ),
        sources=tuple(
            _source(disk)
            for disk in root.findall("devices/disk")[:64]
            if disk.get("device", "disk") == "disk"
        ),
        macs=tuple(
            str(mac.get("address") or "")[:17].lower()
            for mac in root.findall("devices/interface/mac")[:64]
        ),
        networks=tuple(
            str(nic.get("network") or nic.get("bridge") or nic.get("dev") or "")[:60]
            for nic in root.findall("devices/interface/source")[:64]
        ),
        macs_down=_macs_down(root),
        media=tuple(
            source
            for disk in root.findall("devices/disk[@device='cdrom']")[:16]
            if (source := _source(disk))
        ),
        boots=_boots(root),
    )


_BOOT_DEVICES = {"hd": "disk", "cdrom": "cdrom", "network": "network", "fd": "floppy"}


def _boots(root: etree._Element) -> str:
    """What a domain starts from first. Where devices have an order, the machine's is not asked."""
    if root.find("os/kernel") is not None:
        return "kernel"
    first, order = None, 0
    for device in root.findall("devices/*")[:200]:
        boot = device.find("boot")
        place = _number(boot.get("order")) if boot is not None else 0
        if place and (first is None or place < order):
            first, order = device, place
    if first is None:
        boot = root.find("os/boot")
        return _BOOT_DEVICES.get(str(boot.get("dev")) if boot is not None else "hd", "")
    if first.tag != "disk":
        return "network" if first.tag == "interface" else str(first.tag)[:20]
    if (kind := first.get("device", "disk")) != "disk":
        return str(kind)[:20]
    disks = [one for one in root.findall("devices/disk") if one.get("device", "disk") == "disk"]
    target = first.find("target")
    name = str(target.get("dev"))[:20] if target is not None else ""
    return "disk" if disks[0] is first else f"disk {name}"


def _vcpus(root: etree._Element) -> int:
    """Those that are plugged in; the rest may be added while it runs."""
    count = root.find("vcpu")
    if count is None:
        return 0
    return _number(count.get("current")) or _number(xml_safe.text(count))


def _macs_down(root: etree._Element) -> tuple[str, ...]:
    found = []
    for nic in root.findall("devices/interface")[:64]:
        link, mac = nic.find("link"), nic.find("mac")
        if link is not None and link.get("state") == "down" and mac is not None:
            found.append(str(mac.get("address") or "")[:17].lower())
    return tuple(found)


@dataclass(frozen=True)
class ConsoleLog:
    """A file that a VM's console is written to, and the datastore of its config ISO."""

    path: str
    datastore: str


def console_log(text: str) -> ConsoleLog | None:
    """Where a domain's first serial port is written. Raises RemoteFailed when it is no domain."""
    root = _root(text, "a VM")
    log, medium = root.find("devices/serial/log"), root.find("devices/disk[@device='cdrom']/source")
    if log is None or medium is None or not medium.get("pool"):
        return None
    return ConsoleLog(str(log.get("file") or "")[:300], str(medium.get("pool"))[:60])


def _source(disk: etree._Element) -> str:
    source = disk.find("source")
    if source is None:
        return ""
    if source.get("pool"):
        return f"{source.get('pool')}/{source.get('volume')}"[:300]
    return str(source.get("file") or source.get("dev") or source.get("name") or "")[:300]


def targets(text: str) -> dict[str, str]:
    """Device name → source of each drive of a domain document, `datastore/volume` or a path."""
    found = {}
    for disk in _root(text, "a domain").findall("devices/disk")[:64]:
        target = disk.find("target")
        if target is not None:
            found[str(target.get("dev") or "")[:20]] = _source(disk)
    return found


def guest(text: str, running: bool) -> Guest:
    """The same as an estate fact."""
    found = domain(text)
    return Guest(
        name=found.name,
        uuid=found.uuid,
        running=running,
        vcpu=found.vcpu,
        memory_bytes=found.memory_bytes,
        mark=found.mark,
        disks=tuple(source for source in found.sources if source),
        networks=tuple(net for net in found.networks if net),
        macs=found.macs,
    )


def volume(text: str) -> Volume:
    """A volume document."""
    root = _root(text, "a volume")
    form = root.find("target/format")
    physical = root.find("physical")
    return Volume(
        xml_safe.text(root.find("name")),
        xml_safe.text(root.find("target/path")),
        _sized(root.find("capacity")),
        _sized(physical if physical is not None else root.find("allocation")),
        str(form.get("type")) if form is not None else "raw",
        _mode(xml_safe.text(root.find("target/permissions/mode"))),
    )


def _mode(text: str) -> str:
    """A file's mode, where these are octal digits."""
    return text if re.fullmatch(r"[0-7]{1,5}", text) else ""


def pool(text: str) -> Store:
    """A pool document. A remote source (host and directory) identifies a datastore shared by
    several hosts.
    """
    root = _root(text, "a datastore")
    server, folder = root.find("source/host"), root.find("source/dir")
    shared = (
        f"{server.get('name')}:{folder.get('path')}"
        if server is not None and folder is not None and root.get("type") == "netfs"
        else ""
    )
    return Store(
        xml_safe.text(root.find("name")),
        xml_safe.text(root.find("target/path")),
        _sized(root.find("capacity")),
        _sized(root.find("available")),
        shared,
        str(root.get("type") or "dir"),
        xml_safe.text(root.find("uuid")),
    )


def datastore(found: Store, active: bool, df_avail: int | None) -> Datastore:
    """The datastore; free space is the smaller of what the pool and the file system say."""
    free = found.free_bytes if df_avail is None else min(found.free_bytes, df_avail)
    return Datastore(
        name=found.name,
        path=found.path,
        capacity_bytes=found.capacity_bytes,
        free_bytes=free,
        active=active,
        shared=found.shared,
        kind=found.kind,
        uuid=found.uuid,
    )


def network(text: str, active: bool, links: dict[str, int]) -> Carried:
    """A network document; `links` maps interface names to their MTU. A bridge that does not exist
    makes the network inactive.
    """
    root = _root(text, "a network")
    bridge = root.find("bridge")
    name = str(bridge.get("name")) if bridge is not None else ""
    return Carried(
        name=xml_safe.text(root.find("name")),
        bridge=name,
        active=active and (not name or name in links),
        mtu=links.get(name),
    )


def capabilities(text: str) -> tuple[str, int]:
    """(CPU model, threads)."""
    root = _root(text, "the capabilities")
    topology = root.find("host/topology/cells")
    threads = (
        sum(_number(cpus.get("num")) for cpus in topology.iter("cpus"))
        if topology is not None
        else 0
    )
    return xml_safe.text(root.find("host/cpu/model")), threads


def loaded(text: str) -> list[str]:
    """Device names of the CD-ROM drives of a domain that hold something. One that was emptied while
    the VM runs keeps a source without any place.
    """
    found = []
    for disk in _root(text, "the VM").iterfind("devices/disk[@device='cdrom']"):
        source, target = disk.find("source"), disk.find("target")
        places = {"volume", "file", "dev", "name"} & set(
            source.keys() if source is not None else ()
        )
        if places and target is not None:
            found.append(target.get("dev") or "")
    return found


MOST_PROCESSORS = 400


@dataclass(frozen=True)
class Offers:
    """What a hypervisor can give its VMs; None where it did not say."""

    tpm: bool | None = None
    secure_boot: bool | None = None
    processors: tuple[str, ...] = ()
    """Named models that work on this very machine."""


def offers(text: str) -> Offers:
    """From its capabilities for VMs, '' when they could not be read."""
    if not text:
        return Offers()
    root = _root(text, "the capabilities for VMs")
    tpm = root.find("devices/tpm")
    kinds = [
        xml_safe.text(one)
        for one in (tpm.iterfind("enum[@name='backendModel']/value") if tpm is not None else ())
    ]
    secure = [xml_safe.text(one) for one in root.iterfind("os/loader/enum[@name='secure']/value")]
    supported = tpm is not None and tpm.get("supported") == "yes"
    models = root.iterfind("cpu/mode[@name='custom']/model[@usable='yes']")
    processors = tuple(sorted({xml_safe.text(one) for one in models}))[:MOST_PROCESSORS]
    return Offers(supported and "emulator" in kinds, "yes" in secure, processors)


def numa(text: str) -> list[tuple[int, int, int]]:
    """(cell, threads, memory in bytes) of each NUMA node."""
    cells = []
    for cell in _root(text, "the capabilities").findall("host/topology/cells/cell")[:64]:
        cpus = cell.find("cpus")
        cells.append(
            (
                _number(cell.get("id")),
                _number(cpus.get("num")) if cpus is not None else 0,
                _sized(cell.find("memory"), "KiB"),
            )
        )
    return cells


def key_values(text: str) -> dict[str, str]:
    """'key : value' lines as a mapping."""
    return {
        key.strip(): value.strip()
        for key, _, value in (line.partition(":") for line in text.splitlines())
        if value
    }


def memory_bytes(text: str) -> int:
    """Total memory from nodememstats (KiB). nodeinfo's figure is one NUMA cell's and may be
    wrong.
    """
    return _number(key_values(text).get("total", "").split(" ")[0]) << 10


def interface_addresses(text: str) -> dict[str, list[VmAddress]]:
    """MAC address → IPv4 addresses, by `domifaddr`'s table: name, MAC, protocol,
    address. Loopback, link-local and odd lines are left out.

    The neighbour table knows no prefix and says /0; that is answered as ''.
    """
    found: dict[str, list[VmAddress]] = {}
    for line in text.splitlines()[:500]:
        words = line.split()
        if len(words) != 4 or words[2] != "ipv4":
            continue
        try:
            address = ip_interface(words[3])
        except ValueError:
            continue
        if address.version == 4 and not (
            address.ip.is_loopback
            or address.ip.is_link_local
            or address.ip.is_multicast
            or address.ip.is_unspecified
        ):
            prefix = str(address.network.prefixlen) if address.network.prefixlen else ""
            found.setdefault(words[1].lower(), []).append(VmAddress(str(address.ip), prefix))
    return found


def names(text: str) -> list[str]:
    """One name a line."""
    return [line.strip() for line in text.splitlines() if line.strip()][:5000]
