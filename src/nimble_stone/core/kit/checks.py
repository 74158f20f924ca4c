"""What a kit says of acceptance: single checks, and what a workload does."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from nimble_stone.core import reply
from nimble_stone.core.kit.calls import Call, Reading
from nimble_stone.core.kit.formula import Formula
from nimble_stone.core.kit.systems import ITSELF
from nimble_stone.core.models import Fixed, Ident

ONCE = "once"
"""What `{once}` stands for in a workload: 16 characters that are new each time."""


CLUSTER_KINDS = ("members", "one-lead", "virtual", "balanced", "reach", "workload")
NODES, HOSTS = "nodes", "hosts"
"""Who asks in a check of reachability, besides bays."""
EITHER_KINDS = ("call", "series")
"""Kinds of acceptance checks of the cluster as a whole; all others check each node."""


class WorkStep(Fixed):
    """One thing that a workload does, and what its answer must say."""

    label: str = Field(max_length=80)
    on: Literal["first", "each", "others"] = Field(
        default="first",
        description=(
            "Which nodes do it: the first one, each side by side, or each but the first. With"
            " `roles`, of the nodes of these."
        ),
    )
    call: Call = Field(
        description=(
            "What is asked. `{once}` is new in each round; what it keeps, later steps have as"
            " `{kept.NAME}`."
        )
    )
    value: Reading = Field(default="", description="What of the answer is compared.")
    equals: str | None = Field(
        default=None, max_length=400, description="What it must be; a template."
    )


class AcceptanceCheck(Fixed):
    """One acceptance check. `kind` selects what is compared."""

    id: Ident
    label: str
    of: Literal["node", "cluster"] = "node"
    kind: Literal[
        "running",
        "autostart",
        "hardware",
        "disks",
        "boot",
        "host",
        "name",
        "names",
        "address",
        "gateway",
        "clock",
        "port",
        "version",
        "role",
        "roles",
        "networks",
        "fence",
        "members",
        "one-lead",
        "virtual",
        "mac",
        "address6",
        "certificate",
        "balanced",
        "call",
        "closed",
        "redirect",
        "reach",
        "series",
        "workload",
    ]
    limit: float = Field(
        default=0.0, description="How much a number may be off: seconds of a clock, a tolerance."
    )
    roles: tuple[Ident, ...] = Field(
        default=(), description="Only nodes of these roles; empty: all."
    )
    stage: Ident | None = Field(
        default=None,
        description=(
            "Stage (`stages`) that ends only when it has passed. It is made at the end as well."
        ),
    )
    when: Formula = Field(
        default="", description="Condition; reads the same as a setting's `when`."
    )
    call: Call | None = Field(default=None, description="For “call” and “series”: what is asked.")
    asks: Ident = Field(
        default=ITSELF,
        description=(
            "For “call” and “series”: who is asked: “itself”, “first”, or the id of one of"
            " `systems`."
        ),
    )
    value: Reading = Field(
        default="",
        description=(
            "For “call” and “series”: what of the answer is compared; empty: its status. `ms:` is"
            " how many milliseconds the answer took."
        ),
    )
    times: int = Field(default=20, ge=2, le=200, description="For “series”: how often it is asked.")
    worst: str = Field(
        default="",
        max_length=100,
        description=(
            "For “series”: a template for the most that a single value may be. `at_least` and"
            " `at_most` are for the median."
        ),
    )
    workload: tuple[WorkStep, ...] = Field(
        default=(), max_length=20, description="For “workload”: what is done, in this order."
    )
    cleanup: tuple[WorkStep, ...] = Field(
        default=(),
        max_length=20,
        description="For “workload”: what removes it again, also after a step that failed.",
    )
    equals: str | None = Field(
        default=None, max_length=400, description="A template; numbers are compared as numbers."
    )
    matches: str = Field(
        default="", max_length=400, description="A pattern that the whole value fits."
    )
    at_least: str = Field(default="", max_length=100, description="A template for a number.")
    at_most: str = Field(default="", max_length=100, description="A template for a number.")
    unit: str = Field(default="", max_length=20)
    ports: tuple[int, ...] = Field(
        default=(),
        max_length=20,
        description=(
            "For “closed”: ports that must not answer; for “redirect”: the plain one; for “reach”:"
            " ports that are connected to, instead of an echo request."
        ),
    )
    source: str = Field(
        default=NODES,
        max_length=200,
        description=(
            "For “reach”: who asks. “nodes”: each node all others; “hosts”: each node's host; else"
            " a template that gives bays, separated by commas: one host of each."
        ),
    )
    size: int = Field(
        default=0,
        ge=0,
        le=65_535,
        description="For “reach”: bytes of a packet that must not be broken up; 0: a small one.",
    )

    def parts(self) -> tuple[WorkStep, ...]:
        """What its workload does, and what removes it again."""
        return (*self.workload, *self.cleanup)

    @model_validator(mode="after")
    def _of_what_it_can_be(self) -> AcceptanceCheck:
        of = "cluster" if self.kind in CLUSTER_KINDS else "node"
        if self.kind not in EITHER_KINDS and self.of != of:
            raise ValueError(
                f"acceptance check “{self.id}”: {self.kind} checks the {of}, not the {self.of}"
            )
        if self.kind in EITHER_KINDS:
            self._check_call()
        if self.kind == "workload" and not self.workload:
            raise ValueError(f"acceptance check “{self.id}” has no workload")
        for part in self.parts():
            if part.value and (wrong := reply.fault_of(part.value)):
                raise ValueError(f"acceptance check “{self.id}”, “{part.label}”: value: {wrong}")
        return self

    def _check_call(self) -> None:
        if self.call is None:
            raise ValueError(f"acceptance check “{self.id}” has no call")
        if self.value and (wrong := reply.fault_of(self.value)):
            raise ValueError(f"acceptance check “{self.id}”: value: {wrong}")
        if self.matches and (wrong := reply.fault_of(f"pattern:{self.matches}")):
            raise ValueError(f"acceptance check “{self.id}”: matches: {wrong}")
