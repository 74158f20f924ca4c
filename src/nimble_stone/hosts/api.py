"""What can be done to a target, as small protocols: no other room knows how a kind of host
is spoken to.

A driver is chosen by the target's kind (`drivers.py`). It has the parts its kind has; a part that a
kind does not have (a bare machine keeps no datastores) is refused by name, so no driver carries
empty methods.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict
from nimble_stone.core.estate import BlockDevice, Datastore, Facts, Interface, Mark
from nimble_stone.hosts.work import Command, Work


class Recorder(Protocol):
    """Keeps commands and answers (the transcript)."""

    def __call__(
        self, target: str, command: str, answer: str, status: int, seconds: float
    ) -> None: ...


def no_record(target: str, command: str, answer: str, status: int, seconds: float) -> None:
    """A recorder that keeps nothing."""


# --- what is found ---


@dataclass(frozen=True)
class Volume:
    """A disk on a datastore: its path on the host, sizes in bytes."""

    name: str
    path: str
    capacity_bytes: int
    physical_bytes: int
    format: str
    mode: str = ""
    """Of its file, in octal digits; '' where the host does not tell."""


@dataclass(frozen=True)
class VolumeName:
    """Where a volume lies."""

    datastore: str
    volume: str


@dataclass(frozen=True)
class Store:
    """A datastore as it is defined on a host."""

    name: str
    path: str
    capacity_bytes: int
    free_bytes: int
    shared: str
    kind: str = "dir"
    uuid: str = ""


@dataclass(frozen=True)
class Net:
    """A network as it is defined. `ready`: it is started, and will be with the host."""

    name: str
    uuid: str
    bridge: str
    isolated: bool
    ready: bool = False


@dataclass(frozen=True)
class Vm:
    """A VM as defined on a host."""

    name: str
    uuid: str
    vcpu: int
    memory_bytes: int
    disks: int
    mark: Mark | None
    given_bytes: int = 0
    """Memory that it has now, where its balloon took some; 0: not told."""
    sources: tuple[str, ...] = ()
    networks: tuple[str, ...] = ()
    macs: tuple[str, ...] = ()

    macs_down: tuple[str, ...] = ()
    """MAC addresses of interfaces whose link is down."""

    media: tuple[str, ...] = ()
    """What is in its CD-ROM drives, as `sources`."""

    boots: str = "disk"
    """What it starts from: disk (its first one), “disk vdb”, cdrom, network or kernel."""

    def is_of(self, run: str) -> bool:
        """Whether it bears the mark of that run."""
        return self.mark is not None and self.mark.run == run


@dataclass(frozen=True)
class VmState:
    """A VM as it is stored, and as it is now (None while it is off). `words`: how it is, in the
    hypervisor's words; `running`: it really runs, neither paused nor off.
    """

    stored: Vm
    live: Vm | None
    running: bool
    words: str
    autostart: bool


@dataclass(frozen=True)
class VmAddress:
    """An address of a VM as its host sees it; `prefix` is '' where the host cannot tell."""

    address: str
    prefix: str


@dataclass(frozen=True)
class InUse:
    """Whether an address is in use: None when that could not be asked. `words`: by whom, or why
    not; `mac`: of the one who answered.
    """

    used: bool | None
    words: str = ""
    mac: str = ""


@dataclass(frozen=True)
class Passage:
    """Whether a packet of full size arrived unbroken, and the host's words."""

    passes: bool
    words: str


@dataclass(frozen=True)
class FirstLook:
    """What a host that is not one of ours yet says: `why` it cannot be used ('' when it can), its
    own name, and what the account may not do, in words.
    """

    why: str = ""
    hostname: str = ""
    lacking: tuple[str, ...] = ()


# --- what is made ---


@dataclass(frozen=True)
class VmDisk:
    """A disk of a VM: its volume, bus, device name, and the controller it hangs on."""

    datastore: str
    volume: str
    bus: str = "virtio"
    target: str = "vda"
    controller: int = 0


@dataclass(frozen=True)
class VmMedium:
    """A CD-ROM of a VM: its volume and device name."""

    datastore: str
    volume: str
    target: str


@dataclass(frozen=True)
class VmLimits:
    """The most that a VM may take; 0: as much as there is. Shares weigh against 1,024, which VMs
    without any have; the percentage is of each of its processors.
    """

    cpu_shares: int = 0
    cpu_percent: int = 0
    disk_mib_s: int = 0
    disk_iops: int = 0
    net_mbit: int = 0


@dataclass(frozen=True)
class KernelStart:
    """What a VM is started from without a boot loader: paths on the target (`ramdisk` '' none), and
    the kernel's command line.
    """

    kernel: str
    ramdisk: str
    args: str


@dataclass(frozen=True)
class VmDesign:
    """A VM to be defined. Memory in bytes. `networks`: one for each of `nics`."""

    name: str
    mark: Mark
    domain_type: str
    vcpu: int
    memory_bytes: int
    disks: tuple[VmDisk, ...]
    medium: VmMedium
    networks: tuple[str, ...]
    nics: tuple[str, ...]
    scsi: tuple[str, ...] = ()
    firmware: str = "bios"
    macs: tuple[str, ...] = ()
    """One for each of `nics`; '' (or none at all): the hypervisor gives one."""
    autostart: bool = False
    """It starts with its host."""
    agent: bool = False
    watchdog: str = "none"
    host_cpu: bool = False
    processor: str = ""
    """A named model; '' the host's own, as far as its hypervisor can offer it."""
    """Its processor is the host's own, as it is."""
    shared: tuple[VmDisk, ...] = ()
    """Raw disks that other VMs have too."""
    kernel: KernelStart | None = None
    installs: tuple[VmMedium, ...] = ()
    """Media before `medium`."""
    boots_media: bool = False
    """Its disk is blank: it starts from the first medium until something is installed."""
    machine: str = "pc"
    secure_boot: bool = False
    tpm: bool = False
    limits: VmLimits = VmLimits()
    instead_of: str = ""
    """UUID of the VM of that name, which is off and becomes this one; '' none is there yet."""


# --- the parts of a driver; all raise RemoteError and its kinds ---


class Reading(Protocol):
    """Facts of the target."""

    async def facts(
        self,
        now: float,
        known: Facts | None = None,
        *,
        names: Sequence[str] = (),
        clock: Callable[[], float] | None = None,
    ) -> Facts:
        """All facts. `names`: peers whose addresses it is asked for; `clock` is held against its
        own. What is costly to find out is kept from `known`.
        """


class Probes(Protocol):
    """Questions to the network, asked from the target."""

    async def answers_ping(self, address: str) -> bool: ...

    async def in_use(self, address: str, bridge: str) -> InUse:
        """Whether anyone on a bridge's network has an address (RFC 5227; RFC 4861 for IPv6)."""

    async def reaches(self, name: str, port: int) -> str:
        """'' when a TCP connection comes about, else why not, in the target's words."""

    async def tells_time(self, server: str) -> bool:
        """Whether a time server answers (RFC 5905)."""

    async def addresses_of(self, names: Sequence[str]) -> Mapping[str, str]:
        """Name → IPv4 address, '' for names that it does not know."""

    async def name_of(self, address: str) -> str:
        """The name of an address, '' when it has none."""

    async def passes(self, address: str, mtu: int) -> Passage: ...

    async def push_rate(self, pieces: AsyncIterator[bytes], size: int) -> float:
        """Bytes per second that reach the target from here."""

    async def pull_rate(self, url: str) -> float:
        """Bytes per second at which the target fetches from a URL."""


class Storage(Protocol):
    """Datastores and the disks on them. `disk_format`: in which format a disk must arrive."""

    disk_format: str

    async def refresh(self, datastore: str) -> None:
        """See what others put into a shared datastore."""

    async def volume(self, datastore: str, name: str) -> Volume | None: ...

    async def volumes(self, wanted: Sequence[VolumeName]) -> list[Volume | None]:
        """Several of them, in the order of what is wanted."""

    async def create_disk(self, datastore: str, name: str, capacity_bytes: int) -> None:
        """An empty thin disk."""

    async def create_image(self, datastore: str, name: str, size_bytes: int) -> None:
        """Room for an image that is kept as it is."""

    async def upload(
        self,
        datastore: str,
        name: str,
        pieces: AsyncIterator[bytes],
        *,
        limit_s: int,
        sent: Callable[[int], None],
    ) -> None: ...

    def download(self, datastore: str, name: str, *, limit_s: int) -> AsyncIterator[bytes]:
        """A volume's bytes as they lie there."""

    async def pull(
        self, url: str, path: str, *, resume: bool, rate: float, limit_s: int
    ) -> None: ...

    async def file_size(self, path: str) -> int:
        """Bytes of a file, -1 when it is not there."""

    async def digest(self, path: str) -> str:
        """SHA-256 of a file."""

    async def overlay(
        self, datastore: str, base_path: str, name: str, capacity_bytes: int
    ) -> None: ...

    async def clone(
        self, datastore: str, base: str, name: str, *, full: bool, capacity_bytes: int
    ) -> None: ...

    async def grow(self, datastore: str, name: str, capacity_bytes: int) -> None:
        """Make a volume larger that no running VM has."""

    async def delete(self, datastore: str, name: str) -> None:
        """Remove a disk of ours; the name carries the mark, others are refused."""

    async def delete_adopted(self, datastore: str, name: str) -> None:
        """Remove a disk that an adopted VM had. Whoever asks has a record of the adoption, and has
        looked that no VM has it.
        """


class Vms(Protocol):
    """VMs."""

    async def find(self, name: str) -> Vm | None: ...

    async def running(self, name: str) -> bool: ...

    async def paused(self, name: str) -> bool:
        """Whether it stands still in memory; it counts as running."""

    async def state(self, name: str) -> VmState | None:
        """Everything about it; None when there is none."""

    async def addresses(self, name: str) -> list[VmAddress]:
        """Of a running VM's first interface."""

    async def define(self, design: VmDesign) -> None:
        """Define it, or complete what was begun of it."""

    async def start(self, name: str) -> None:
        """Start it; one that is paused goes on."""

    async def resize(self, name: str, vcpu: int, memory_bytes: int) -> None:
        """Give a VM other vCPUs and memory, from its next start on."""

    async def grow_disk(self, name: str, path: str, capacity_bytes: int) -> None:
        """Make a disk of a running VM larger: the volume at a path of its host."""

    async def attach_disk(self, name: str, disk: VmDisk, limits: VmLimits) -> None:
        """Give a VM a further disk, stored and, where it runs, at once; under a free device name.
        One that it has already is left as it is.
        """

    async def detach_disk(self, name: str, datastore: str, volume: str) -> bool:
        """Take a disk from a VM again, stored and, where it runs, live. False while the system in
        it has not let it go.
        """

    async def shut_down(self, name: str) -> None:
        """Ask its system to shut down; it takes its time."""

    async def cut(self, name: str) -> None:
        """Cut its power."""

    async def media(self, name: str) -> list[str]:
        """What is in its CD-ROM drives, as it is stored and as it runs."""

    async def eject(self, name: str) -> None:
        """Take out what is in its CD-ROM drives, for good."""

    async def adopt(self, name: str, uuid: str, mark: Mark) -> None:
        """Mark a VM that others made; nothing else of it changes. Raises Conflict where it is
        another one, or bears a mark.
        """

    async def release(self, name: str, run: str) -> bool:
        """Take the mark of `run` from a VM, which stays as it is; False when there is none."""

    async def remove(self, name: str, run: str, datastore: str = "") -> bool:
        """Stop and remove a VM that bears the mark of `run`; False when there is none. Then what
        such a VM had left in its datastore, if that is named, is removed nevertheless.
        """

    async def console(self, name: str) -> str: ...

    def asks_definition(self, name: str) -> str:
        """How `find` asks, for people."""

    def asks_state(self, name: str) -> str:
        """How `running` asks, for people."""


class Preparation(Protocol):
    """Preparing the target: what is there, and carrying work out."""

    def work(self, action: prep.Action, run: str, before: Datastore | None = None) -> Work: ...

    def uuid(self, run: str, kind: str, name: str) -> str:
        """What marks a thing of that kind and name as made by that run."""

    async def send(self, command: Command) -> None: ...

    async def lacking(self, work: Work) -> list[str]:
        """Commands of a work that the account may not carry out, to do it or to undo it."""

    async def foreign_files(self, work: Work, run: str) -> list[str]:
        """Files of the work that are there and not of that run."""

    async def own_files(self, work: Work, run: str) -> bool:
        """Whether one of its files is there and of that run."""

    async def has_key(self, public: str) -> bool: ...

    async def name_records(self) -> Mapping[str, frozenset[str]]:
        """Address → names, as the target has them on its own."""

    async def network(self, name: str) -> Net | None: ...

    async def links(self) -> Mapping[str, Interface]: ...

    async def store(self, name: str) -> Store | None: ...

    async def store_ready(self, name: str) -> bool:
        """Whether it is started, and will be with the host."""

    def store_path(self, action: prep.Action) -> str:
        """Where the datastore of an action comes to lie."""

    async def contents(self, path: str) -> list[str]: ...

    async def disk(self, device: str) -> BlockDevice | None: ...

    async def signatures(self, device: str) -> Mapping[str, str]:
        """What is really on a device, {} nothing; refused when that cannot be told."""

    async def time_servers(self) -> frozenset[str]:
        """Those that were set by us and are among the clock's sources."""

    async def takes_passwords(self) -> bool | None: ...

    async def vms_on_network(self, name: str) -> list[str]: ...

    async def vms_on_store(self, name: str) -> list[str]: ...

    async def vms_with_disk(self, datastore: str, volume: str) -> list[str]: ...


class Metal(Protocol):
    """A bare machine's power, boot source and virtual media."""

    async def power_state(self) -> str:
        """Its PowerState (DSP0268)."""

    async def power(self, kind: str) -> None:
        """A ResetType (DSP0268); it takes a while until it is so."""

    async def boot_once(self, source: str) -> None:
        """Boot from Cd, Pxe or Hdd the next time only."""

    async def boot_as_set(self) -> None:
        """Forget what was said about the next boot."""

    async def insert(self, url: str) -> str:
        """Insert a CD image; the slot. Raises Conflict when another is there."""

    async def inserted(self) -> list[str]:
        """The images that are inserted."""

    async def eject(self, images: Collection[str]) -> list[str]:
        """Eject these images where they are inserted; their slots."""


class HostDriver:
    """One target, with the parts that its kind has."""

    kind = ""

    def __init__(self, name: str) -> None:
        self.name = name

    def _lacks(self, what: str) -> Conflict:
        return Conflict(
            f"{self.name} ({self.kind}) has no {what}",
            code="not-offered",
            hint="Choose another host for this, or another kit.",
        )

    @property
    def reading(self) -> Reading:
        """Its facts."""
        raise self._lacks("facts to read")

    @property
    def probes(self) -> Probes:
        """Questions to the network from there."""
        raise self._lacks("way to ask the network from there")

    @property
    def storage(self) -> Storage:
        """Its datastores."""
        raise self._lacks("datastores")

    @property
    def vms(self) -> Vms:
        """Its VMs."""
        raise self._lacks("VMs")

    @property
    def preparation(self) -> Preparation:
        """Its preparation."""
        raise self._lacks("preparation")

    @property
    def metal(self) -> Metal:
        """Its power, boot source and media, where it is a bare machine."""
        raise self._lacks("management controller here")
