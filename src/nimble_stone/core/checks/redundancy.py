"""Rules about how data lies on a cluster's disks."""

from __future__ import annotations

import math
from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.kit.sizing import STORED_UNITS
from nimble_stone.core.plan.redundancy import current, ways
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.units import inside, size_text

WASTE = 0.1
"""A share of the raw room: more of it wasted is worth a word."""


def enough(s: Situation) -> Iterator[Finding]:
    """The disks store the workload that the plan states, also after a host was lost."""
    kit, found = s.sheet.kit, current(s.sheet)
    if kit.sizing is None or found is None or found.reason:
        return
    for load in kit.sizing.loads:
        wanted = s.sheet.plan.load.get(load.id, 0.0) * STORED_UNITS.get(load.unit, 0)
        if not load.stored or wanted <= found.safe_bytes:
            continue
        fits = wanted <= found.usable_bytes
        room = found.safe_bytes if fits else found.usable_bytes
        yield Finding(
            severity="caution" if fits else "blocker",
            code="layout-tight" if fits else "layout-short",
            column=f"disk.{kit.data_layout.disks[0]}" if kit.data_layout else "",
            message=(
                f"The data disks store {size_text(room)} in {found.scheme.label}"
                + (" with 1 host lost" if fits else "")
                + f"; the workload is {size_text(int(wanted))} ({inside(load.label)})."
            ),
            consequence=(
                "After losing a host, not all copies can be made again."
                if fits
                else "The disks fill up before the workload is stored."
            ),
            remedy=_larger(s.sheet, wanted / max(1, found.safe_bytes)),
        )


def _larger(sheet: Sheet, factor: float) -> Remedy:
    """Disks so much larger, where one size holds for all and the kit allows it."""
    layout = sheet.kit.data_layout
    disk = next(
        (one for one in sheet.kit.extra_disks if layout and layout.disks == (one.id,)), None
    )
    sizes = {node.value(f"disk.{disk.id}") for node in sheet.nodes} - {""} if disk else set()
    if disk is not None and len(sizes) == 1 and (text := next(iter(sizes))).isdigit():
        gib = math.ceil(int(text) * factor)
        if gib <= disk.limits(sheet.nodes[0].value("use"))[0].most:
            return Remedy(
                label=f"Use data disks of {gib:,} GiB",
                edit=Edit(path=("values", f"disk.{disk.id}"), value=gib),
            )
    return Remedy(label="Add nodes or data disks, or choose another redundancy")


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
