"""The kit file, format `kit/1`. Durations in seconds."""

from __future__ import annotations

import hashlib
from functools import cached_property
from typing import Literal

from pydantic import AliasChoices, Field, ValidationInfo, model_validator

from nimble_stone.core.kit import structure, texts
from nimble_stone.core.kit.calls import Access, Call
from nimble_stone.core.kit.changing import Changing
from nimble_stone.core.kit.checks import AcceptanceCheck
from nimble_stone.core.kit.disks import DataLayout, ExtraDisk
from nimble_stone.core.kit.membership import Joining, Leaving, Membership
from nimble_stone.core.kit.networks import (
    Addressing,
    Balanced,
    Certificate,
    MemberList,
    NetworkRole,
    OutsidePlace,
    PortUse,
    VirtualAddress,
)
from nimble_stone.core.kit.part import Part
from nimble_stone.core.kit.roles import Accepts, Role
from nimble_stone.core.kit.service import Durations, Service
from nimble_stone.core.kit.settings import Question
from nimble_stone.core.kit.setup import Forming, Stage, Upgrading
from nimble_stone.core.kit.sizing import SizeAdvice, Sizing
from nimble_stone.core.kit.systems import OutsideSystem
from nimble_stone.core.models import Ident, is_frozen
from nimble_stone.core.separation import Separation


class Kit(Part):
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
        structure.check(self)
        texts.check(self)
        return self

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
