"""Roles of a kit: how many nodes, where they live, and what their VMs get."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from nimble_stone.core.kit.formula import Formula
from nimble_stone.core.kit.image import DiskImage
from nimble_stone.core.kit.installer import Installer
from nimble_stone.core.kit.part import Part
from nimble_stone.core.models import Ident


class Count(Part):
    """How many nodes a role has."""

    least: int = Field(default=1, ge=0, le=2000, description="Minimum number of nodes.")
    most: int = Field(default=1, ge=1, le=2000, description="Maximum number of nodes.")
    usual: int = Field(default=1, ge=0, le=2000, description="Number in a new plan.")
    odd: bool = Field(
        default=False, description="Only odd numbers, so that a vote cannot be a tie."
    )
    per_host: bool = Field(
        default=False,
        description="One on each host of the bay, unless the plan sets a number.",
    )

    def allows(self, number: int) -> bool:
        """Whether the product supports that many."""
        return self.least <= number <= self.most and not (self.odd and number and number % 2 == 0)

    def words(self) -> str:
        """“3 to 7, odd”."""
        span = f"{self.least}" if self.least == self.most else f"{self.least} to {self.most}"
        return span + (", odd" if self.odd else "")


class Accepts(Part):
    """Packages that a kit or role supports."""

    product: str
    versions: tuple[str, ...] = Field(
        default=(), description="Supported beginnings of the version, such as “4.”; empty: all."
    )


class BecomesHost(Part):
    """How the nodes of a role become hypervisor hosts of the estate."""

    user: str = Field(
        default="root",
        pattern=r"^[a-z_][a-z0-9_-]{0,31}$",
        description=(
            "Account that may use the hypervisor. It takes the administrator's password once, then"
            " a key."
        ),
    )
    datastore: str = Field(
        default="",
        max_length=60,
        description="Datastore that must be active on every node once the cluster is formed.",
    )


class Limits(Part):
    """The least and the most of something."""

    least: int = Field(default=1, ge=1, le=65_536)
    most: int = Field(ge=1, le=65_536)


class CustomSize(Part):
    """Within which limits a plan may give nodes other vCPUs and memory than their size has."""

    vcpu: Limits
    memory_gib: Limits


class ResourceLimits(Part):
    """The most that a VM may take; 0: as much as there is."""

    cpu_shares: int = Field(
        default=0, ge=0, le=262_144, description="Weight against other VMs, which have 1024."
    )
    cpu_percent: int = Field(
        default=0, ge=0, le=100, description="Of each of its processors' time, in percent."
    )
    disk_mib_s: int = Field(default=0, ge=0, le=1 << 20, description="Of each disk, in MiB/s.")
    disk_iops: int = Field(default=0, ge=0, le=10_000_000, description="Of each disk.")
    net_mbit: int = Field(
        default=0, ge=0, le=1_000_000, description="Of each interface, in Mbit/s."
    )


class VmOptions(Part):
    """How VMs of a role are set up, besides what the package states."""

    autostart: bool = Field(default=True, description="They start with their host.")
    agent: bool = Field(
        default=False, description="The system runs the guest agent: a channel for it is made."
    )
    watchdog: Literal["none", "reset", "poweroff"] = Field(
        default="none", description="What is done when the system stops feeding its watchdog."
    )
    cpu: Literal["common", "host"] = Field(
        default="common",
        description=(
            "“common”: the newest model that every host of the bay can give; “host”: the host's"
            " processor as it is."
        ),
    )
    machine: Literal["pc", "q35"] = Field(
        default="pc",
        description="Kind of machine: “pc” with IDE, “q35” with PCI Express and no IDE.",
    )
    secure_boot: bool = Field(
        default=False,
        description="Only signed systems start: UEFI with the usual keys. Needs machine q35.",
    )
    tpm: bool = Field(default=False, description="A TPM 2.0, made by the host.")
    stop_s: float = Field(
        default=120, gt=0, le=3600, description="Seconds in which its system shuts down when asked."
    )
    cut: bool = Field(
        default=False,
        description=(
            "Its power may be cut where its system has not shut down by then; else a change fails."
        ),
    )
    limits: ResourceLimits = Field(
        default_factory=ResourceLimits, description="The most that each VM may take."
    )

    @model_validator(mode="after")
    def _can_start(self) -> VmOptions:
        if self.secure_boot and self.machine != "q35":
            raise ValueError("secure_boot needs machine q35")
        return self


class Role(Part):
    """A role of nodes."""

    id: Ident
    label: str
    short: str = Field(description="Used in node names.")
    count: Count = Count()
    apart: bool = Field(default=False, description="No two nodes of this role on one host.")
    beside: Ident | None = Field(
        default=None,
        description="Role whose node with the same number shares the host, if both fit.",
    )
    keeps: Literal["state", "nothing"] = Field(
        default="state", description="“nothing”: a lost node can be created again without loss."
    )
    quorum: bool = Field(
        default=False, description="The cluster needs more than half of these nodes."
    )
    copies: int = Field(
        default=0,
        ge=0,
        le=9,
        description="Number of nodes that store each piece of data.",
    )
    copies_by: Formula = Field(
        default="", description="Formula for `copies`, if settings decide it."
    )
    datastore: Literal["shared", "local", "any"] = Field(
        default="any", description="Preferred kind of datastore."
    )
    lives_on: Literal["hosts", "machines", "either"] = Field(
        default="hosts",
        description=(
            "Where its nodes live: VMs on hosts, bare machines, or what the plan says (column"
            " “on”)."
        ),
    )
    system_drive: str = Field(
        default="smallest ssd",
        max_length=80,
        description="On machines: rule for the drive that gets the image.",
    )
    installer: Installer | None = Field(
        default=None,
        description="On machines: the package is an installer ISO with these answer files.",
    )
    image: DiskImage | None = Field(
        default=None,
        description=(
            "The package is a disk image, or a kernel set: what the VM gets, and what its system is"
            " told."
        ),
    )
    custom: CustomSize | None = Field(
        default=None,
        description=(
            "A plan may give its nodes other vCPUs and memory than their size has (columns"
            " `own.vcpu` and `own.memory`)."
        ),
    )
    system: str = Field(
        default="",
        max_length=200,
        description=(
            "Which virtual system its nodes are made from, where the package holds several: its id"
            " in the descriptor."
        ),
    )
    fence: bool = Field(
        default=False,
        description=(
            "All its nodes share the fencing volume that the plan names (column `fence`), made by"
            " host preparation on a shared datastore."
        ),
    )
    vm: VmOptions = Field(default_factory=VmOptions, description="How its VMs are set up.")
    carried_by: tuple[Ident, ...] = Field(
        default=(),
        description=(
            "Roles whose nodes may carry this role too, as the plan says (column “also”). A"
            " machine can so be storage, compute and gateway at once."
        ),
    )
    own_nodes: bool = Field(
        default=True,
        description="false: only nodes of other roles carry it, and `count` says how many.",
    )
    not_with: tuple[Ident, ...] = Field(
        default=(), description="Roles that a node with this one must not carry."
    )
    becomes_host: BecomesHost | None = Field(
        default=None,
        description="On machines: its nodes become hypervisor hosts of the estate at the end.",
    )
    sizes: tuple[str, ...] = Field(
        default=(),
        description=("Allowed sizes, default first; empty: all sizes of the package."),
    )
    after: tuple[Ident, ...] = Field(
        default=(), description="Roles whose nodes must answer before this role starts."
    )
    accepts: Accepts | None = Field(
        default=None,
        description="Package of its nodes, if it is another product than the kit's.",
    )
    environment: dict[str, str] = Field(
        default={},
        description=(
            "Package setting → template, for the role's package; replaces the kit's `environment`."
        ),
    )


NEEDS_NODES = frozenset(
    (
        "accepts",
        "after",
        "apart",
        "becomes_host",
        "beside",
        "custom",
        "datastore",
        "environment",
        "fence",
        "image",
        "installer",
        "lives_on",
        "sizes",
        "system_drive",
    )
)
"""What only a role with nodes of its own can have."""
