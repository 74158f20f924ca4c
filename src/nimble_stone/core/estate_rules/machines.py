"""Rules about bare machines, by what their management controllers said."""

from __future__ import annotations

from collections import Counter

from nimble_stone.core.estate import Machine, MachineFacts
from nimble_stone.core.estate_rules.base import Broken, Found, Ground, MachineRule


def _answers(g: Ground, machine: Machine, facts: MachineFacts) -> Found:
    if facts.trouble:
        yield Broken(
            "blocker",
            facts.trouble,
            "Check that its controller is up and the login is correct, then refresh.",
        )


def _healthy(g: Ground, machine: Machine, facts: MachineFacts) -> Found:
    if facts.health not in ("", "OK"):
        yield Broken(
            "blocker" if facts.health == "Critical" else "caution",
            f"its controller reports health {facts.health}",
            "Check its event log.",
        )
    for drive in facts.drives:
        if drive.health not in ("", "OK"):
            yield Broken(
                "caution",
                f"drive {drive.name} reports {drive.health}",
                "Replace it before it is used.",
            )


def _same_firmware(g: Ground, machine: Machine, facts: MachineFacts) -> Found:
    peers = [other for other in g.rack_of(machine) if other.model == facts.model]
    for piece in facts.firmware:
        counted = Counter(
            other.version for peer in peers for other in peer.firmware if other.name == piece.name
        )
        usual = max(counted, key=lambda version: (counted[version], version), default="")
        if usual and piece.version != usual and counted[usual] > counted[piece.version]:
            yield Broken(
                "caution",
                f"{piece.name} is {piece.version}; most of its bay have {usual}",
                "Use one version in the bay.",
            )


def _same_make(g: Ground, machine: Machine, facts: MachineFacts) -> Found:
    counted = Counter(
        (other.memory_bytes, len(other.drives))
        for other in g.rack_of(machine)
        if other.memory_bytes
    )
    usual = max(counted, key=lambda shape: (counted[shape], shape), default=None)
    if (
        facts.memory_bytes
        and usual
        and (facts.memory_bytes, len(facts.drives)) != usual
        and counted[usual] > 1
    ):
        yield Broken(
            "note",
            f"it has {len(facts.drives)} drives and {facts.memory_bytes >> 30} GiB; most of its bay"
            f" have {usual[1]} and {usual[0] >> 30} GiB",
            "Unequal machines leave capacity unused.",
        )


def _certificate(g: Ground, machine: Machine, facts: MachineFacts) -> Found:
    if facts.certificate:
        yield Broken(
            "note",
            f"its certificate {facts.certificate}; it is pinned, so it cannot be replaced"
            " unnoticed",
            "Install a valid certificate.",
        )


def _media(g: Ground, machine: Machine, facts: MachineFacts) -> Found:
    if (
        facts.read_at
        and not facts.trouble
        and machine.boots == "media"
        and not any("CD" in slot.kinds or "DVD" in slot.kinds for slot in facts.media)
    ):
        yield Broken(
            "caution",
            "it has no virtual CD, so nothing can be installed through it",
            "Check the controller's licence, or let the machine boot from the network.",
        )


def _wired(g: Ground, machine: Machine, facts: MachineFacts) -> Found:
    if facts.nics and not any(nic.link is not False for nic in facts.nics):
        yield Broken("caution", "no network port has a link", "See the cables.")


def _as_seen_inside(g: Ground, machine: Machine, facts: MachineFacts) -> Found:
    inside = facts.inside
    if inside is None:
        return
    told = {nic.mac.casefold(): nic.name for nic in facts.nics if nic.mac}
    seen = {nic.mac.casefold() for nic in inside.nics}
    gone = sorted(name for mac, name in told.items() if mac not in seen)
    if gone:
        yield Broken(
            "caution",
            f"its controller lists {', '.join(gone[:4])}; the inspection did not see"
            f" {'it' if len(gone) == 1 else 'them'}",
            "The system has no driver for it, or it is disabled. Plan without it.",
        )
    serials = {disk.serial for disk in inside.disks}
    lost = sorted(
        drive.name for drive in facts.drives if drive.serial and drive.serial not in serials
    )
    if lost:
        yield Broken(
            "caution",
            f"its controller lists drive {', '.join(lost[:4])}; the inspection did not see"
            f" {'it' if len(lost) == 1 else 'them'}",
            "Drives behind a RAID controller are hidden, or one was replaced. Inspect again.",
        )


def _holds(g: Ground, machine: Machine, facts: MachineFacts) -> Found:
    held = [disk for disk in (facts.inside.disks if facts.inside else ()) if not disk.blank]
    # what a node of ours needs is not to be wiped
    if held and machine.name not in g.living:
        what = sorted({sign.kind for disk in held for sign in disk.holds})
        yield Broken(
            "note",
            f"{', '.join(disk.device for disk in held[:4])} hold{'s' if len(held) == 1 else ''}"
            f" something ({', '.join(what[:6])})",
            "Wipe it if it is no longer needed.",
        )


RULES: tuple[MachineRule, ...] = (
    MachineRule(
        "bmc-answers",
        "Its controller answers",
        "Otherwise nothing can be read or done.",
        "the last reading",
        _answers,
    ),
    MachineRule(
        "bmc-health",
        "Hardware is healthy",
        "A failing machine fails in the rollout.",
        "Status.Health (DSP0266)",
        _healthy,
    ),
    MachineRule(
        "bmc-firmware",
        "Has the bay's firmware",
        "Faults are the same on all hosts.",
        "FirmwareInventory, BiosVersion",
        _same_firmware,
    ),
    MachineRule(
        "bmc-alike",
        "Has the same hardware as its bay",
        "The smallest member limits a cluster.",
        "MemorySummary, Drives",
        _same_make,
    ),
    MachineRule(
        "bmc-certificate",
        "Presents a valid certificate",
        "Other tools must trust it too.",
        "the TLS handshake",
        _certificate,
    ),
    MachineRule(
        "bmc-media",
        "Offers virtual media",
        "Installers are sent through it.",
        "VirtualMedia",
        _media,
    ),
    MachineRule(
        "inside-alike",
        "Is inside as its controller says",
        "An interface that does not exist ends a rollout.",
        "the inspection report",
        _as_seen_inside,
    ),
    MachineRule(
        "inside-blank",
        "Has blank drives",
        "Remains of an earlier system get in the way.",
        "the inspection report",
        _holds,
    ),
    MachineRule(
        "bmc-wired",
        "Has a network port with a link",
        "Installation needs the network.",
        "EthernetInterfaces",
        _wired,
    ),
)
