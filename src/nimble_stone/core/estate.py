"""The estate: hosts, datastores, networks, pools and what was read of them. Sizes in bytes,
instants in epoch seconds.
"""

from __future__ import annotations

from collections.abc import Collection
from functools import cached_property
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network
from typing import Literal

from pydantic import Field, FiniteFloat, model_validator

from nimble_stone.core.inspection.report import Inspection
from nimble_stone.core.models import Fixed
from nimble_stone.core.separation import Domains
from nimble_stone.core.series import MAX_SPAN, Series

HOST_NAME = r"^[a-z0-9][a-z0-9.-]*$"
"""Names of hosts and machines."""


class Network(Fixed):
    """A network of the estate. Hosts carry it under the same name."""

    name: str = Field(min_length=1, max_length=60)
    subnet: IPv4Network
    gateway: IPv4Address
    vlan: int | None = Field(default=None, ge=1, le=4094)
    mtu: int | None = Field(default=None, ge=576, le=65535)
    dns: tuple[IPv4Address, ...] = ()
    ntp: str = ""
    domain: str = ""
    subnet6: IPv6Network | None = None
    gateway6: IPv6Address | None = None
    dynamic_first: IPv4Address | None = Field(
        default=None,
        description="First DHCP address of the network; empty: no DHCP.",
    )
    dynamic_last: IPv4Address | None = None
    name_server: IPv4Address | None = Field(
        default=None,
        description=(
            "Server that takes name records of the domain and of the subnet by signed dynamic"
            " update (RFC 2136, RFC 8945); empty: none."
        ),
    )
    name_port: int = Field(default=53, ge=1, le=65535)
    name_key: str = Field(
        default="",
        max_length=255,
        pattern=r"^[A-Za-z0-9._-]*$",
        description="Name of its TSIG key.",
    )
    name_algorithm: Literal["hmac-sha256", "hmac-sha384", "hmac-sha512"] = "hmac-sha256"
    name_credential: str = Field(
        default="", max_length=200, description="Keyring entry with the key's secret, in base64."
    )

    @model_validator(mode="after")
    def _whole(self) -> Network:
        if self.name_server and not (self.name_key and self.name_credential):
            raise ValueError(
                f"network “{self.name}”: a name server needs a key and its keyring entry"
            )
        if (self.dynamic_first is None) != (self.dynamic_last is None):
            raise ValueError(f"network “{self.name}”: a dynamic range has two ends")
        if (
            self.dynamic_first
            and self.dynamic_last
            and not (
                self.dynamic_first <= self.dynamic_last
                and self.dynamic_first in self.subnet
                and self.dynamic_last in self.subnet
            )
        ):
            raise ValueError(f"network “{self.name}”: the dynamic range is not in {self.subnet}")
        return self

    def dynamic(self, address: IPv4Address) -> bool:
        """Whether a DHCP server may hand out that address."""
        return (
            self.dynamic_first is not None
            and self.dynamic_last is not None
            and self.dynamic_first <= address <= self.dynamic_last
        )


class Pool(Fixed):
    """A range that hands out addresses of a network in order; both ends belong to it."""

    name: str = Field(min_length=1, max_length=60)
    network: str
    first: IPv4Address
    last: IPv4Address
    excluded: tuple[IPv4Address, ...] = Field(default=(), max_length=10_000)
    reserved: dict[IPv4Address, str] = Field(
        default={},
        max_length=10_000,
        description="Reserved for others: address → for whom.",
    )
    order: Literal["up", "down"] = Field(
        default="up",
        description="From which end addresses are given; virtual ones come from the other.",
    )

    @model_validator(mode="after")
    def _is_a_range(self) -> Pool:
        if self.first > self.last:
            raise ValueError(f"pool “{self.name}”: {self.first} lies after {self.last}")
        if int(self.last) - int(self.first) >= MAX_SPAN:
            raise ValueError(f"pool “{self.name}” holds more than {MAX_SPAN} addresses")
        return self

    def kept_out(self) -> frozenset[IPv4Address]:
        """Addresses that are never given."""
        return frozenset((*self.excluded, *self.reserved))


class Machine(Fixed):
    """A bare machine, reached through its management controller (Redfish, DSP0266). `credential`
    names a keyring entry.
    """

    name: str = Field(min_length=1, max_length=60, pattern=HOST_NAME)
    address: str
    port: int = Field(default=443, ge=1, le=65535)
    user: str = "admin"
    credential: str
    site: str
    bay: str
    rack: str = Field(
        default="", max_length=60, description="Where it is built in; racks are named per site."
    )
    note: str = Field(default="", max_length=500)
    tags: tuple[str, ...] = Field(default=(), max_length=20)
    boots: Literal["media", "network"] = Field(
        default="media", description="How it gets what it boots: virtual media, or the network."
    )

    @property
    def domains(self) -> Domains:
        """Where it stands, for the rules about failure domains."""
        return Domains(self.name, self.rack, self.bay, self.site)


class Origin(Fixed):
    """Where a host comes from that was built here: the node of a run, and the machine it is on."""

    run: str = Field(max_length=60)
    plan: str = Field(max_length=60)
    node: str = Field(max_length=60)
    machine: str = Field(max_length=60)


class Host(Fixed):
    """A hypervisor host and how to log in. `kind`: which driver speaks to it; `credential` names a
    keyring entry.
    """

    name: str = Field(min_length=1, max_length=60, pattern=HOST_NAME)
    address: str
    port: int = Field(default=22, ge=1, le=65535)
    user: str = "root"
    credential: str
    site: str
    bay: str
    rack: str = Field(
        default="", max_length=60, description="Where it is built in; racks are named per site."
    )
    note: str = Field(default="", max_length=500)
    tags: tuple[str, ...] = Field(default=(), max_length=20)
    kind: Literal["kvm"] = "kvm"
    origin: Origin | None = None
    """Set for hosts that were built here."""

    @property
    def domains(self) -> Domains:
        """Where it stands, for the rules about failure domains."""
        return Domains(self.name, self.rack, self.bay, self.site)


class EstateFile(Fixed):
    """What is known before anything was read: the form of `nimble-stone estate load FILE`."""

    networks: tuple[Network, ...] = ()
    pools: tuple[Pool, ...] = ()
    hosts: tuple[Host, ...] = ()
    machines: tuple[Machine, ...] = ()
    series: tuple[Series, ...] = ()


class Mark(Fixed):
    """Our mark on a guest: which run made it, for which node of which plan."""

    run: str
    node: str
    plan: str = ""


class Guest(Fixed):
    """A guest found on a host."""

    name: str
    uuid: str = ""
    running: bool = False
    vcpu: int = 0
    memory_bytes: int = 0
    mark: Mark | None = None
    disks: tuple[str, ...] = ()  # datastore/volume, or a path
    networks: tuple[str, ...] = ()
    macs: tuple[str, ...] = ()


class Datastore(Fixed):
    """A storage pool as one host sees it. `shared` identifies the remote export, '' for a local
    one; `uuid` as the host gave it.
    """

    name: str
    path: str
    capacity_bytes: int
    free_bytes: int
    active: bool = True
    shared: str = ""
    kind: str = "dir"
    uuid: str = ""


class Carried(Fixed):
    """A network as one host carries it. `isolated`: no interface of the host leads out of it."""

    name: str
    bridge: str
    active: bool = True
    mtu: int | None = None
    isolated: bool = False


class NumaCell(Fixed):
    """A NUMA node of a host."""

    id: int
    threads: int
    memory_bytes: int


class Interface(Fixed):
    """A network interface of a host. `master` is the bridge or bond it belongs to, `parent` what a
    VLAN lies on; speed in Mbit/s, 0 unknown.
    """

    name: str
    # physical, bridge, bond, vlan, tap, loopback, or the kernel's own word
    kind: str = "physical"
    mac: str = ""
    mtu: int = 0
    link: bool = False
    speed_mbit: int = 0
    master: str = ""
    parent: str = ""
    vlan: int = 0
    addresses: tuple[str, ...] = ()  # with prefix length
    config: str = ""  # the file that networkd configures it by


DiskUse = Literal["free", "mounted", "member", "remains", "unrecognised"]


class BlockDevice(Fixed):
    """A disk of a host. `use`: free, mounted, part of something, or remains of something older;
    `why` says which.
    """

    name: str
    path: str
    size_bytes: int
    rotational: bool = False
    model: str = ""
    serial: str = ""
    bus: str = ""
    use: DiskUse = "unrecognised"
    why: str = ""
    parts: tuple[str, ...] = ()  # paths of partitions, for wiping them first


class TimeSync(Fixed):
    """How a host keeps time. `offset_s`: its clock less ours, give or take `uncertain_s`; `source`
    what it follows, '' nothing.
    """

    offset_s: float = 0.0
    uncertain_s: float = 0.0
    source: str = ""
    stratum: int = 0


class Path(Fixed):
    """Whether packets of a network's full size pass to a peer without being broken up."""

    network: str
    peer: str
    address: str
    mtu: int
    passes: bool
    words: str = ""


class Change(Fixed):
    """One thing that differs from the reading before."""

    what: str
    was: str
    now: str


class Facts(Fixed):
    """What was read of one host, and when. With `trouble` set nothing new could be read; the rest
    is then the last that is known.

    None where a thing could not be told; `unread` says what this account may not read, and why.
    """

    host: str
    read_at: float = 0.0
    tried_at: float = 0.0
    machine_id: str = ""
    kernel: str = ""
    os: str = ""
    sockets: int = 0
    cores: int = 0
    virtualization: str = ""
    numa: tuple[NumaCell, ...] = ()
    memory_free_bytes: int = 0
    swap_bytes: int = 0
    swap_used_bytes: int = 0
    uptime_s: float = 0.0
    load: float = 0.0
    interfaces: tuple[Interface, ...] = ()
    disks: tuple[BlockDevice, ...] = ()
    time: TimeSync | None = None
    resolvers: tuple[str, ...] = ()
    search: tuple[str, ...] = ()
    # name of a peer → address as this host resolves it, '' unknown
    resolves: dict[str, str] = {}
    password_login: bool | None = None
    network_setup: Literal["networkd", "ifupdown", ""] = ""
    paths: tuple[Path, ...] = ()
    unread: tuple[str, ...] = ()
    changes: tuple[Change, ...] = ()
    changed_since: float = 0.0
    hostname: str = ""
    hypervisor: str = ""
    cpu_model: str = ""
    vm_processors: tuple[str, ...] = ()
    """Named models of processors that it can give VMs."""
    tpm: bool | None = None
    """Whether it can give VMs a TPM."""
    secure_boot: bool | None = None
    """Whether it has firmware that starts only signed systems."""
    threads: int = 0
    memory_bytes: int = 0
    domain_type: Literal["kvm", "qemu", ""] = ""
    domain_reason: str = ""
    datastores: tuple[Datastore, ...] = ()
    networks: tuple[Carried, ...] = ()
    guests: tuple[Guest, ...] = ()
    trouble: str = ""
    trouble_code: str = ""

    @property
    def used_memory_bytes(self) -> int:
        """Memory promised to running guests: the bedrock."""
        return sum(guest.memory_bytes for guest in self.guests if guest.running)

    @cached_property
    def _stores_by_name(self) -> dict[str, Datastore]:
        return {store.name: store for store in self.datastores}

    def datastore(self, name: str) -> Datastore | None:
        """The datastore with this name, if this host has it."""
        return self._stores_by_name.get(name)


class Processor(Fixed):
    """A processor of a bare machine."""

    model: str = ""
    cores: int = 0
    threads: int = 0


class Drive(Fixed):
    """A drive of a bare machine."""

    name: str
    size_bytes: int = 0
    kind: str = ""  # as MediaType says: HDD, SSD
    protocol: str = ""
    serial: str = ""
    health: str = ""


class Nic(Fixed):
    """A network adapter's port of a bare machine."""

    name: str
    mac: str = ""
    speed_mbit: int = 0
    link: bool | None = None


class MediaSlot(Fixed):
    """A virtual media slot of a management controller."""

    id: str
    kinds: tuple[str, ...] = ()
    image: str = ""
    inserted: bool = False


class Firmware(Fixed):
    """A piece of firmware and its version."""

    name: str
    version: str


class MachineFacts(Fixed):
    """What a management controller said of its machine (DSP0266). With `trouble` the rest is the
    last that is known.

    `missing`: members the controller leaves out, so that an empty place is not taken for a zero.
    """

    machine: str
    read_at: float = 0.0
    tried_at: float = 0.0
    system: str = ""  # the system's path on the controller
    maker: str = ""
    model: str = ""
    serial: str = ""
    uuid: str = ""
    power: str = ""  # PowerState
    health: str = ""
    memory_bytes: int = 0
    processors: tuple[Processor, ...] = ()
    drives: tuple[Drive, ...] = ()
    nics: tuple[Nic, ...] = ()
    boot_now: str = ""  # BootSourceOverrideTarget
    boot_enabled: str = ""
    boot_options: tuple[str, ...] = ()
    resets: tuple[str, ...] = ()  # ResetType values it allows
    media: tuple[MediaSlot, ...] = ()
    firmware: tuple[Firmware, ...] = ()
    redfish: str = ""
    certificate: str = ""  # what is odd about its certificate, '' nothing
    missing: tuple[str, ...] = ()
    inside: Inspection | None = None
    """What the last inspection saw, None when there was none."""
    trouble: str = ""
    trouble_code: str = ""
    changes: tuple[Change, ...] = ()
    changed_since: float = 0.0

    @property
    def threads(self) -> int:
        """Threads of all processors."""
        return sum(processor.threads for processor in self.processors)


class RuleSetting(Fixed):
    """A rule that a bay has switched off, with the reason, or whose limit it sets itself."""

    bay: str
    rule: str
    off: bool = False
    limit: FiniteFloat | None = None
    reason: str = Field(min_length=1, max_length=500)


class StoreCare(Fixed):
    """What the team decided about a datastore. `place`: host/name, or the export of a shared one.
    The watermark is a share of its capacity.
    """

    place: str
    watermark: float = Field(default=0.85, gt=0, le=1)
    protection: Literal["", "protected", "disposable"] = ""


class Estate(Fixed):
    """Everything that can be deployed on, with the last facts of each host."""

    networks: tuple[Network, ...] = ()
    pools: tuple[Pool, ...] = ()
    hosts: tuple[Host, ...] = ()
    machines: tuple[Machine, ...] = ()
    facts: dict[str, Facts] = {}
    machine_facts: dict[str, MachineFacts] = {}
    settings: tuple[RuleSetting, ...] = ()
    stores: tuple[StoreCare, ...] = ()
    series: tuple[Series, ...] = ()

    @cached_property
    def _hosts_by_name(self) -> dict[str, Host]:
        return {host.name: host for host in self.hosts}

    @cached_property
    def _machines_by_name(self) -> dict[str, Machine]:
        return {machine.name: machine for machine in self.machines}

    @cached_property
    def _networks_by_name(self) -> dict[str, Network]:
        return {network.name: network for network in self.networks}

    @cached_property
    def _pools_by_name(self) -> dict[str, Pool]:
        return {pool.name: pool for pool in self.pools}

    def bay(self, name: str) -> tuple[Host, ...]:
        """The hosts of a bay, in the order of their names."""
        return self.hosts_in((name,))

    def hosts_in(self, bays: Collection[str]) -> tuple[Host, ...]:
        """The hosts of some bays, in the order of their names."""
        return tuple(
            sorted((host for host in self.hosts if host.bay in bays), key=lambda host: host.name)
        )

    def machines_in(self, bays: Collection[str]) -> tuple[Machine, ...]:
        """The bare machines of some bays, in the order of their names."""
        return tuple(
            sorted((one for one in self.machines if one.bay in bays), key=lambda one: one.name)
        )

    def domains(self, name: str) -> Domains | None:
        """Where a host or machine stands; None for one that the estate does not have."""
        found = self.host(name) or self.machine(name)
        return found.domains if found else None

    @cached_property
    def bays(self) -> tuple[str, ...]:
        """All bays that hold hosts or bare machines, in the order of their names."""
        found = {host.bay for host in self.hosts} | {one.bay for one in self.machines}
        return tuple(sorted(found))

    def writable(self, bays: Collection[str]) -> tuple[Machine, ...]:
        """The bare machines of some bays that something can be brought to: by virtual media or
        the network.
        """
        known = self.machine_facts
        return tuple(
            one
            for one in self.machines_in(bays)
            if one.name in known and (known[one.name].media or one.boots == "network")
        )

    def host(self, name: str) -> Host | None:
        """The host with this name."""
        return self._hosts_by_name.get(name)

    def machine(self, name: str) -> Machine | None:
        """The machine with this name."""
        return self._machines_by_name.get(name)

    def network(self, name: str) -> Network | None:
        """The network with this name."""
        return self._networks_by_name.get(name)

    def pool(self, name: str) -> Pool | None:
        """The pool with this name."""
        return self._pools_by_name.get(name)

    def one_series(self, name: str) -> Series | None:
        """The series with this name."""
        return next((one for one in self.series if one.name == name), None)


HOST_RESERVE = 0.05
"""Share of a host's memory that is left to the hypervisor itself."""


def room_bytes(facts: Facts) -> int:
    """Memory that guests may still be given: capacity less the reserve less what is promised
    already.
    """
    return max(0, int(facts.memory_bytes * (1 - HOST_RESERVE)) - facts.used_memory_bytes)
