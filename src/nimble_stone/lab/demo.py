"""The demonstration estate: the Holm Tidal Survey's two machine rooms, and more hosts on request
for large pictures.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network
from typing import Any

from nimble_stone.core.estate import EstateFile, Host, Machine, Network, Pool
from nimble_stone.core.series import Series
from nimble_stone.core.units import GIB, TIB

PASSWORD = "gannet over the skerry 7"
CREDENTIAL = "lab-hosts"
BMC_PASSWORD = "granite under the tide 3"
BMC_CREDENTIAL = "lab-controllers"
_STONES: tuple[tuple[str, dict[str, Any]], ...] = (
    ("basalt", {"worn": 5}),
    ("chert", {"bios": "2.1.0"}),
    ("flint", {"sparse": True}),
    ("gneiss", {}),
    ("granite", {"certificate": "wrong"}),
    ("slate", {"slow_s": 0.2, "no_sessions": True}),
)
"""Machines and what is odd about them: a worn drive, an old BIOS, members left out, a wrong
certificate, a slow controller without sessions.
"""
_BIRDS = ("gannet", "fulmar", "skua", "petrel", "tern", "whimbrel", "dunlin", "knot")
_MORE = (
    "auk",
    "avocet",
    "bittern",
    "brant",
    "curlew",
    "diver",
    "eider",
    "gadwall",
    "garganey",
    "godwit",
    "goosander",
    "grebe",
    "guillemot",
    "heron",
    "kittiwake",
    "lapwing",
    "merganser",
    "noddy",
    "osprey",
    "pintail",
    "plover",
    "pochard",
    "puffin",
    "razorbill",
    "redshank",
    "sanderling",
    "scaup",
    "scoter",
    "shag",
    "shearwater",
    "shelduck",
    "smew",
    "snipe",
    "stint",
    "teal",
    "turnstone",
    "wigeon",
)


@dataclass(frozen=True)
class Bedrock:
    """A guest that runs on a host before we come. Memory in bytes."""

    name: str
    memory_bytes: int
    vcpu: int


@dataclass(frozen=True)
class StorePlan:
    """A datastore of a lab host. `shared` names the export several hosts see."""

    name: str
    capacity_bytes: int
    free_bytes: int
    shared: str = ""


@dataclass(frozen=True)
class HostPlan:
    """A lab host. Memory in bytes. `odd`: what is amiss with it (the knobs of lab/ground.py), so
    that there is something to find.
    """

    name: str
    address: str
    site: str
    bay: str
    memory_bytes: int
    threads: int
    bedrock: tuple[Bedrock, ...]
    stores: tuple[StorePlan, ...]
    networks: tuple[str, ...]
    odd: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class MachinePlan:
    """A bare machine of the lab, by its controller's address. Memory and drives in bytes."""

    name: str
    address: str
    site: str
    bay: str
    model: str
    memory_bytes: int
    cores: int
    drives: int
    drive_bytes: int
    drive_kind: str
    odd: dict[str, Any] = field(default_factory=dict)

    def mac(self, port: int) -> str:
        """A port's address."""
        last = self.address.split(".")
        return f"52:54:bb:{int(last[2]):02x}:{int(last[3]):02x}:{port:02x}"


@dataclass(frozen=True)
class LabPlan:
    """All of the lab. `octet`: Kelda's 10.44/16 lies at 127.octet/16, Ness's 10.45/16 at
    127.(octet+1)/16.
    """

    hosts: tuple[HostPlan, ...]
    octet: int = 44
    machines: tuple[MachinePlan, ...] = ()

    def real(self, planned: str, port: int) -> tuple[str, int]:
        """Where a planned address and port lie on the loopback interface."""
        parts = planned.split(".")
        if parts[0] != "10" or parts[1] not in ("44", "45"):
            raise ValueError(f"{planned} is not in the lab")
        return f"127.{self.octet + int(parts[1]) - 44}.{parts[2]}.{parts[3]}", (
            port + 20000 if port < 1024 else port
        )


def _bedrock(*items: tuple[str, int]) -> tuple[Bedrock, ...]:
    return tuple(Bedrock(name, gib * GIB, max(1, gib // 8)) for name, gib in items)


def _local(name: str, capacity: float, used: float) -> StorePlan:
    return StorePlan(f"{name}-local", int(capacity * TIB), int(capacity * (1 - used) * TIB))


_KELDA_SHARED = StorePlan(
    "kelda-shared", 12 * TIB, 7 * TIB, "filer.kelda.holm.example:/export/guests"
)
_NESS_SHARED = StorePlan("ness-shared", 6 * TIB, 2 * TIB, "filer.ness.holm.example:/export/guests")
EXPORTS = {
    "filer.kelda.holm.example:/export/guests": (12 * TIB, 7 * TIB),
    "filer.ness.holm.example:/export/guests": (6 * TIB, 2 * TIB),
    "filer.kelda.holm.example:/export/cold": (24 * TIB, 19 * TIB),
    "filer.ness.holm.example:/export/cold": (16 * TIB, 15 * TIB),
}
"""NFS exports that the lab's filers offer: capacity and free bytes."""
_ODD: dict[str, dict[str, Any]] = {
    "fulmar": {"mtu": {"storage": 1500}},
    "skua": {"bond": True},
    "petrel": {"no_address": "storage", "disks": {"sdc": "raid"}},
    "tern": {"swap_used": 3 * GIB},
    "whimbrel": {"clock_s": 4.2, "no_time": True},
    "dunlin": {"version": "QEMU 7.2.9", "disks": {"sdb": "volume-group"}},
    "knot": {"forgetful": True, "setup": "ifupdown"},
}
_LOAD = {
    "gannet": (256, 48, (("survey-db", 48), ("mirror", 32), ("names", 16)), 2.0, 0.42),
    "fulmar": (256, 48, (("maps", 64), ("names-2", 16)), 2.0, 0.31),
    "skua": (384, 64, (("model-1", 96), ("model-2", 96)), 4.0, 0.48),
    "petrel": (256, 48, (("ledger", 48),), 2.0, 0.12),
    "tern": (192, 32, (("mirror-2", 40),), 1.0, 0.38),
    "whimbrel": (192, 32, (("cache", 32), ("watch", 8)), 1.0, 0.22),
    "dunlin": (192, 32, (("build", 16),), 1.0, 0.30),
    "knot": (128, 24, (("time", 8),), 1.0, 0.08),
}


def plan(more: int = 0, octet: int = 44) -> LabPlan:
    """The eight hosts of the demonstration, and `more` further ones in the bay *outfield*
    of Kelda.
    """
    hosts = []
    for number, name in enumerate(_BIRDS):
        kelda = number < 4
        memory, threads, guests, capacity, used = _LOAD[name]
        networks: tuple[str, ...] = (
            ("management", "survey", "storage") if kelda else ("management", "ness-survey")
        )
        if name == "knot":
            # the host that lacks the survey network: somebody must notice
            networks = ("management",)
        hosts.append(
            HostPlan(
                name,
                f"10.{44 if kelda else 45}.1.{11 + number}",
                "Kelda" if kelda else "Ness",
                "kelda-main" if kelda else "ness-two",
                memory * GIB,
                threads,
                _bedrock(*guests),
                (_KELDA_SHARED if kelda else _NESS_SHARED, _local(name, capacity, used)),
                networks,
                _ODD.get(name, {}),
            )
        )
    for number in range(more):
        name = _MORE[number % len(_MORE)] + (
            f"-{number // len(_MORE) + 1}" if number >= len(_MORE) else ""
        )
        load = (
            ("gauge-feed", 16 + (number * 37) % 96),
            *((("batch", 8 + (number * 13) % 40),) if number % 3 else ()),
        )
        hosts.append(
            HostPlan(
                name,
                f"10.44.{2 + number // 200}.{11 + number % 200}",
                "Kelda",
                "outfield",
                (192, 256, 384)[number % 3] * GIB,
                48,
                _bedrock(*load),
                (_local(name, 4.0, 0.1 + (number * 7 % 40) / 100),),
                ("management", "survey"),
            )
        )
    machines = tuple(
        MachinePlan(
            name,
            f"10.44.3.{101 + number}",
            "Kelda",
            "kelda-metal",
            "HS-2200",
            384 * GIB,
            32,
            10,
            int(7.6 * TIB),
            "SSD",
            odd,
        )
        for number, (name, odd) in enumerate(_STONES)
    )
    return LabPlan(tuple(hosts), octet, machines)


def estate_file(lab: LabPlan) -> EstateFile:
    """What a person would have entered about it."""

    def ip(text: str) -> IPv4Address:
        return IPv4Address(text)

    networks = (
        Network(
            name="management",
            subnet=IPv4Network("10.44.0.0/22"),
            gateway=ip("10.44.0.1"),
            dns=(ip("10.44.0.5"),),
            ntp="10.44.0.5",
            domain="kelda.holm.example",
        ),
        Network(
            name="survey",
            subnet=IPv4Network("10.44.20.0/23"),
            gateway=ip("10.44.20.1"),
            vlan=420,
            dns=(ip("10.44.0.5"), ip("10.45.0.5")),
            ntp="10.44.0.5",
            domain="kelda.holm.example",
            subnet6=IPv6Network("fd44:5e1d:20::/64"),
            gateway6=IPv6Address("fd44:5e1d:20::1"),
            dynamic_first=ip("10.44.20.80"),
            dynamic_last=ip("10.44.20.99"),
        ),
        Network(
            name="storage",
            subnet=IPv4Network("10.44.60.0/24"),
            gateway=ip("10.44.60.1"),
            vlan=460,
            mtu=9000,
        ),
        Network(
            name="ness-survey",
            subnet=IPv4Network("10.45.20.0/24"),
            gateway=ip("10.45.20.1"),
            vlan=520,
            dns=(ip("10.45.0.5"), ip("10.44.0.5")),
            ntp="10.45.0.5",
            domain="ness.holm.example",
        ),
    )
    pools = (
        Pool(
            name="kelda-survey",
            network="survey",
            first=ip("10.44.20.11"),
            last=ip("10.44.20.74"),
            excluded=(ip("10.44.20.20"),),
        ),
        Pool(
            name="ness-survey",
            network="ness-survey",
            first=ip("10.45.20.11"),
            last=ip("10.45.20.58"),
        ),
        Pool(
            name="kelda-storage",
            network="storage",
            first=ip("10.44.60.11"),
            last=ip("10.44.60.42"),
            excluded=(ip("10.44.60.20"),),
            reserved={
                ip("10.44.60.40"): "filer, second head",
                ip("10.44.60.41"): "filer, spare head",
            },
        ),
        Pool(name="outfield", network="survey", first=ip("10.44.20.100"), last=ip("10.44.21.250")),
    )
    series = (
        Series(name="kelda-macs", kind="mac", first="52:54:00:44:00:01", last="52:54:00:44:0f:ff"),
        Series(
            name="kelda-six",
            kind="ipv6",
            network="survey",
            first="fd44:5e1d:20::100",
            last="fd44:5e1d:20::4ff",
            excluded=("fd44:5e1d:20::111",),
        ),
        Series(name="kelda-groups", kind="number", first="1", last="255", excluded=("1",)),
    )
    hosts = tuple(
        Host(
            name=host.name,
            address=host.address,
            user="root",
            credential=CREDENTIAL,
            site=host.site,
            bay=host.bay,
        )
        for host in lab.hosts
    )
    return EstateFile(networks=networks, pools=pools, hosts=hosts, series=series)


def machines_of(lab: LabPlan) -> list[Machine]:
    """The bare machines, to be added once their certificates were looked at."""
    return [
        Machine(
            name=one.name,
            address=one.address,
            credential=BMC_CREDENTIAL,
            site=one.site,
            bay=one.bay,
        )
        for one in lab.machines
    ]


PLAN = """\
# The gauges of the western shore. Two archive nodes hold every reading twice.
nimble-stone: plan/1
name: western
title: Western gauges
kit: gauge-collector
package: Gauge Collector 4.2.0
bay: kelda-main
values:
  pool: kelda-survey
  station: west
roles:
  lead:
    count: 1
  archive:
    count: 2
    values:
      size: medium
"""
