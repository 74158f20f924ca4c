"""A step of a run: what is done, where, after what, and how long it may take. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from nimble_stone.core.plan.sheet import Node

Kind = Literal[
    "carry",
    "clone",
    "medium",
    "define",
    "start",
    "unpack",
    "insert",
    "medium-boot",
    "write",
    "eject",
    "seed",
    "power-on",
    "unseed",
    "answer-room",
    "insert-installer",
    "install",
    "enroll",
    "learn",
    "boot",
    "host-keys",
    "services",
    "call",
    "ground",
    "names",
    "first-password",
    "stage",
    "resize",
    "grow",
    "swap",
    "move",
    "clear",
    "change",
    "reconfigure",
    "boot-files",
    "installer-medium",
    "install-vm",
    "vm-eject",
    "delay",
    "adopt",
    "admit",
    "leave",
    "retire",
]


@dataclass(frozen=True)
class Step:
    """One step. `expected_s` and `deadline_s` in seconds; `waits` marks steps that only wait for
    others' work.
    """

    key: str
    kind: Kind
    label: str
    node: str
    host: str
    datastore: str
    wave: int
    after: tuple[str, ...]
    expected_s: float
    deadline_s: float
    waits: bool = False
    detail: Mapping[str, str] = field(default_factory=dict)
    usual_s: float = 0.0
    """What the kit says it takes, where this estate was seen to be faster or slower; 0:
    `expected_s`.
    """


def make(
    kind: Kind,
    key: str,
    label: str,
    at: Node,
    wave: int,
    after: tuple[str, ...],
    expected: float,
    *,
    node: str | None = None,
    deadline: float | None = None,
    patience: float = 6.0,
    waits: bool = False,
    detail: Mapping[str, str] | None = None,
) -> Step:
    """A step at a node's place; it belongs to the node unless `node` says another, and may take
    `patience` times what is expected, at least two minutes.
    """
    return Step(
        key,
        kind,
        label,
        at.id if node is None else node,
        at.value("host"),
        at.value("datastore"),
        wave,
        after,
        max(0.1, expected),
        deadline if deadline is not None else max(120.0, expected * patience),
        waits,
        detail or {},
    )
