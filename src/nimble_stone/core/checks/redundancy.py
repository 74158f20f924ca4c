"""Rules about how data lies on a cluster's disks."""

from __future__ import annotations

from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.findings import Finding, Remedy
from nimble_stone.core.plan.redundancy import ways
from nimble_stone.core.units import size_text

WASTE = 0.1
"""A share of the raw room: more of it wasted is worth a word."""


def laid(s: Situation) -> Iterator[Finding]:
    """The chosen way is possible, survives something, and wastes little."""
    known = ways(s.sheet)
    way = next((one for one in known if one.chosen), None)
    if way is None:
        return
    found, column = way.layout, next((edit.path[-1] for edit in way.edits), "")
    if found.reason:
        other = next((one for one in reversed(known) if not one.layout.reason), None)
        yield Finding(
            severity="blocker",
            code="laying-hosts",
            column=column,
            message=f"{found.reason[:1].upper()}{found.reason[1:]}.",
            consequence="Fragments of one chunk cannot be on different hosts.",
            remedy=(
                Remedy(label=f"Use {other.layout.scheme.label}", edit=other.edits[0])
                if other and len(other.edits) == 1
                else None
            ),
        )
    elif not found.survives_domains:
        yield Finding(
            severity="caution",
            code="laying-bare",
            column=column,
            message="Data is stored only once: any failure loses data.",
            consequence="Losing one disk loses data.",
            remedy=Remedy(label="Choose a scheme with copies or parity"),
        )
    if found.wasted_bytes > WASTE * found.raw_bytes and not found.reason:
        yield Finding(
            severity="caution",
            code="laying-waste",
            column=column,
            message=(
                f"{size_text(found.wasted_bytes)} of {size_text(found.raw_bytes)} raw capacity"
                f" cannot be used in {found.scheme.label}: hosts differ too much."
            ),
            consequence="Disks that are paid for stay empty.",
            remedy=Remedy(label="Give every host the same disks"),
        )
