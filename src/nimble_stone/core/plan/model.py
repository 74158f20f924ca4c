"""The plan file, format `plan/1`."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

Scalar = str | int | float | bool


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class RoleBlock(_Part):
    """How many nodes of a role, and what holds for all of them."""

    count: int = Field(ge=0, le=2000)
    values: dict[str, Scalar] = {}


class Acceptance(_Part):
    """Who accepted the package's licence, when, and the SHA-256 of the text that was accepted."""

    by: str
    at: str
    text: str = Field(pattern=r"^[0-9a-f]{64}$")


class Plan(_Part):
    """The design of one rollout."""

    nimble_stone: Literal["plan/1"] = Field(alias="nimble-stone")
    name: str = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$", description="Short name; part of node names.")
    title: str = Field(default="", max_length=120)
    kit: str = Field(description="Id of the kit.")
    package: str = Field(default="", description="“Product version” or the SHA-256 of the package (12 digits suffice).")
    bay: str = Field(default="", description="The bay whose hosts the plan may draw on.")
    licence: Acceptance | None = None
    values: dict[str, Scalar] = Field(default={}, description="What holds for all nodes.")
    roles: dict[str, RoleBlock] = Field(default={}, description="Per role: count, and what holds for its nodes.")
    nodes: dict[str, dict[str, Scalar]] = Field(default={}, description="Per node (role-number): what holds for it alone.")

    @field_validator("roles")
    @classmethod
    def _not_too_many(cls, roles: dict[str, RoleBlock]) -> dict[str, RoleBlock]:
        if sum(block.count for block in roles.values()) > 2000:
            raise ValueError("a plan holds at most 2000 nodes")
        return roles
