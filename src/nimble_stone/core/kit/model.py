"""The kit file, format `kit/1`. Durations in seconds."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping
from functools import cached_property
from typing import Literal

from pydantic import (
    AliasChoices,
    ConfigDict,
    Field,
    ValidationInfo,
    model_validator,
)

from nimble_stone.core import drive_rule, reply, shell_words
from nimble_stone.core.errors import FormatError
from nimble_stone.core.installing import answers
from nimble_stone.core.kit import expression, membership
from nimble_stone.core.kit.calls import Access, Call, Reading
from nimble_stone.core.kit.changing import Changing
from nimble_stone.core.kit.checks import ONCE, AcceptanceCheck
from nimble_stone.core.kit.formula import Formula
from nimble_stone.core.kit.image import DiskImage
from nimble_stone.core.kit.installer import MEDIUM, REPORTS, Installer
from nimble_stone.core.kit.membership import Joining, Leaving, Membership
from nimble_stone.core.kit.setup import ITEM, Await, Forming, Stage, Upgrading
from nimble_stone.core.kit.systems import FIRST, ITSELF, OutsideSystem
from nimble_stone.core.models import Fixed, Ident, is_frozen
from nimble_stone.core.separation import Separation


class _Part(Fixed):
    model_config = ConfigDict(populate_by_name=True)


class Count(_Part):
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


class Accepts(_Part):
    """Packages that a kit or role supports."""

    product: str
    versions: tuple[str, ...] = Field(
        default=(), description="Supported beginnings of the version, such as “4.”; empty: all."
    )


class BecomesHost(_Part):
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


class Limits(_Part):
    """The least and the most of something."""

    least: int = Field(default=1, ge=1, le=65_536)
    most: int = Field(ge=1, le=65_536)


class CustomSize(_Part):
    """Within which limits a plan may give nodes other vCPUs and memory than their size has."""

    vcpu: Limits
    memory_gib: Limits


class ResourceLimits(_Part):
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


class VmOptions(_Part):
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


class Role(_Part):
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


class Rule(_Part):
    """Rules for a typed value."""

    min_length: int = 0
    max_length: int = 4096
    classes: int = Field(
        default=0,
        ge=0,
        le=4,
        description="How many of lower case, upper case, digits and symbols must occur.",
    )
    pattern: str = ""
    choices: tuple[str, ...] = ()


class Question(_Part):
    """A setting that the product needs and no other column has."""

    id: Ident
    label: str
    scope: Literal["plan", "role", "node"] = "plan"
    default: str = ""
    required: bool = True
    secret: bool = False
    rule: Rule = Rule()
    when: Formula = Field(
        default="",
        description=(
            "Condition; reads columns, “role”, “n”, “count”, “count.ROLE” and “carries.ROLE” (1"
            " if the node has or carries the role, else 0)."
        ),
    )
    property: str = Field(
        default="",
        description="The package's setting with the same meaning; its rules are added.",
    )
    kind: Literal["text", "number", "ssh-key"] = Field(
        default="text",
        description=(
            "“number”: unique over all plans, assigned from a pool; “ssh-key”: "
            "public keys as in authorized_keys, one per line."
        ),
    )


Identity = Literal["name", "address", "address6", "version", "role", "roles", "time"]


class Service(_Part):
    """How a node reports that its services are ready: by a request to `path`, or by a command."""

    port: int = Field(ge=1, le=65535)
    path: str = ""
    ssh: str = Field(
        default="",
        max_length=400,
        description=(
            "Instead of a request: a command on the node, by SSH; it prints a JSON object, such as"
            " `cloud-init status --format=json`."
        ),
    )
    members: str = Field(
        default="",
        description="Path where the first node lists members (name and role).",
    )
    ready: dict[Reading, str] = Field(
        description="What of the answer has which value when the node is ready."
    )
    failed: dict[Reading, str] = Field(
        default={}, description="The same when it has failed for good."
    )
    identity: dict[Identity, Reading] = Field(
        default={},
        description="Where the answer says who the node is, if not in members with these names.",
    )
    names: Reading = Field(
        default="$.members[*].name", description="Where the list of members has their names."
    )
    leads: Reading = Field(
        default="",
        description="Where it says how many leads there are; empty: members of the first role.",
    )

    def says(self, what: str) -> str:
        """Where its answer says who the node is."""
        known: dict[str, str] = dict(self.identity.items())
        return known.get(what, what)

    @model_validator(mode="after")
    def _asks_one_way(self) -> Service:
        if bool(self.path) == bool(self.ssh):
            raise ValueError("service needs a path or a command, and only one of them")
        for what in (*self.ready, *self.failed, *self.identity.values(), self.names, self.leads):
            if what and (wrong := reply.fault_of(what)):
                raise ValueError(f"service: “{what}” cannot be read: {wrong}")
        if self.ssh and (wrong := shell_words.fault_of(self.ssh)):
            raise ValueError(f"service: in the command “{self.ssh}” {wrong}")
        return self


class Durations(_Part):
    """Expected seconds of steps that do not depend on size."""

    boot: Await
    services: Await
    define: float = 1.0
    start: float = 2.0
    medium: float = 1.0


class SizeAdvice(_Part):
    """Capacity of a size, from the product's guide."""

    size: str
    carries: str
    roles: tuple[Ident, ...] = Field(default=(), description="Roles; empty: all.")


class Span(_Part):
    """A number with limits and default."""

    least: int = Field(default=0, ge=0, le=65_536)
    most: int = Field(default=0, ge=0, le=65_536)
    usual: int = Field(default=0, ge=0, le=65_536)


class DiskUse(_Part):
    """Size and number of a disk for one purpose of the product."""

    size_gib: Span
    count: Span = Span(least=1, most=1, usual=1)


class ExtraDisk(_Part):
    """A disk in addition to the package's disks."""

    id: Ident
    label: str
    purpose: str = ""
    roles: tuple[Ident, ...] = Field(default=(), description="Roles with this disk; empty: all.")
    size_gib: Span = Field(description="Size of each disk in GiB.")
    count: Span = Field(default=Span(least=0, most=1, usual=1), description="Number of disks.")
    controller: Literal["virtio", "scsi", "sata"] = "virtio"
    datastore: Literal["same", "shared", "local", "any"] = Field(
        default="same", description="Preferred datastore; “same”: that of the node's other disks."
    )
    drives: str = Field(
        default="all",
        max_length=80,
        description="On machines: rule for the drives, such as “all” or “2 largest hdd”.",
    )
    by_use: dict[Ident, DiskUse] = Field(
        default={}, description="Other sizes and numbers for some purposes (`uses`)."
    )

    def limits(self, use: str) -> tuple[Span, Span]:
        """(size in GiB, how many) for a purpose."""
        own = self.by_use.get(use)
        return (own.size_gib, own.count) if own else (self.size_gib, self.count)


class RedundancyScheme(_Part):
    """A way to store data: `pieces` data fragments and `spare` further ones (for copies: 1 piece),
    each on another host.
    """

    pieces: int = Field(default=1, ge=1, le=64)
    spare: int = Field(default=1, ge=0, le=9)
    answers: dict[Ident, str] = Field(
        min_length=1, description="Setting → value that selects this scheme."
    )


class DataLayout(_Part):
    """How the product stores data on its data disks."""

    disks: tuple[Ident, ...] = Field(min_length=1, description="Extra disks for data.")
    schemes: tuple[RedundancyScheme, ...] = Field(
        min_length=1, max_length=12, validation_alias=AliasChoices("schemes", "ways")
    )


Addressing = Literal["dhcp", "ipv6", "routes"]


class NetworkRole(_Part):
    """A further interface of nodes. The first interface, the service network, is always there."""

    id: Ident
    label: str
    purpose: str = ""
    roles: tuple[Ident, ...] = Field(default=(), description="Roles; empty: all.")
    interface: int = Field(
        ge=2,
        le=8,
        description=("Number of the package's interface; 1 is the service network's."),
    )
    mtu: int = Field(default=0, ge=0, le=65_535, description="Smallest MTU; 0: any.")
    addressed: bool = Field(default=True, description="Nodes have an address here.")
    takes: tuple[Addressing, ...] = Field(
        default=(),
        description=(
            "Allowed as well as static IPv4: “dhcp”, “ipv6”; “routes”: a gateway, DNS servers and"
            " routes of this interface."
        ),
    )


class VirtualAddress(_Part):
    """A virtual address, on which members or their lead answer."""

    id: Ident
    label: str
    members: tuple[Ident, ...] = Field(min_length=1, description="Roles whose nodes answer.")
    ports: tuple[int, ...] = Field(default=(), description="Ports on this address.")
    network: Ident | None = Field(
        default=None, description="Its network; none: the service network."
    )


class MemberList(_Part):
    """A list of nodes as the product wants it, such as all members with their ports. Templates name
    it `{list.ID}`; it follows the nodes of the plan.
    """

    id: Ident
    of: tuple[Ident, ...] = Field(
        default=(), description="Roles whose nodes are in it, in the sheet's order; empty: all."
    )
    each: str = Field(
        min_length=1,
        max_length=200,
        description="Template for one node, such as `{name}=https://{address}:2380`.",
    )
    between: str = Field(default=",", max_length=8, description="What stands between two.")


class Balanced(_Part):
    """A service on a virtual address that is balanced over members, each on its own port."""

    id: Ident
    label: str
    virtual: Ident = Field(description="Virtual address for clients.")
    port: int = Field(ge=1, le=65_535, description="Port for clients.")
    members: tuple[Ident, ...] = Field(min_length=1, description="Roles whose nodes are members.")
    member_port: int = Field(ge=1, le=65_535, description="Port of the members.")
    by: Literal["turns", "least"] = Field(
        default="turns", description="Round robin (turns), or fewest connections (least)."
    )


class Certificate(_Part):
    """A certificate that nodes present. Templates: `{certificate.ID}` (with its chain),
    `{certificate.ID.key}`, `{certificate.ID.authority}`.
    """

    id: Ident
    label: str
    roles: tuple[Ident, ...] = Field(default=(), description="Roles; empty: all.")
    names: tuple[str, ...] = Field(
        min_length=1,
        max_length=12,
        description=("Templates of host names and addresses in it; empty ones are left out."),
    )
    port: int = Field(
        default=0,
        ge=0,
        le=65_535,
        description="Port where nodes present it; 0: not checked.",
    )


class PortUse(_Part):
    """A port that firewalls must allow."""

    port: int = Field(ge=1, le=65_535)
    protocol: Literal["tcp", "udp"] = "tcp"
    to: tuple[Ident, ...] = Field(default=(), description="Roles that listen; empty: all.")
    by: str = Field(default="", description="Who connects.")
    purpose: str = ""


class OutsidePlace(_Part):
    """A server outside the plan that nodes must reach. `host` is a template with columns."""

    label: str
    host: str
    port: int = Field(ge=1, le=65_535)
    protocol: Literal["tcp", "udp"] = Field(
        default="tcp",
        description=(
            "TCP is tested from a host with the nodes' network, when a plan is checked against"
            " hosts."
        ),
    )
    purpose: str = ""


STORED_UNITS = {"GiB": 1 << 30, "TiB": 1 << 40}
"""Units of a load that is stored data, in bytes."""


class Load(_Part):
    """A workload, as a number."""

    id: Ident
    label: str
    unit: str = ""
    usual: float = Field(ge=0)
    most: float = Field(default=1e9, gt=0)
    stored: bool = Field(
        default=False,
        description=(
            "The load is data on the data disks (`data_layout`), in GiB or TiB: the disks and the"
            " redundancy of the plan tell how much fits, no formula does."
        ),
    )


class RoleSizing(_Part):
    """Capacity of a role's nodes. Formulas read the loads, “n” (number of nodes), “vcpu” and
    “memory_gib” of the size.
    """

    carries: dict[str, Formula] = Field(
        default={},
        description=("Load → formula for the capacity of n nodes, for sizes not in `by_size`."),
    )
    by_size: dict[str, dict[str, Formula]] = Field(
        default={}, description="Formulas for single sizes."
    )
    count: Formula = Field(
        default="",
        description="Formula for the number of nodes, if capacity does not decide it.",
    )


class Sizing(_Part):
    """Sizes and node counts for a workload."""

    loads: tuple[Load, ...] = Field(min_length=1, max_length=12)
    roles: dict[Ident, RoleSizing]


NO_COLUMNS = ("all.", "list.", "count.", "carries.", "balanced.")
COUNTED = {"n", "count", "mark", "role", "roles"}
"""What templates may name and nobody sets."""


class Kit(_Part):
    """A product family: roles, settings, cluster setup, acceptance."""

    nimble_stone: Literal["kit/1"] = Field(alias="nimble-stone")
    id: Ident
    title: str
    summary: str = ""
    accepts: Accepts
    names: str = Field(
        default="{plan}-{short}-{n}",
        description="Pattern of node names; a role's only node has no “-{n}”.",
    )
    admin: str = "admin"
    admin_password: str = Field(description="Setting with the administrator's password.")
    roles: tuple[Role, ...] = Field(min_length=1)
    separate: tuple[Separation, ...] = Field(
        default=(),
        max_length=20,
        description=(
            "Nodes that are kept apart: roles, and the failure domain that no two of them share"
            " (host, rack, bay, site). A plan may add more."
        ),
    )
    sizes: tuple[SizeAdvice, ...] = ()
    uses: tuple[Ident, ...] = Field(
        default=(),
        description="Purposes, such as trial and production; the first is the default.",
    )
    extra_disks: tuple[ExtraDisk, ...] = ()
    data_layout: DataLayout | None = Field(
        default=None, validation_alias=AliasChoices("data_layout", "laying")
    )
    networks: tuple[NetworkRole, ...] = ()
    managed_on: Ident | None = Field(
        default=None,
        description=(
            "The network (`networks`) on which this tool reaches nodes; none: the service network."
        ),
    )
    takes: tuple[Addressing, ...] = Field(
        default=(), description="Allowed in the service network as well as static IPv4."
    )
    virtual: tuple[VirtualAddress, ...] = ()
    balanced: tuple[Balanced, ...] = ()
    lists: tuple[MemberList, ...] = ()
    certificates: tuple[Certificate, ...] = ()
    ports: tuple[PortUse, ...] = ()
    outside: tuple[OutsidePlace, ...] = ()
    systems: tuple[OutsideSystem, ...] = Field(
        default=(),
        max_length=8,
        description="Existing systems outside the plan that steps and checks ask (`asks`).",
    )
    sizing: Sizing | None = None
    questions: tuple[Question, ...] = ()
    environment: dict[str, str] = Field(description="Package setting → template with columns.")
    service: Service
    access: Access = Field(
        default_factory=Access, description="How nodes are spoken to, and who asks."
    )
    ssh: bool = Field(default=True, description="Nodes accept SSH logins of the administrator.")
    forming: tuple[Forming, ...] = ()
    stages: tuple[Stage, ...] = Field(
        default=(),
        max_length=12,
        description="Stages of the setup, in their order; each can be run again alone.",
    )
    joining: tuple[Joining, ...] = Field(
        default=(),
        max_length=40,
        description="What is asked before a node that is added to a deployed cluster starts.",
    )
    leaving: tuple[Leaving, ...] = Field(
        default=(), max_length=40, description="What is asked before a node is removed."
    )
    upgrading: tuple[Upgrading, ...] = Field(
        default=(),
        max_length=40,
        description=(
            "How nodes get another version of their package. Nodes of roles that are not named stay"
            " as they were built."
        ),
    )
    changing: tuple[Changing, ...] = Field(
        default=(),
        max_length=40,
        description=(
            "How settings of deployed nodes get other values. Those that are not named stay as they"
            " were built."
        ),
    )
    durations: Durations
    acceptance: tuple[AcceptanceCheck, ...] = ()
    healthy: tuple[Ident, ...] = Field(
        default=(),
        max_length=20,
        description=(
            "Acceptance checks that must pass after each node that was changed, before the next"
            " one is."
        ),
    )

    @model_validator(mode="after")
    def _refers_to_what_exists(self, info: ValidationInfo) -> Kit:
        if is_frozen(info):
            return self
        roles = {role.id for role in self.roles}
        self._check_ids()
        self._check_roles(roles)
        self._check_carried(roles)
        self._check_built_hosts()
        networks = {net.id: net for net in self.networks}
        if self.managed_on and not (
            self.managed_on in networks and networks[self.managed_on].addressed
        ):
            raise ValueError(
                f"managed_on names “{self.managed_on}”, on which nodes have no address"
            )
        self._check_installers()
        self._check_images()
        self._check_disks(roles)
        self._check_forming(roles)
        self._check_stages()
        membership.check(self.joining, self.leaving, roles, self.forming)
        self._check_upgrading()
        self._check_changing(roles)
        self._check_role_names(roles)
        self._check_addresses()
        self._check_layout()
        self._check_conditions()
        self._check_templates()
        self._check_calls()
        self._check_sizing(roles)
        if not self.service.path:
            asking = [one for one in self.acceptance if one.kind in ("members", "one-lead")]
            if asking:
                raise ValueError(
                    f"acceptance check “{asking[0].id}” asks for members, but nodes are only asked"
                    " by command"
                )
        if self.admin_password not in {question.id for question in self.questions}:
            raise ValueError(
                f"admin_password names “{self.admin_password}”, which is not a setting of this kit"
            )
        return self

    def _check_installers(self) -> None:
        """Installers are for machines, and their answer files ask for what the sheet has."""
        known = self.names_known() | self.certificate_parts() | set(REPORTS) | set(MEDIUM)
        for role in self.roles:
            if role.installer is None:
                continue
            place = "hosts" if role.installer.vm else "machines"
            if role.lives_on != place:
                raise ValueError(
                    f"role “{role.id}” has an installer"
                    + (" with hardware for VMs" if role.installer.vm else "")
                    + f": say “lives_on: {place}”"
                )
            texts = {f"answer file {one.path}": one.text for one in role.installer.answers}
            if role.installer.netboot is not None:
                texts["netboot.args"] = role.installer.netboot.args
            for what, text in texts.items():
                for name in answers.names(text):
                    if name.removeprefix("first.") not in known:
                        raise ValueError(f"{what} asks for “{name}”, which this kit never defines")

    def _check_images(self) -> None:
        """A role has an image or an installer; user data asks for what the sheet has."""
        known = self.names_known() | self.certificate_parts()
        secrets = {f"hashed.{question.id}" for question in self.questions if question.secret}
        for role in self.roles:
            if role.image is None:
                continue
            if role.installer is not None:
                raise ValueError(f"role “{role.id}” has an image and an installer: leave one out")
            for what, text in (("user_data", role.image.user_data), ("args", role.image.args)):
                for name in answers.names(text):
                    if name.removeprefix("first.") not in known | secrets:
                        raise ValueError(
                            f"{what} of role “{role.id}” asks for “{name}”, which this kit never"
                            " defines"
                        )

    def _check_built_hosts(self) -> None:
        """Nodes that become hosts live on machines and take SSH logins."""
        for role in self.roles:
            if role.becomes_host and not self.ssh:
                raise ValueError(
                    f"role “{role.id}” becomes hosts, but nodes of this kit take no SSH logins"
                )
            if role.becomes_host and role.lives_on == "hosts":
                raise ValueError(
                    f"role “{role.id}” becomes hosts, but its nodes do not live on machines"
                )

    def _check_ids(self) -> None:
        """Ids are given once."""
        seen: set[str] = set()
        for proof in self.acceptance:
            if proof.id in seen:
                raise ValueError(f"two acceptance checks share the id “{proof.id}”")
            seen.add(proof.id)
        for ident, many in [
            ("id", [q.id for q in self.questions]),
            ("network", [n.id for n in self.networks]),
            ("role", [r.id for r in self.roles]),
        ]:
            if twice := {one for one in many if many.count(one) > 1}:
                raise ValueError(f"{ident} “{sorted(twice)[0]}” occurs twice")

    def _check_roles(self, roles: set[str]) -> None:
        """Roles come after, and stand beside, roles of this kit; their counts are possible."""
        for role in self.roles:
            if unknown := set(role.after) - roles:
                raise ValueError(
                    f"role “{role.id}” comes after “{sorted(unknown)[0]}”, which is not a role of"
                    " this kit"
                )
        for role in self.roles:
            if not role.count.per_host and not role.count.allows(role.count.usual):
                raise ValueError(
                    f"role “{role.id}”: usual {role.count.usual} is not among {role.count.words()}"
                )
            if role.beside and (role.beside not in roles or role.beside == role.id):
                raise ValueError(
                    f"role “{role.id}” is next to “{role.beside}”, which is not another role of"
                    " this kit"
                )
            if bool(role.environment) != bool(role.accepts):
                raise ValueError(
                    f"role “{role.id}”: accepts and environment belong together: another product"
                    " has its own properties"
                )
        for rule in self.separate:
            if unknown := set(rule.roles) - roles:
                raise ValueError(f"separate: “{sorted(unknown)[0]}” is not a role of this kit")
        if all(role.accepts for role in self.roles):
            raise ValueError("every role has another product, so no role uses the kit's")

    def _check_carried(self, roles: set[str]) -> None:
        """Roles are carried by nodes that there are; what has no nodes needs nothing of its own."""
        real = {role.id for role in self.roles if role.own_nodes}
        for role in self.roles:
            if unknown := set(role.carried_by) - (real - {role.id}):
                raise ValueError(
                    f"role “{role.id}” is carried by “{sorted(unknown)[0]}”, which is not another"
                    " role of this kit with nodes"
                )
            if unknown := set(role.not_with) - roles:
                raise ValueError(
                    f"role “{role.id}” is not with “{sorted(unknown)[0]}”, which is not a role of"
                    " this kit"
                )
            if waits := sorted(set(role.carried_by) & self._waiting_for(role.id)):
                raise ValueError(
                    f"role “{waits[0]}” comes after “{role.id}”, which its own nodes may carry"
                )
            if role.own_nodes:
                continue
            if not role.carried_by:
                raise ValueError(f"role “{role.id}” has no nodes: say what it is “carried_by”")
            fields = Role.model_fields
            for name in sorted(NEEDS_NODES):
                # a kit that was written out names every field
                if getattr(role, name) != fields[name].default:
                    raise ValueError(f"role “{role.id}” has no nodes, so it cannot have “{name}”")
            if role.count.per_host:
                raise ValueError(f"role “{role.id}” has no nodes, so not one on each host")

    def _waiting_for(self, ident: str) -> set[str]:
        return {role.id for role in self.roles if ident in role.after}

    def _check_disks(self, roles: set[str]) -> None:
        """Extra disks are for roles and uses of this kit, and their limits are in order."""
        for rule in (
            *(role.system_drive for role in self.roles),
            *(disk.drives for disk in self.extra_disks),
        ):
            try:
                drive_rule.parse(rule)
            except FormatError as error:
                raise ValueError(f"{error}: {error.hint}") from error
        for disk in self.extra_disks:
            if unknown := set(disk.roles) - roles:
                raise ValueError(
                    f"extra disk “{disk.id}” is for “{sorted(unknown)[0]}”, which is not a role of"
                    " this kit"
                )
            if unknown := set(disk.by_use) - set(self.uses):
                raise ValueError(
                    f"extra disk “{disk.id}” names “{sorted(unknown)[0]}”, which is not a purpose"
                    " of this kit"
                )
            for use in ("", *disk.by_use):
                for name, span in zip(("size_gib", "count"), disk.limits(use), strict=True):
                    if not span.least <= span.usual <= span.most:
                        raise ValueError(
                            f"extra disk “{disk.id}”: {name} needs least ≤ usual ≤ most"
                        )

    def _check_forming(self, roles: set[str]) -> None:
        """Forming steps are for roles of this kit, come after earlier ones, and can be sent."""
        fetched: set[str] = set()
        for number, step in enumerate(self.forming):
            for file in step.call.put:
                if file.fetched and file.fetched not in fetched:
                    raise ValueError(
                        f"setup step “{step.id}” puts the file “{file.fetched}”, which no earlier"
                        " step fetches"
                    )
            fetched |= set(step.call.fetch) | set(step.observe.fetch if step.observe else ())
            if step.role != "cluster" and step.role not in roles:
                raise ValueError(
                    f"setup step “{step.id}” is for “{step.role}”, which is not a role of this kit"
                )
            if not step.call.is_said:
                raise ValueError(f"setup step “{step.id}” has neither a path nor a command")
            if step.undo is not None and (not self._is_system(step.asks) or step.observe is None):
                raise ValueError(
                    f"setup step “{step.id}” has `undo`, so it needs `observe` and asks a system"
                )
            if step.over and step.observe is None:
                raise ValueError(
                    f"setup step “{step.id}” goes over “{step.over}”, so it needs `observe`"
                )
            asked = self.question(step.over) if step.over else None
            if step.over and (asked is None or asked.secret):
                raise ValueError(
                    f"setup step “{step.id}” goes over “{step.over}”, which is"
                    f" {'a secret' if asked else 'not a setting of this kit'}"
                )
            if unknown := set(step.after) - {one.id for one in self.forming[:number]}:
                raise ValueError(
                    f"setup step “{step.id}” comes after “{sorted(unknown)[0]}”, which is not an"
                    " earlier step"
                )

    def _check_stages(self) -> None:
        """Steps are written in the order of their stages, and each stage has something in it."""
        order = {None: -1} | {one.id: place for place, one in enumerate(self.stages)}
        reached = -1
        for step in self.forming:
            if step.stage not in order:
                raise ValueError(
                    f"setup step “{step.id}” is of stage “{step.stage}”, which this kit has not"
                )
            if order[step.stage] < reached:
                raise ValueError(
                    f"setup step “{step.id}” of stage “{step.stage or 'none'}” is written after"
                    " steps of a later stage"
                )
            reached = order[step.stage]
        for check in self.acceptance:
            if check.stage not in order:
                raise ValueError(
                    f"acceptance check “{check.id}” is of stage “{check.stage}”, which this kit has"
                    " not"
                )
        if unknown := set(self.healthy) - {check.id for check in self.acceptance}:
            raise ValueError(
                f"healthy names “{sorted(unknown)[0]}”, which is not an acceptance check"
            )
        used = {step.stage for step in self.forming} | {one.stage for one in self.acceptance}
        for stage in self.stages:
            if stage.id not in used:
                raise ValueError(f"stage “{stage.id}” has neither steps nor checks")

    def _check_upgrading(self) -> None:
        """Each is for a role of its own, whose disks can be replaced."""
        seen: set[str] = set()
        for one in self.upgrading:
            role = self.role(one.role)
            if role is None or one.role in seen:
                why = "twice" if role else "which is not a role of this kit"
                raise ValueError(f"upgrading names “{one.role}”, {why}")
            seen.add(one.role)
            if one.way == "system" and role.installer is not None:
                raise ValueError(
                    f"nodes of role “{one.role}” cannot have their system disk replaced: an"
                    " installer makes it; use the way “again”"
                )

    def _check_changing(self, roles: set[str]) -> None:
        """Each setting changes one way only."""
        known = self.names_known() | self.certificate_parts()
        columns = {name for name in self.names_known() if not name.startswith(NO_COLUMNS)}
        columns = columns - COUNTED | {f"certificate.{one.id}" for one in self.certificates}
        seen: set[tuple[str, str]] = set()
        for one in self.changing:
            if fault := one.fault(roles, columns):
                raise ValueError(f"changing “{one.id}” {fault}")
            for call in one.calls():
                self._check_call_texts(f"changing “{one.id}”", call, known | one.names())
            own = {(role, column) for role in one.roles or roles for column in one.values}
            if twice := own & seen:
                raise ValueError(f"two entries of changing name “{sorted(twice)[0][1]}”")
            seen |= own

    def changing_of(self, role: str, column: str) -> Changing | None:
        """How a column of a role's nodes gets another value; None where the kit does not say."""
        return next(
            (
                one
                for one in self.changing
                if column in one.values and (not one.roles or role in one.roles)
            ),
            None,
        )

    def upgrading_of(self, role: str) -> Upgrading | None:
        """How nodes of a role get another version; None where the kit does not say."""
        return next((one for one in self.upgrading if one.role == role), None)

    def _check_role_names(self, roles: set[str]) -> None:
        """Whatever names roles names roles of this kit."""
        for what, ident, names in [
            *(("network", one.id, one.roles) for one in self.networks),
            *(("virtual address", one.id, one.members) for one in self.virtual),
            *(("port", str(one.port), one.to) for one in self.ports),
            *(("balanced service", one.id, one.members) for one in self.balanced),
            *(("list", one.id, one.of) for one in self.lists),
            *(("certificate", one.id, one.roles) for one in self.certificates),
            *(("size", one.size, one.roles) for one in self.sizes),
        ]:
            if unknown := set(names) - roles:
                raise ValueError(
                    f"{what} “{ident}” names “{sorted(unknown)[0]}”, which is not a role of this"
                    " kit"
                )

    def _check_addresses(self) -> None:
        """Virtual addresses lie in networks, balanced services turn to virtual addresses."""
        networks = {network.id for network in self.networks}
        for virtual in self.virtual:
            if virtual.network and virtual.network not in networks:
                raise ValueError(
                    f"virtual address “{virtual.id}” is in “{virtual.network}”, which is not a"
                    " network of this kit"
                )
        for balanced in self.balanced:
            if balanced.virtual not in {one.id for one in self.virtual}:
                raise ValueError(
                    f"balanced service “{balanced.id}” uses “{balanced.virtual}”, which is not a"
                    " virtual address of this kit"
                )

    def _check_layout(self) -> None:
        """Data is stored on extra disks of this kit, by values that its settings allow."""
        if not self.data_layout:
            return
        if unknown := set(self.data_layout.disks) - {disk.id for disk in self.extra_disks}:
            raise ValueError(
                f"data_layout uses “{sorted(unknown)[0]}”, which is not an extra disk of this kit"
            )
        for ident, answer in (
            (ident, answer)
            for way in self.data_layout.schemes
            for ident, answer in way.answers.items()
        ):
            asked = self.question(ident)
            if asked is None or (asked.rule.choices and answer not in asked.rule.choices):
                raise ValueError(
                    f"data_layout sets “{ident}” to “{answer}”, which is not a"
                    f" {'choice of it' if asked else 'setting of this kit'}"
                )

    def _check_conditions(self) -> None:
        """Conditions read what the sheet has."""
        known = self.names_known()
        for question in self.questions:
            self._reads(f"question “{question.id}”", question.when, known)
        for role in self.roles:
            self._reads(f"role “{role.id}”: copies_by", role.copies_by, known)
        for step in self.forming:
            self._reads(f"setup step “{step.id}”", step.when, known)
        for check in self.acceptance:
            self._reads(f"acceptance check “{check.id}”", check.when, known)

    def _check_templates(self) -> None:
        """Templates ask for what the sheet has."""
        known = self.names_known()
        for place, environment in [
            ("", self.environment),
            *((f"role “{role.id}”: ", role.environment) for role in self.roles),
        ]:
            for key, template in environment.items():
                self._templates(
                    f"{place}environment “{key}”", template, known | self.certificate_parts()
                )
        for one in self.lists:
            if "{list." in one.each:
                raise ValueError(f"list “{one.id}” has a list in it")
            self._templates(f"list “{one.id}”", one.each, known)
        for certificate in self.certificates:
            for template in certificate.names:
                self._templates(f"certificate “{certificate.id}”", template, known)

    def _check_calls(self) -> None:
        """Calls ask for what the sheet has."""
        known = self.names_known() | self.certificate_parts()
        plain = self.names_known() - {one.id for one in self.questions if one.secret}
        for step in self.forming:
            item = {ITEM} if step.over else set[str]()
            for call in (step.call, step.observe, step.undo):
                self._check_call_texts(f"setup step “{step.id}”", call, known | item)
            # it is told in the open, so it names no secret, kept value or key
            self._templates(f"setup step “{step.id}”: makes", step.makes, plain | item, "open")
            self._check_asks(f"setup step “{step.id}”", step.asks)
        for one in self.joins_and_leaves:
            found = {f"kept.{name}" for name in one.finds.keep} if one.finds else set[str]()
            for call in membership.calls(one):
                self._check_call_texts(membership.named(one), call, known | found)
            self._check_asks(membership.named(one), one.asks)
        for check in self.acceptance:
            what = f"acceptance check “{check.id}”"
            for text in (
                check.equals or "",
                check.at_least,
                check.at_most,
                check.worst,
                check.source,
            ):
                self._templates(what, text, known)
            self._check_call_texts(what, check.call, known)
            self._check_reading(what, check.value, known)
            self._check_asks(what, check.asks)
            for part in check.parts():
                self._check_call_texts(f"{what}, “{part.label}”", part.call, known | {ONCE})
                self._templates(f"{what}, “{part.label}”", part.equals or "", known | {ONCE})
                self._check_reading(f"{what}, “{part.label}”", part.value, known | {ONCE})
        self._check_access(known)
        self._check_systems(known)

    def _check_access(self, known: set[str]) -> None:
        """Who asks is somebody the kit knows."""
        calls = [
            *(
                call
                for step in self.forming
                if not self._is_system(step.asks)
                for call in (step.call, step.observe)
            ),
            *(
                call
                for one in self.joins_and_leaves
                if not self._is_system(one.asks)
                for call in membership.calls(one)
            ),
            *(check.call for check in self.acceptance if not self._is_system(check.asks)),
            *(part.call for check in self.acceptance for part in check.parts()),
        ]
        for call in calls:
            if call is not None and call.login == "bearer" and not self.access.bearer:
                raise ValueError(
                    f"a call to “{call.path}” logs in by “bearer”; say in `access` which token"
                )
        self._templates("access: bearer", self.access.bearer, known)
        if self.access.certificate not in {"", *(one.id for one in self.certificates)}:
            raise ValueError(
                f"access: “{self.access.certificate}” is not a certificate of this kit"
            )
        session, first = self.access.session, self.access.first_password
        if session is not None:
            self._check_call_texts("session", session.login, known | {"user", "password"})
            self._check_call_texts("session", session.logout, known)
        if first is not None:
            self._check_call_texts("first_password", first.change, known)

    def _check_call_texts(self, what: str, call: Call | None, known: set[str]) -> None:
        if call is None:
            return
        for text in call.templates():
            # a shell has braces of its own
            if text != call.ssh:
                self._templates(what, text, known)
        for name in shell_words.names(call.ssh):
            self._templates(what, f"{{{name}}}", known)
        for reading in call.readings():
            self._check_reading(what, reading, known)

    def _check_reading(self, what: str, reading: str, known: set[str]) -> None:
        for name in reply.names(reading):
            self._templates(f"{what}: “{reading}”", f"{{{name}}}", known)

    def _is_system(self, asks: str) -> bool:
        return any(one.id == asks for one in self.systems)

    def _check_asks(self, what: str, asks: str) -> None:
        if asks not in (ITSELF, FIRST) and not self._is_system(asks):
            raise ValueError(f"{what} asks “{asks}”, which is not a system of this kit")

    def _check_systems(self, known: set[str]) -> None:
        """Where systems are and who asks them is filled in from what the sheet has."""
        for one in self.systems:
            what = f"system “{one.id}”"
            texts = (one.address, one.trust, one.host_key, one.user, one.password, one.bearer)
            for text in texts:
                self._templates(what, text, known)
            if one.host_key and not any(call.ssh for call in self.calls_to(one.id)):
                raise ValueError(f"{what}: `host_key` is for SSH; nothing asks it by SSH")
            if one.session is not None:
                self._check_call_texts(what, one.session.login, known | {"user", "password"})
                self._check_call_texts(what, one.session.logout, known)

    def _check_sizing(self, roles: set[str]) -> None:
        """Sizing is for roles, and names loads, of this kit."""
        if not self.sizing:
            return
        loads = {load.id for load in self.sizing.loads}
        self._check_stored({load.id: load.unit for load in self.sizing.loads if load.stored})
        for ident, sizing in self.sizing.roles.items():
            if ident not in roles:
                raise ValueError(f"sizing is for “{ident}”, which is not a role of this kit")
            for carries in (sizing.carries, *sizing.by_size.values()):
                self._check_carries(ident, carries, loads)
            self._reads(
                f"sizing of “{ident}”",
                sizing.count,
                loads | {f"count.{role}" for role in roles},
            )

    def _check_stored(self, stored: Mapping[str, str]) -> None:
        """Loads that data disks carry have such disks, a unit of bytes, and no formula."""
        formulas = {
            load
            for sizing in (self.sizing.roles.values() if self.sizing else ())
            for carries in (sizing.carries, *sizing.by_size.values())
            for load in carries
        }
        for ident, unit in stored.items():
            if self.data_layout is None:
                raise ValueError(f"load “{ident}” is stored, but the kit has no data_layout")
            if unit not in STORED_UNITS:
                raise ValueError(f"load “{ident}” is stored, so its unit is GiB or TiB")
            if ident in formulas:
                raise ValueError(f"load “{ident}” is stored, so no formula may say how much fits")

    def _check_carries(self, ident: str, carries: Mapping[str, str], loads: set[str]) -> None:
        if unknown := set(carries) - loads:
            raise ValueError(
                f"sizing of “{ident}” names “{sorted(unknown)[0]}”, which is not a load of this kit"
            )
        for formula in carries.values():
            self._reads(f"sizing of “{ident}”", formula, loads | {"n", "vcpu", "memory_gib"})

    def names_known(self) -> set[str]:
        """What conditions may read: the sheet's columns and counts."""
        known = {
            "role",
            "n",
            "count",
            "name",
            "size",
            "host",
            "network",
            "pool",
            "address",
            "prefix",
            "gateway",
            "dns",
            "domain",
            "ntp",
            "time_zone",
            "provisioning",
            "addressing",
            "address6",
            "prefix6",
            "gateway6",
            "mac",
            "use",
            "search",
            "mtu",
            "vlan",
            "on",
            "port",
            "bond",
            "mark",
            "roles",
            "all.name",
            "all.address",
        }
        known |= {question.id for question in self.questions} | {
            f"{what}.{role.id}" for what in ("count", "carries") for role in self.roles
        }
        if any(role.lives_on != "hosts" for role in self.roles):
            known |= {"system.drive"} | {f"disk.{disk.id}.drives" for disk in self.extra_disks}
        if any(role.fence for role in self.roles):
            known.add("fence")
        if any(role.custom for role in self.roles):
            known |= {"own.vcpu", "own.memory"}
        for network in self.networks:
            known |= {
                f"net.{network.id}.{part}"
                for part in (
                    "network",
                    "pool",
                    "address",
                    "prefix",
                    "addressing",
                    "address6",
                    "prefix6",
                    "mac",
                    "mtu",
                    "port",
                    "bond",
                    "vlan",
                )
            }
        for disk in self.extra_disks:
            known |= {f"disk.{disk.id}", f"disk.{disk.id}.count"}
        return (
            known
            | {f"virtual.{one.id}" for one in self.virtual}
            | {f"balanced.{one.id}" for one in self.balanced}
            | {f"list.{one.id}" for one in self.lists}
        )

    def certificate_parts(self) -> set[str]:
        """What templates may say of certificates."""
        return {
            f"certificate.{one.id}{part}"
            for one in self.certificates
            for part in ("", ".key", ".authority")
        }

    @staticmethod
    def _templates(what: str, template: str, known: set[str], told: str = "") -> None:
        for name in re.findall(r"\{([^}]*)\}", template):
            # empty braces stand for themselves, such as an empty JSON object
            if not name or name.removeprefix("first.") in known:
                continue
            if told:
                raise ValueError(f"{what} is told in the {told}; it cannot name “{name}”")
            if not name.startswith("kept."):
                raise ValueError(f"{what} asks for “{name}”, which this kit never defines")

    @staticmethod
    def _reads(what: str, formula: str, known: set[str]) -> None:
        if formula and (unknown := expression.parse(formula).names - known):
            raise ValueError(f"{what} reads “{sorted(unknown)[0]}”, which this kit never defines")

    def role(self, ident: str) -> Role | None:
        """The role of that id."""
        return self._by_id.get(ident)

    @cached_property
    def _by_id(self) -> dict[str, Role]:
        return {role.id: role for role in self.roles}

    @cached_property
    def digest(self) -> str:
        """What tells it from another kit, or another version of it. What was worked out by one kit
        is kept under this.
        """
        return hashlib.sha256(self.model_dump_json(by_alias=True).encode()).hexdigest()

    @property
    def joins_and_leaves(self) -> tuple[Membership, ...]:
        """How nodes join and leave."""
        return (*self.joining, *self.leaving)

    def calls_to(self, system: str) -> list[Call]:
        """What a system outside the plan is asked."""
        return [
            *(one.call for one in self.forming if one.asks == system),
            *(one.call for one in self.joins_and_leaves if one.asks == system),
            *(one.call for one in self.acceptance if one.asks == system and one.call),
        ]

    def question(self, ident: str) -> Question | None:
        """The question of that id."""
        return next((question for question in self.questions if question.id == ident), None)
