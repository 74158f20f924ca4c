"""Shared values: what a plan includes, and what those include in turn. Pure."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from nimble_stone.core.errors import InputError
from nimble_stone.core.plan.model import Scalar, SharedValues

MAX_DEEP = 8


def gather(names: Sequence[str], known: Mapping[str, SharedValues]) -> dict[str, Scalar]:
    """All values included, later ones over earlier ones, a file's own over those it includes.

    Raises InputError for an unknown name, for a ring (named as it goes round), and beyond eight
    levels.
    """
    found: dict[str, Scalar] = {}
    for name in names:
        found |= _one(name, known, ())
    return found


def _one(name: str, known: Mapping[str, SharedValues], way: tuple[str, ...]) -> dict[str, Scalar]:
    if name in way:
        raise InputError(
            "shared values include each other in a ring:"
            f" {' → '.join((*way[way.index(name) :], name))}",
            code="include-ring",
            hint="Remove one of the includes.",
        )
    if len(way) >= MAX_DEEP:
        raise InputError(
            f"shared values are included {MAX_DEEP} levels deep: {' → '.join(way)}",
            code="include-deep",
        )
    if name not in known:
        by = f"“{way[-1]}” includes" if way else "the plan includes"
        raise InputError(
            f"{by} shared values “{name}”, which do not exist; there are"
            f" {', '.join(sorted(known)) or 'none'}",
            code="include-unknown",
            hint="Correct the name, or create them first.",
        )
    values = known[name]
    found: dict[str, Scalar] = {}
    for other in values.include:
        found |= _one(other, known, (*way, name))
    return found | values.values
