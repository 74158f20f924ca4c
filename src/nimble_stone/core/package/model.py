"""What a package says about itself, as frozen values."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True)
class FileRef:
    """A file the descriptor refers to. `size` in bytes, None when the descriptor is silent."""

    id: str
    href: str
    size: int | None


@dataclass(frozen=True)
class Disk:
    """A virtual disk. `file_id` is '' for an empty disk; sizes in bytes."""

    id: str
    file_id: str
    capacity_bytes: int
    populated_bytes: int | None
    format_uri: str


@dataclass(frozen=True)
class NetworkWish:
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
    """A network adapter: which wish it serves."""

    network: str
    kind: str


@dataclass(frozen=True)
class Question:
    """A property of the product section (DSP0243 §9.5). `key` is the environment key."""

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
    networks: tuple[NetworkWish, ...]
    sizes: tuple[Size, ...]
    nics: tuple[Nic, ...]
    questions: tuple[Question, ...]
    licences: tuple[str, ...]
    transports: tuple[str, ...]
    notes: tuple[str, ...] = field(default=())

    @property
    def full_bytes(self) -> int:
        """Bytes that one node's disks take when fully reserved."""
        return sum(disk.capacity_bytes for disk in self.disks)
