"""How data lies on the disks of a cluster: room, what may be lost, and what unevenness wastes.
Pure. Sizes in bytes.

Every piece is kept `width` times (copies) or cut into `pieces` parts with `spare` parity parts; no
two of them lie on one failure domain. How much fits:
with T stripes each domain holds at most one part of each, so T is the largest number with Σ
min(capacity, T) ≥ width × T. Leaving the j largest domains
full of one part each, the others must hold the rest: T = min over j < width of (Σ of the rest) /
(width − j). O(domains × log domains).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class DataDisk:
    """A disk that may hold data. `domain`: what is lost together (a host, a room); `kind`: SSD, HDD
    or ''.
    """

    domain: str
    name: str
    size_bytes: int
    kind: str = ""


@dataclass(frozen=True)
class Scheme:
    """`pieces` parts of content and `spare` parts more: copies are 1 piece and spare copies."""

    pieces: int
    spare: int

    @property
    def width(self) -> int:
        """Parts of a stripe."""
        return self.pieces + self.spare

    @property
    def label(self) -> str:
        """“2 copies”, “4 + 2 parity”; “one copy” where nothing is spare."""
        if self.width == 1:
            return "one copy"
        return (
            f"{self.width} copies" if self.pieces == 1 else f"{self.pieces} + {self.spare} parity"
        )


@dataclass(frozen=True)
class Layout:
    """A scheme on given disks. `wasted_bytes`: raw room that unevenness keeps from being used;
    `safe_bytes`: what may be stored so that after losing the
    largest domain everything can be made whole again; `reason`: why it cannot be done at all, ''
    when it can."""

    scheme: Scheme
    domains: int
    disks: int
    raw_bytes: int
    usable_bytes: int
    safe_bytes: int
    wasted_bytes: int
    survives_domains: int
    survives_disks: int
    reason: str = ""


SCHEMES = (Scheme(1, 1), Scheme(1, 2), Scheme(2, 1), Scheme(4, 2), Scheme(8, 3))


def chosen(
    disks: Sequence[DataDisk], *, kind: str = "", least_bytes: int = 0, most_per_domain: int = 0
) -> list[DataDisk]:
    """The disks a rule takes: of a kind, of a size, and no more than so many in each domain, the
    largest first.
    """
    taken: dict[str, int] = defaultdict(int)
    found = []
    for disk in sorted(disks, key=lambda one: (-one.size_bytes, one.domain, one.name)):
        if (
            (kind and disk.kind != kind)
            or disk.size_bytes < least_bytes
            or (most_per_domain and taken[disk.domain] >= most_per_domain)
        ):
            continue
        taken[disk.domain] += 1
        found.append(disk)
    return found


def stripes(capacities: Sequence[int], width: int) -> int:
    """The most parts of equal size that can be laid so that no domain holds two of one stripe;
    capacities and answer in the same unit (bytes).
    """
    if width < 1 or len(capacities) < width:
        return 0
    ranked = sorted(capacities, reverse=True)
    rest, least = sum(ranked), None
    for j in range(width):
        room = rest // (width - j)
        least = room if least is None else min(least, room)
        rest -= ranked[j]
    return max(0, least or 0)


def safe_bytes(capacities: Sequence[int], scheme: Scheme) -> int:
    """What may be stored on domains of these capacities (bytes) so that all can be made whole again
    after losing the largest. Cost: O(domains × log domains).
    """
    ranked = sorted(capacities, reverse=True)
    return scheme.pieces * min(stripes(ranked[1:], scheme.width), stripes(ranked, scheme.width))


def layout(disks: Sequence[DataDisk], scheme: Scheme) -> Layout:
    """What a scheme comes to on these disks."""
    domains: dict[str, int] = defaultdict(int)
    for disk in disks:
        domains[disk.domain] += disk.size_bytes
    capacities = sorted(domains.values(), reverse=True)
    raw, whole = sum(capacities), stripes(capacities, scheme.width)
    reason = ""
    if len(capacities) < scheme.width:
        have = "has" if len(capacities) == 1 else "have"
        reason = f"{scheme.label} need {scheme.width} hosts; {len(capacities)} {have} such disks"
    return Layout(
        scheme,
        len(capacities),
        len(disks),
        raw,
        scheme.pieces * whole,
        safe_bytes(capacities, scheme),
        raw - scheme.width * whole,
        scheme.spare if not reason else 0,
        scheme.spare if not reason else 0,
        reason,
    )


def alternatives(disks: Sequence[DataDisk], schemes: Sequence[Scheme] = SCHEMES) -> list[Layout]:
    """Schemes side by side on the same disks."""
    return [layout(disks, scheme) for scheme in schemes]
