"""The plan file, format `plan/1`."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, field_validator

from nimble_stone.core.separation import Separation

Scalar = str | int | float | bool


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class RoleBlock(_Part):
    """Number of nodes of a role, and values for all of them."""

    count: int | None = Field(
        default=None,
        ge=0,
        le=2000,
        description="Default: from the kit, one per host or the usual number.",
    )
    package: str = Field(
        default="",
        description="Package of its nodes, if the role has another product than the kit's.",
    )
    values: dict[str, Scalar] = {}


class Placing(_Part):
    """Rules of placement."""

    overcommit: float = Field(
        default=4.0, ge=1, le=32, description="Max vCPUs per thread of a host."
    )
    survive: int = Field(
        default=0,
        ge=0,
        le=2,
        description="Host failures to tolerate: nodes of lost hosts must fit on the others.",
    )
    avoid: tuple[str, ...] = Field(
        default=(), max_length=500, description="Hosts that placement does not use."
    )
    separate: tuple[Separation, ...] = Field(
        default=(),
        max_length=20,
        description="Nodes that are kept apart, besides what the kit says.",
    )


class Acceptance(_Part):
    """Who accepted the package's licence, when, and the SHA-256 of the accepted text."""

    by: str
    at: str
    text: str = Field(pattern=r"^[0-9a-f]{64}$")


class SharedValues(_Part):
    """Values that several plans include, format `values/1`."""

    nimble_stone: Literal["values/1"] = Field(alias="nimble-stone")
    name: str = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")
    title: str = Field(default="", max_length=120)
    include: tuple[str, ...] = Field(
        default=(), max_length=20, description="Further shared values to start from."
    )
    values: dict[str, Scalar] = {}


class Plan(_Part):
    """The design of one rollout."""

    nimble_stone: Literal["plan/1"] = Field(alias="nimble-stone")
    name: str = Field(
        pattern=r"^[a-z0-9][a-z0-9-]{0,39}$", description="Short name; part of node names."
    )
    title: str = Field(default="", max_length=120)
    kit: str = Field(description="Id of the kit.")
    package: str = Field(
        default="",
        description="“Product version” or the SHA-256 of the package (12 digits suffice).",
    )
    bay: str = Field(default="", description="Bay with the hosts that the plan may use.")
    further_bays: tuple[str, ...] = Field(
        default=(), max_length=20, description="Further bays whose hosts it may use."
    )
    draft: bool = Field(
        default=False,
        description="Reserves nothing: its addresses and capacity stay free for other plans.",
    )
    licence: Acceptance | None = None
    include: tuple[str, ...] = Field(
        default=(),
        max_length=20,
        description=(
            "Names of shared values; a later one wins over an earlier one, the plan's own values "
            "win over all."
        ),
    )
    placement: Placing = Placing()
    load: dict[str, FiniteFloat] = Field(
        default={},
        description=("Workload, in the kit's units; sizes and node counts are proposed from it."),
    )
    values: dict[str, Scalar] = Field(default={}, description="Values for all nodes.")
    roles: dict[str, RoleBlock] = Field(
        default={}, description="Per role: count, and values for its nodes."
    )
    nodes: dict[str, dict[str, Scalar]] = Field(
        default={}, description="Per node (role-number): values for this node."
    )

    @property
    def bays(self) -> tuple[str, ...]:
        """All bays whose hosts and machines the plan may use."""
        return tuple(dict.fromkeys(name for name in (self.bay, *self.further_bays) if name))

    def levels(self) -> dict[tuple[str, ...], Mapping[str, Scalar]]:
        """Where values are written: path in the file → column → value."""
        return {
            ("values",): self.values,
            **{("roles", role, "values"): block.values for role, block in self.roles.items()},
            **{("nodes", node): values for node, values in self.nodes.items()},
        }

    def names(self, value: str) -> bool:
        """Whether any column holds that very value."""
        return any(value in column.values() for column in self.levels().values())

    @field_validator("roles")
    @classmethod
    def _not_too_many(cls, roles: dict[str, RoleBlock]) -> dict[str, RoleBlock]:
        if sum(block.count or 0 for block in roles.values()) > 2000:
            raise ValueError("a plan has at most 2000 nodes")
        return roles
