"""Work on a target as named operations: what is shown beforehand is what is sent.

An operation owns what is sent to do it and what is sent to take it back; an impossible order cannot
be written.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum


@dataclass(frozen=True)
class Command:
    """A command and its standard input. `fine`: words of a failure that means it is so already;
    `appends_to`: the file that its input lengthens by whole lines, '' none.
    """

    text: str
    data: str = ""
    fine: tuple[str, ...] = ()
    appends_to: str = ""

    @property
    def shown(self) -> str:
        """As a person can paste it into a terminal."""
        return self.text + (f" <<'END'\n{self.data.rstrip()}\nEND" if self.data else "")


class Op(StrEnum):
    """What an operation does. The engine speaks of operations by these names, never of places."""

    FORMAT_DISK = "format-disk"
    DEFINE_POOL = "define-pool"
    BUILD_BRIDGE = "build-bridge"
    DEFINE_NETWORK = "define-network"
    CHANGE = "change"


_BEFORE = {Op.DEFINE_POOL: Op.FORMAT_DISK, Op.DEFINE_NETWORK: Op.BUILD_BRIDGE}
"""What rests on what: the second comes first where both are there."""


@dataclass(frozen=True)
class Operation:
    """What is sent to do one thing, and what is sent to take it back."""

    name: Op
    act: tuple[Command, ...]
    undo: tuple[Command, ...] = ()


@dataclass(frozen=True)
class Work:
    """The operations of an action, in their order; they are taken back in the opposite one. `files`
    are written whole, and are this run's by their first line. Raises ValueError for an order that
    cannot be.
    """

    operations: tuple[Operation, ...]
    files: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        names = [operation.name for operation in self.operations]
        if len(set(names)) != len(names):
            raise ValueError("an operation is in the work twice")
        for later, earlier in _BEFORE.items():
            if {later, earlier} <= set(names) and names.index(later) < names.index(earlier):
                raise ValueError(f"{later} cannot come before {earlier}")

    def act(self, without: Collection[Op] = ()) -> tuple[Command, ...]:
        """What is sent to do it, without operations that are done already."""
        return tuple(
            command
            for operation in self.operations
            if operation.name not in without
            for command in operation.act
        )

    def undo(self, only: Collection[Op] = tuple(Op)) -> tuple[Command, ...]:
        """What is sent to take it back, of the operations that are named."""
        return tuple(
            command
            for operation in reversed(self.operations)
            if operation.name in only
            for command in operation.undo
        )
