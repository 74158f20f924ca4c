"""What a stand-in host is made of below its hypervisor: interfaces, disks, files, pools, networks.
Made from its plan, kept with its state.
"""

from __future__ import annotations

import uuid as uuids
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Network
from typing import Any

from nimble_stone.core.estate import Network
from nimble_stone.core.units import GIB, TIB
from nimble_stone.lab.scenario import demo
from nimble_stone.lab.scenario.demo import HostPlan

IMAGES = "/var/lib/libvirt/images"
ELSEWHERE = Network(
    name="elsewhere",
    subnet=IPv4Network("10.44.250.0/24"),
    gateway=IPv4Address("10.44.250.1"),
    vlan=999,
)
"""Of a host whose networks the scenario does not know."""


@dataclass
class LabStore:
    """A storage pool."""

    name: str
    capacity_bytes: int
    free_bytes: int
    shared: str = ""
    uuid: str = ""
    kind: str = "dir"
    path: str = ""
    active: bool = True
    autostart: bool = True
    device: str = ""

    def place(self, host: str) -> str:
        """Where its volumes are kept: one place for all hosts that share it."""
        return self.shared or f"{host}:{self.path.removeprefix(IMAGES + '/')}"


@dataclass
class LabNet:
    """A libvirt network."""

    name: str
    bridge: str
    uuid: str = ""
    active: bool = True
    autostart: bool = True
    forward: bool = True


@dataclass
class LabLink:
    """An interface."""

    name: str
    kind: str = ""
    mac: str = ""
    mtu: int = 1500
    up: bool = True
    speed: int = 0
    master: str = ""
    parent: str = ""
    vlan: int = 0
    addresses: list[str] = field(default_factory=list)


@dataclass
class LabDisk:
    """A disk or something on it, as lsblk tells it."""

    name: str
    size: int
    kind: str = "disk"
    rota: bool = False
    model: str = ""
    serial: str = ""
    tran: str = ""
    fstype: str = ""
    label: str = ""
    mount: str = ""
    pttype: str = ""
    uuid: str = ""
    children: list[dict[str, Any]] = field(default_factory=list)


@dataclass
class Ground:
    """All of it."""

    stores: dict[str, LabStore] = field(default_factory=dict)
    nets: dict[str, LabNet] = field(default_factory=dict)
    links: dict[str, LabLink] = field(default_factory=dict)
    disks: dict[str, LabDisk] = field(default_factory=dict)
    files: dict[str, str] = field(default_factory=dict)


def load(data: dict[str, Any]) -> Ground:
    """As it was kept."""
    return Ground(
        {name: LabStore(**item) for name, item in data["stores"].items()},
        {name: LabNet(**item) for name, item in data["nets"].items()},
        {name: LabLink(**item) for name, item in data["links"].items()},
        {name: LabDisk(**item) for name, item in data["disks"].items()},
        data["files"],
    )


def fresh_store(name: str, share: str, capacity_bytes: int) -> LabStore:
    """An empty datastore: one that several hosts share, or the host's own where `share` is ''."""
    return LabStore(
        name,
        capacity_bytes,
        capacity_bytes,
        share,
        str(uuids.uuid5(uuids.NAMESPACE_DNS, share or name)),
        "netfs" if share else "dir",
        f"{IMAGES}/{name}",
    )


def new(plan: HostPlan) -> Ground:
    """As the plan says."""
    last = plan.address.split(".")
    own, odd = f"{last[2]}.{last[3]}", plan.odd
    short = int(last[3]) % 200 + 2
    links = {"lo": LabLink("lo", "loopback", "00:00:00:00:00:00", 65536, addresses=["127.0.0.1/8"])}

    def mac(number: int) -> str:
        return f"52:54:{int(last[1]):02x}:{int(last[2]):02x}:{int(last[3]):02x}:{number:02x}"

    links["eno1"] = LabLink("eno1", "", mac(1), speed=10000)
    links["eno2"] = LabLink("eno2", "", mac(2), 9000, speed=25000)
    trunk = "eno2"
    if odd.get("bond"):
        links["eno3"] = LabLink("eno3", "", mac(3), 9000, speed=25000, master="bond0")
        links["eno2"].master, trunk = "bond0", "bond0"
        links["bond0"] = LabLink("bond0", "bond", mac(2), 9000, speed=50000)
    else:
        links["eno3"] = LabLink("eno3", "", mac(3), up=False)
    nets: dict[str, LabNet] = {}
    networks = demo.networks()
    own_network = _network_of(plan, networks)
    for network in plan.networks:
        known = networks.get(network, ELSEWHERE)
        prefix, vlan = known.subnet.prefixlen, known.vlan or 0
        mtu = (odd.get("mtu") or {}).get(network, 9000 if network == "storage" else 1500)
        bridge = f"br-{network}"
        if network == own_network:
            links["eno1"].master, addresses = bridge, [f"{plan.address}/{prefix}"]
        else:
            links[f"{trunk}.{vlan}"] = LabLink(
                f"{trunk}.{vlan}", "vlan", mac(2), mtu, master=bridge, parent=trunk, vlan=vlan
            )
            addresses = (
                [f"{known.subnet.network_address + short}/{prefix}"]
                if network == "storage" and odd.get("no_address") != network
                else []
            )
        links[bridge] = LabLink(bridge, "bridge", mac(16 + len(nets)), mtu, addresses=addresses)
        nets[network] = LabNet(
            network, bridge, str(uuids.uuid5(uuids.NAMESPACE_DNS, f"{network}.{plan.name}"))
        )
    stores = {
        store.name: LabStore(
            store.name,
            store.capacity_bytes,
            store.free_bytes,
            store.shared,
            str(uuids.uuid5(uuids.NAMESPACE_DNS, f"{store.name}.{plan.name}")),
            "netfs" if store.shared else "dir",
            f"{IMAGES}/{store.name}",
        )
        for store in plan.stores
    }
    return Ground(stores, nets, links, _disks(plan, own), _files(plan))


def built_disks(
    drives: Sequence[str], size: int, system: str, data: Collection[str]
) -> dict[str, LabDisk]:
    """The drives of a host that was built from a machine, by serial number: its system's, those
    that the cluster's storage has, and the others, which are empty.
    """
    disks = {}
    for number, serial in enumerate(drives):
        name = f"nvme{number}n1"
        disk = LabDisk(name, size, model="HOLM-N7680", serial=serial, tran="nvme")
        if serial == system:
            disk.pttype = "dos"
            part = {"name": f"{name}p1", "size": size - GIB, "kind": "part", "fstype": "ext4"}
            disk.children = [part | {"mount": "/"}]
        elif serial in data:
            disk.fstype = "ballast_member"
        disks[name] = disk
    return disks


def _network_of(plan: HostPlan, networks: Mapping[str, Network]) -> str:
    """The network that a host is reached in: management, else the one its address is in."""
    if "management" in plan.networks:
        return "management"
    address = IPv4Address(plan.address)
    return next((n for n in plan.networks if n in networks and address in networks[n].subnet), "")


def _disks(plan: HostPlan, own: str) -> dict[str, LabDisk]:
    wanted = plan.odd.get("disks") or {}
    system = LabDisk(
        "sda",
        480 * 10**9,
        model="HOLM-SD480",
        serial=f"S{own.replace('.', '')}A",
        tran="sata",
        pttype="gpt",
        children=[
            {"name": "sda1", "size": GIB, "kind": "part", "fstype": "vfat", "mount": "/boot/efi"},
            {
                "name": "sda2",
                "size": 478 * 10**9,
                "kind": "part",
                "fstype": "LVM2_member",
                "children": [
                    {
                        "name": "vg0-root",
                        "size": 400 * 10**9,
                        "kind": "lvm",
                        "fstype": "ext4",
                        "mount": "/",
                    },
                    {
                        "name": "vg0-swap",
                        "size": 8 * GIB,
                        "kind": "lvm",
                        "fstype": "swap",
                        "mount": "[SWAP]",
                    },
                ],
            },
        ],
    )
    disks = {"sda": system}
    for letter in "bc":
        name = f"sd{letter}"
        disk = LabDisk(
            name,
            4 * TIB,
            rota=True,
            model="HOLM-HD4T",
            serial=f"H{own.replace('.', '')}{letter.upper()}",
            tran="sas",
        )
        if wanted.get(name) == "raid":
            disk.pttype, disk.children = (
                "gpt",
                [
                    {
                        "name": f"{name}1",
                        "size": 4 * TIB - GIB,
                        "kind": "part",
                        "fstype": "linux_raid_member",
                        "label": "old:0",
                    }
                ],
            )
        elif wanted.get(name) == "volume-group":
            disk.fstype, disk.children = (
                "LVM2_member",
                [
                    {
                        "name": "data-build",
                        "size": 3 * TIB,
                        "kind": "lvm",
                        "fstype": "xfs",
                        "mount": "/srv/build",
                    }
                ],
            )
        disks[name] = disk
    return disks


def _files(plan: HostPlan) -> dict[str, str]:
    kelda = plan.site == "Kelda"
    domain = f"{plan.site.lower()}.holm.example"
    files = {
        "/etc/hosts": f"127.0.0.1 localhost\n{plan.address} {plan.name}.{domain} {plan.name}\n",
        "/etc/machine-id": uuids.uuid5(uuids.NAMESPACE_DNS, plan.name).hex,
        "/etc/os-release": 'PRETTY_NAME="Debian GNU/Linux 12 (bookworm)"\nID=debian\n',
        "/etc/resolv.conf": (
            f"search {domain}\nnameserver {'10.44.0.5' if kelda else '10.45.0.5'}\n"
            + ("" if kelda else "nameserver 10.44.0.5\n")
        ),
        "/root/.ssh/authorized_keys": "",
    }
    if not plan.odd.get("no_time"):
        files["/etc/chrony/sources.d/site.sources"] = (
            f"server {'10.44.0.5' if kelda else '10.45.0.5'} iburst\n"
        )
    return files
