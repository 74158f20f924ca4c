"""Which drives of a machine are taken: by a rule, or by serial numbers. Pure. Sizes in bytes."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass

from nimble_stone.core.drive_rule import DriveRule
from nimble_stone.core.estate import MachineFacts

MOST_SERIAL = 60
_NAME = re.compile(r"[!-+\--~]+( [!-+\--~]+)*")


@dataclass(frozen=True)
class KnownDrive:
    """A drive of a machine. `holds`: what was recognised on it, '' nothing, None when nobody has
    looked inside.
    """

    serial: str
    size_bytes: int
    kind: str
    holds: str | None

    @property
    def free(self) -> bool:
        """Whether nothing is known to be on it."""
        return not self.holds


def drives_of(facts: MachineFacts) -> tuple[KnownDrive, ...]:
    """The drives of a machine that have a serial number: as the inspection saw them, else as the
    controller lists them.
    """
    if facts.inside is not None:
        return tuple(
            KnownDrive(disk.serial, disk.size_bytes, disk.kind.lower(), disk.content)
            for disk in facts.inside.disks
            if facts.inside.disk(disk.serial) is not None and _is_name(disk.serial)
        )
    serials = [drive.serial for drive in facts.drives]
    return tuple(
        KnownDrive(drive.serial, drive.size_bytes, _kind(drive.kind, drive.protocol), None)
        for drive in facts.drives
        if _is_name(drive.serial) and serials.count(drive.serial) == 1
    )


def sizes(machines: Iterable[MachineFacts]) -> dict[str, int]:
    """Serial number → bytes, of all drives of some machines."""
    return {one.serial: one.size_bytes for facts in machines for one in drives_of(facts)}


def _is_name(serial: str) -> bool:
    """Whether a serial number can stand in a list and in a job: what cannot be named is never
    taken.
    """
    return len(serial) <= MOST_SERIAL and _NAME.fullmatch(serial) is not None


def _kind(kind: str, protocol: str) -> str:
    return "nvme" if protocol.lower() == "nvme" else kind.lower()


def pick(
    rule: DriveRule,
    drives: Sequence[KnownDrive],
    taken: Collection[str] = (),
    least_bytes: int = 0,
) -> list[KnownDrive]:
    """The drives that a rule takes of those that hold nothing and are not taken; fewer than it asks
    for where there are not so many. Cost: O(drives × log drives).
    """
    fits = [
        drive
        for drive in drives
        if drive.free
        and drive.serial not in taken
        and _is_of(drive, rule.kind)
        and drive.size_bytes >= max(rule.least_bytes, least_bytes)
    ]
    if rule.order:
        fits.sort(key=lambda drive: drive.size_bytes, reverse=rule.order == "largest")
    return fits if rule.number is None else fits[: rule.number]


def _is_of(drive: KnownDrive, kind: str) -> bool:
    return not kind or drive.kind == kind or (kind == "ssd" and drive.kind == "nvme")


def serials(text: str) -> tuple[str, ...]:
    """Serial numbers as a cell lists them: apart by commas."""
    return tuple(part for one in text.split(",") if (part := " ".join(one.split())))
