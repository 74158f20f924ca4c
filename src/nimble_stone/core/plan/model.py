"""The plan file, format `plan/1`."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat, field_validator

Scalar = str | int | float | bool


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class RoleBlock(_Part):
    """How many nodes of a role, and what holds for all of them."""

    count: int | None = Field(
        default=None,
        ge=0,
        le=2000,
        description="None: as the kit says, one a host or the usual number.",
    )
    package: str = Field(
        default="",
        description="The package of its nodes, where the role has another product than the kit's.",
    )
    values: dict[str, Scalar] = {}


class Placing(_Part):
    """How nodes are laid on hosts."""

    overcommit: float = Field(
        default=4.0, ge=1, le=32, description="vCPUs that may be promised per thread of a host."
    )
    survive: int = Field(
        default=0,
        ge=0,
        le=2,
        description="With any so many hosts lost, their nodes must fit on the others.",
    )
    avoid: tuple[str, ...] = Field(
        default=(), max_length=500, description="Hosts that placement leaves alone."
    )


class Acceptance(_Part):
    """Who accepted the package's licence, when, and the SHA-256 of the text that was accepted."""

    by: str
    at: str
    text: str = Field(pattern=r"^[0-9a-f]{64}$")


class SharedValues(_Part):
    """Values that several plans include, format `values/1`."""

    nimble_stone: Literal["values/1"] = Field(alias="nimble-stone")
    name: str = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")
    title: str = Field(default="", max_length=120)
    include: tuple[str, ...] = Field(
        default=(), max_length=20, description="Further shared values that these begin with."
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
    bay: str = Field(default="", description="The bay whose hosts the plan may draw on.")
    draft: bool = Field(
        default=False,
        description="Holds nothing: other plans neither see its nodes nor lose its addresses.",
    )
    licence: Acceptance | None = None
    include: tuple[str, ...] = Field(
        default=(),
        max_length=20,
        description=(
            "Names of shared values, later ones before earlier ones; the plan's own stand "
            "above them."
        ),
    )
    placement: Placing = Placing()
    load: dict[str, FiniteFloat] = Field(
        default={},
        description=(
            "How much there is to do, in the kit's loads: what sizes and numbers are proposed from."
        ),
    )
    values: dict[str, Scalar] = Field(default={}, description="What holds for all nodes.")
    roles: dict[str, RoleBlock] = Field(
        default={}, description="Per role: count, and what holds for its nodes."
    )
    nodes: dict[str, dict[str, Scalar]] = Field(
        default={}, description="Per node (role-number): what holds for it alone."
    )

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
            raise ValueError("a plan holds at most 2000 nodes")
        return roles
