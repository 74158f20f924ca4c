"""Networks, addresses, certificates and ports of nodes."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from nimble_stone.core.kit.part import Part
from nimble_stone.core.models import Ident

Addressing = Literal["dhcp", "ipv6", "routes"]


class NetworkRole(Part):
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


class VirtualAddress(Part):
    """A virtual address, on which members or their lead answer."""

    id: Ident
    label: str
    members: tuple[Ident, ...] = Field(min_length=1, description="Roles whose nodes answer.")
    ports: tuple[int, ...] = Field(default=(), description="Ports on this address.")
    network: Ident | None = Field(
        default=None, description="Its network; none: the service network."
    )


class MemberList(Part):
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


class Balanced(Part):
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


class Certificate(Part):
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


class PortUse(Part):
    """A port that firewalls must allow."""

    port: int = Field(ge=1, le=65_535)
    protocol: Literal["tcp", "udp"] = "tcp"
    to: tuple[Ident, ...] = Field(default=(), description="Roles that listen; empty: all.")
    by: str = Field(default="", description="Who connects.")
    purpose: str = ""


class OutsidePlace(Part):
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
