"""What an acceptance check is: what is expected and what was found, as values with types; the words
for people are made from them and never compared.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from nimble_stone.core.kit.checks import AcceptanceCheck
from nimble_stone.core.plan.sheet import Node, Sheet

Of = Literal["node", "cluster"]


@dataclass(frozen=True)
class Subject:
    """What a check is about: a node, or for None the whole cluster."""

    sheet: Sheet
    node: Node | None
    proof: AcceptanceCheck


@dataclass(frozen=True)
class Kind:
    """A kind of check. `expect`: the value that is to be found, None where the plan says nothing of
    it. `fits`: whether what was found will do, given the check's limit. `say`: a value in words;
    `say_expected`: the same for what is expected, where that is said otherwise.
    """

    id: str
    of: Of
    expect: Callable[[Subject], Any]
    say: Callable[[Any], str]
    fits: Callable[[Any, Any, float], bool] = lambda wanted, found, _: bool(wanted == found)
    say_expected: Callable[[Any, float], str] | None = None
    say_other: Callable[[Any, Any], str] | None = None
    """What was found in words, where it is not what is wanted: of both."""
    mesh: Callable[[Any], Mesh | None] | None = None
    chart: Callable[[Any, Any], Chart | None] | None = None
    """Of what is expected and what was found."""


@dataclass(frozen=True)
class Answer:
    """What was found: a value of the kind's type and how it was asked. Where there is none: `said`
    are the words for what there is instead, `unknown` why it could not be asked.
    """

    value: Any
    how: str
    said: str = ""
    unknown: str = ""


@dataclass(frozen=True)
class Expected:
    """One check to be made. `node` is '' for the cluster."""

    proof: str
    label: str
    node: str
    kind: str
    wanted: Any
    limit: float
    expected: str
    """What is expected, in words."""


@dataclass(frozen=True)
class Mesh:
    """Who reaches whom: names of nodes, and for each the numbers of those that it does not
    reach; `silent`: the numbers of those that could not be asked.
    """

    nodes: tuple[str, ...]
    lost: tuple[tuple[int, ...], ...]
    silent: tuple[int, ...] = ()


@dataclass(frozen=True)
class Chart:
    """A value that was asked for again and again, in the order it came, and what its median and
    its worst may be; None: not limited.
    """

    values: tuple[float, ...]
    unit: str = ""
    median: float = 0.0
    least: float | None = None
    most: float | None = None
    worst: float | None = None


@dataclass(frozen=True)
class Verdict:
    """A check that was made: what was found, and whether it will do. `how` is the command or
    request that told.
    """

    proof: str
    label: str
    node: str
    expected: str
    found: str
    passed: bool
    how: str
    checked: bool = True
    """False where it could not be asked: that is neither a pass nor a failure."""
    mesh: Mesh | None = None
    """Of a check that asks who reaches whom."""
    chart: Chart | None = None
    """Of a check that asks for a number again and again."""
