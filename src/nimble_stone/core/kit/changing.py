"""What a kit says of settings that change while their nodes stand. Durations in seconds."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

from pydantic import Field

from nimble_stone.core.kit.calls import Call
from nimble_stone.core.kit.setup import Await
from nimble_stone.core.models import Fixed, Ident

WAS = "was."
"""What templates of a change begin with where they mean the value before it."""
HARDWARE = ("name", "host", "datastore", "size", "mac", "network", "pool", "address", "on", "use")
"""Columns that make a node what it is: with another value it is another node."""
OF_HARDWARE = ("net.", "disk.", "own.", "virtual.", "system.")
Way = Literal["call", "restart", "again"]


class Changing(Fixed):
    """How settings of deployed nodes get other values, one node after the other."""

    id: Ident
    label: str = Field(max_length=60)
    values: tuple[str, ...] = Field(
        min_length=1,
        max_length=40,
        description="Settings and columns, such as `ntp`, that change this way.",
    )
    roles: tuple[Ident, ...] = Field(default=(), description="Of these roles; none: of all.")
    way: Way = Field(
        description=(
            "“call”: the node is told by `call`. “restart”: it shuts down, gets another config ISO,"
            " and starts; for products that read it whenever they start. “again”: it is made again."
        )
    )
    call: Call | None = Field(
        default=None,
        description="For “call”. `{was.SETTING}` stands for the value before the change.",
    )
    observe: Call | None = Field(
        default=None, description="For “call”: a request that tells whether it has happened."
    )
    login: Literal["new", "former"] = Field(
        default="new",
        description=(
            "Who sends `call`: the administrator with the password of the plan, or with the one"
            " before the change, where that is what changes."
        ),
    )
    once: bool = Field(
        default=False,
        description="For “call”: it is sent for the whole cluster, to its first node.",
    )
    wait: Await = Field(default_factory=lambda: Await(expected=3, longest=120))
    interrupts: str = Field(
        default="",
        max_length=120,
        description="What users notice, such as “open sessions end”; empty: nothing.",
    )

    def names(self) -> set[str]:
        """What its templates may mean by values before the change."""
        return {f"{WAS}{column}" for column in self.values}

    def calls(self) -> Iterator[Call]:
        """What is sent."""
        yield from (one for one in (self.call, self.observe) if one is not None)

    def fault(self, roles: set[str], columns: set[str]) -> str:
        """What is wrong with it, '' nothing. `columns`: what a sheet of the kit has."""
        if unknown := set(self.roles) - roles:
            return f"is for “{sorted(unknown)[0]}”, which is not a role of this kit"
        if unknown := set(self.values) - columns:
            return f"names “{sorted(unknown)[0]}”, which this kit never defines"
        fixed = [one for one in self.values if one in HARDWARE or one.startswith(OF_HARDWARE)]
        if self.way != "again" and fixed:
            return f"names “{fixed[0]}”, which changes only by the way “again”"
        sent = len(list(self.calls()))
        if sent != (2 if self.way == "call" else 0):
            return "needs `call` and `observe` for the way “call”, and only for that"
        if self.call is not None and not self.call.is_said:
            return "has neither a path nor a command"
        if self.once and self.way != "call":
            return "is sent once only by the way “call”"
        return ""
