"""What a kit says of its setup: steps that form the cluster, stages, and upgrades. Durations in
seconds.
"""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from nimble_stone.core.kit.calls import Call
from nimble_stone.core.kit.formula import Formula
from nimble_stone.core.kit.systems import ITSELF
from nimble_stone.core.models import Fixed, Ident


class Await(Fixed):
    """A wait: expected and maximum seconds."""

    expected: float = Field(gt=0)
    longest: float = Field(gt=0)


ITEM = "item"
"""What `{item}` stands for in a setup step that goes over the values of a setting."""


class Forming(Fixed):
    """A cluster setup step: after a node's services answer, or once for the cluster."""

    id: Ident
    label: str
    role: str = Field(
        description="Role whose nodes run it; “cluster”: once at the end, on the first node."
    )
    after: tuple[Ident, ...] = Field(
        default=(), description="Earlier setup steps that must be done on all their nodes."
    )
    stage: Ident | None = Field(
        default=None, description="Stage (`stages`) that it belongs to; none: before all of them."
    )
    asks: Ident = Field(
        default=ITSELF,
        description=(
            "Who is asked: “itself”, each node of the role; “first”, for each of them the plan's"
            " first node, such as one that registers the others; or the id of one of `systems`."
            " Columns are those of the role's node."
        ),
    )
    makes: str = Field(
        default="",
        max_length=200,
        description=(
            "A template for what it makes outside the plan, such as `server {name}`: shown with the"
            " run, and with what a rollback removes."
        ),
    )
    undo: Call | None = Field(
        default=None,
        description=(
            "What removes it again when the node or the deployment is rolled back; for steps that"
            " ask a system. Afterwards `observe` must not find it done."
        ),
    )
    over: Ident | None = Field(
        default=None,
        description=(
            "Setting with several values, separated by commas (keys by lines): the call is sent for"
            " each that `observe` does not find done, as `{item}`."
        ),
    )
    call: Call
    wait: Await
    observe: Call | None = Field(
        default=None, description="A request that tells whether the step is already done."
    )
    when: Formula = Field(
        default="", description="Condition; reads the same as a setting's `when`."
    )
    again: bool = Field(
        default=False,
        description="A step of the cluster: carried out again whenever nodes join or leave.",
    )


class Stage(Fixed):
    """A part of the setup after the cluster is formed, such as its first use, or its registration
    with what watches it. Its steps begin when the stage before has passed its checks.
    """

    id: Ident
    label: str = Field(max_length=60)
    hold: bool = Field(
        default=False,
        description="When its checks have passed, the run holds until a person has looked.",
    )
    wait: Await = Field(
        default_factory=lambda: Await(expected=5, longest=300),
        description="How long its checks may take to pass.",
    )


class Upgrading(Fixed):
    """How nodes of a role get another version of their package, one after the other."""

    role: Ident
    way: Literal["system", "again"] = Field(
        description=(
            "“system”: the package's own disks are replaced by those of the new version, disks that"
            " the plan adds stay; a rollback brings the old ones back, but not on bare machines."
            " “again”: the node leaves its cluster as under `leaving`, is deleted with its disks,"
            " and is created again."
        )
    )
    hold: bool = Field(
        default=False,
        description="The run holds after the first node of the role, until a person has looked.",
    )
