"""How nodes join a deployed cluster, and how they leave it: what is asked of whom. Durations in
seconds.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from pydantic import Field

from nimble_stone.core.kit.calls import Call
from nimble_stone.core.kit.setup import Await, Forming
from nimble_stone.core.kit.systems import FIRST, ITSELF
from nimble_stone.core.models import Fixed, Ident


class Membership(Fixed):
    """What joining and leaving have in common."""

    id: Ident
    label: str
    role: Ident = Field(description="Role whose nodes it is for.")
    asks: Ident
    finds: Call | None = Field(
        default=None,
        description=(
            "A request that is sent before the call, which has what it keeps as `{kept.NAME}`: such"
            " as the number by which the cluster knows the node."
        ),
    )
    call: Call
    wait: Await
    observe: Call | None = Field(
        default=None, description="A request that tells whether it has happened."
    )


class Joining(Membership):
    """What is asked before a node that is added to a deployed cluster starts for the first time, so
    that the others let it in.
    """

    asks: Ident = Field(
        default=FIRST,
        description=(
            "Who is asked: “first”, the first node of the cluster that stands; or the id of one of"
            " `systems`. The node that joins is not running yet."
        ),
    )


class Leaving(Membership):
    """What is asked before a node leaves its cluster, so that the others no longer count on it."""

    asks: Ident = Field(
        default=ITSELF,
        description=(
            "Who is asked: “itself”, the leaving node; “first”, the cluster's first one, which"
            " answers also where the leaving node is broken; or the id of one of `systems`."
        ),
    )
    undoes: Ident | None = Field(
        default=None,
        description=(
            "Setup step, or entry of `joining`, that it reverts: it is sent too when a node that"
            " was added is rolled back."
        ),
    )


def named(one: Membership) -> str:
    """How faults name an entry."""
    return f"{'joining' if isinstance(one, Joining) else 'leaving'} “{one.id}”"


def calls(one: Membership) -> Iterator[Call]:
    """What it asks, in that order."""
    yield from (call for call in (one.observe, one.finds, one.call) if call is not None)


def check(
    joining: Iterable[Joining],
    leaving: Iterable[Leaving],
    roles: Collection[str],
    forming: Iterable[Forming],
) -> None:
    """Who joins or leaves is a role of the kit and can be asked for; who leaves reverts something
    of its own role. Raises ValueError.
    """
    begun = {step.id: step.role for step in forming}
    for one in joining:
        _check_one(one, roles)
        if one.asks == ITSELF:
            raise ValueError(f"{named(one)} asks the node itself, which is not running yet")
        if one.id in begun:
            raise ValueError(f"{named(one)} has the id of a setup step")
        begun[one.id] = one.role
    for other in leaving:
        _check_one(other, roles)
        if other.undoes and begun.get(other.undoes) != other.role:
            raise ValueError(
                f"{named(other)} reverts “{other.undoes}”, which is no setup step and no entry of"
                f" joining of role “{other.role}”"
            )


def _check_one(one: Membership, roles: Collection[str]) -> None:
    if one.role not in roles:
        raise ValueError(f"{named(one)} is for “{one.role}”, which is not a role of this kit")
    if not one.call.is_said:
        raise ValueError(f"{named(one)} has neither a path nor a command")
    if one.finds is not None and not one.finds.keep:
        raise ValueError(f"{named(one)}: what `finds` asks keeps nothing")
    found = set(one.finds.keep) if one.finds else set[str]()
    for call in calls(one):
        if missing := call.uses - (found if call is one.call else set()):
            raise ValueError(
                f"{named(one)} asks for “kept.{sorted(missing)[0]}”, which nothing keeps for it:"
                " only its call has what `finds` keeps"
            )
