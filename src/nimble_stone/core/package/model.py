"""What a package says about itself, as frozen values. Sizes in bytes; None where the package is
silent.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

Severity = Literal["blocker", "caution", "note"]


Trust = Literal["absent", "verified", "failed", "untrusted"]
"""What came of checking a package's signature."""


@dataclass(frozen=True)
class Signer:
    """Who signed: names, validity (epoch seconds), SHA-256 fingerprint, and the subjects up to the
    end of the chain.
    """

    subject: str
    issuer: str
    not_before: float
    not_after: float
    fingerprint: str
    chain: tuple[str, ...]


@dataclass(frozen=True)
class Noticed:
    """A deviation or oddity: `where` names file, line and column or byte; `clause` the standard's
    paragraph.
    """

    severity: Severity
    code: str
    message: str
    where: str = ""
    clause: str = ""


@dataclass(frozen=True)
class FileRef:
    """A file the descriptor refers to. `chunk_bytes` when it is cut into pieces named
    href.000000000 and so on.
    """

    id: str
    href: str
    size: int | None
    packed: Literal["", "gzip"] = ""
    chunk_bytes: int | None = None


@dataclass(frozen=True)
class Disk:
    """A virtual disk. `file_id` is '' for an empty disk. `capacity_key` names the property that
    gives the capacity, if one does.
    """

    id: str
    file_id: str
    capacity_bytes: int
    populated_bytes: int | None
    format_uri: str
    parent: str = ""
    shared: bool = False
    capacity_key: str = ""


@dataclass(frozen=True)
class NetworkRequest:
    """A network the package wants to be connected to."""

    name: str
    description: str


@dataclass(frozen=True)
class Size:
    """One deployment option with the hardware it results in. Memory in bytes."""

    id: str
    label: str
    description: str
    default: bool
    vcpu: int
    memory_bytes: int


@dataclass(frozen=True)
class Nic:
    """A network adapter: the network it serves, the kind the publisher names, and its own name."""

    network: str
    kind: str
    name: str = ""
    connected: bool = True


@dataclass(frozen=True)
class Question:
    """A property of the product section. `key` is the environment key in the standard's full form
    (class.key.instance).
    """

    key: str
    label: str
    description: str
    category: str
    type: str
    default: str
    secret: bool
    asked: bool
    minimum: int | None = None
    maximum: int | None = None
    choices: tuple[str, ...] = ()
    given: bool = False  # a default is given, be it ''
    labelled: bool = True
    per_option: tuple[tuple[str, str], ...] = ()  # (deployment option, default)
    low: int | None = None  # bounds of a number's value
    high: int | None = None


@dataclass(frozen=True)
class Product:
    """Who made what, as one product section says it."""

    product: str
    vendor: str
    version: str
    full_version: str
    product_url: str
    vendor_url: str
    class_: str = ""
    instance: str = ""


@dataclass(frozen=True)
class Amount:
    """A quantity of vCPUs or memory (bytes) of one deployment option: planned, and the range and
    reservation where given.
    """

    normal: int | None
    least: int | None = None
    most: int | None = None
    reserved: int | None = None
    limit: int | None = None


@dataclass(frozen=True)
class Controller:
    """A disk controller: 'scsi', 'ide', 'sata', 'nvme', 'usb' or 'other', and the publisher's words
    for its model.
    """

    instance: str
    kind: Literal["scsi", "ide", "sata", "nvme", "usb", "other"]
    model: str


@dataclass(frozen=True)
class Drive:
    """A disk, CD-ROM or floppy drive: what is in it ('' when empty) and which controller it hangs
    on.
    """

    kind: Literal["disk", "cdrom", "floppy"]
    content: Literal["disk", "file", ""]
    ref: str
    controller: str
    slot: int | None


@dataclass(frozen=True)
class Hardware:
    """The virtual hardware for one deployment option."""

    option: str
    vcpu: Amount
    memory: Amount
    cores_per_socket: int | None
    controllers: tuple[Controller, ...]
    drives: tuple[Drive, ...]
    nics: tuple[Nic, ...]
    # devices a rollout does not give: 'sound card', 'USB controller'
    others: tuple[str, ...] = ()

    @property
    def disks(self) -> tuple[str, ...]:
        """Disk ids in the order of the drives."""
        return tuple(
            drive.ref for drive in self.drives if drive.kind == "disk" and drive.content == "disk"
        )


@dataclass(frozen=True)
class System:
    """One virtual system. `hardware` has one entry per deployment option, the default one first;
    families as the publisher names them.
    """

    id: str
    name: str
    info: str
    products: tuple[Product, ...]
    questions: tuple[Question, ...]
    licences: tuple[str, ...]
    annotation: str
    os: str
    os_id: str
    families: tuple[str, ...]
    firmware: Literal["", "bios", "efi"]
    transports: tuple[str, ...]
    hardware: tuple[Hardware, ...]
    # an install section: it reboots when it is done
    install_boots: bool = False

    @property
    def standard(self) -> Hardware:
        """The hardware of the default option."""
        return self.hardware[0]


@dataclass(frozen=True)
class Startup:
    """When one member of a collection starts. Delays in seconds."""

    member: str
    order: int
    delay_s: int
    waits_for_guest: bool


@dataclass(frozen=True)
class Collection:
    """A collection: the ids of its systems and collections, and their order of starting."""

    id: str
    name: str
    systems: tuple[str, ...]
    collections: tuple[Collection, ...]
    startup: tuple[Startup, ...]


@dataclass(frozen=True)
class Option:
    """A deployment option."""

    id: str
    label: str
    description: str
    default: bool


@dataclass(frozen=True)
class Envelope:
    """A whole descriptor."""

    version: str
    language: str
    languages: tuple[str, ...]
    files: tuple[FileRef, ...]
    disks: tuple[Disk, ...]
    networks: tuple[NetworkRequest, ...]
    options: tuple[Option, ...]
    systems: tuple[System, ...]
    collection: Collection | None
    licences: tuple[str, ...]
    # of the collection, for all its systems
    questions: tuple[Question, ...] = ()

    @property
    def options_default_first(self) -> tuple[Option, ...]:
        """The options, the default one first."""
        return tuple(sorted(self.options, key=lambda option: not option.default))


@dataclass(frozen=True)
class Descriptor:
    """A single virtual system with all that a rollout needs of it."""

    name: str
    product: str
    vendor: str
    version: str
    files: tuple[FileRef, ...]
    disks: tuple[Disk, ...]
    disk_order: tuple[str, ...]
    networks: tuple[NetworkRequest, ...]
    sizes: tuple[Size, ...]
    nics: tuple[Nic, ...]
    questions: tuple[Question, ...]
    licences: tuple[str, ...]
    transports: tuple[str, ...]
    notes: tuple[str, ...] = field(default=())
    controllers: tuple[Controller, ...] = ()
    drives: tuple[Drive, ...] = ()
    firmware: Literal["", "bios", "efi"] = ""
    families: tuple[str, ...] = ()

    @property
    def full_bytes(self) -> int:
        """Bytes that one node's disks take when fully reserved."""
        sizes = {disk.id: disk.capacity_bytes for disk in self.disks}
        return sum(sizes[ident] for ident in self.disk_order)
