"""What a stand-in machine finds when it looks at itself."""

from __future__ import annotations

from collections.abc import Sequence

from nimble_stone.core.inspection.job import ANY, Job
from nimble_stone.core.inspection.report import FIRST_LINE
from nimble_stone.lab.controllers.machine import LabMachine

FLAGS = "fpu sse2 ssse3 sse4_1 sse4_2 popcnt aes avx avx2 svm nx lm"
LINKED_PORTS = 2
REMAINS = ("gpt", "ext4")


def wipe(machine: LabMachine, job: Job) -> list[str]:
    """Wipe the drives that the job names, all or none; why not, in words."""
    plan = machine.plan
    there = set(machine.drives)
    refused = [
        f"no single disk of {disk.size_bytes} bytes has serial number {disk.serial}"
        for disk in job.disks
        if disk.serial not in there or disk.size_bytes != plan.drive_bytes
    ]
    refused += [
        f"a disk ({disk.serial}) holds {kind}, which was not confirmed"
        for disk in job.disks
        for kind in _content(machine, disk.serial)
        if kind not in disk.kinds and ANY not in disk.kinds
    ]
    if not refused:
        machine.wiped += [disk.serial for disk in job.disks]
        for disk in job.disks:
            if machine.written.pop(disk.serial, None):
                machine.node, machine.label = {}, {}
    return refused


def report(machine: LabMachine, refused: Sequence[str] = (), written: str = "") -> str:
    """The report of the inspection system, as core/inspection/report.py reads it. `written`: serial
    number of the drive that an image was written to just now.
    """
    plan, knobs = machine.plan, machine.knobs
    serial = knobs.reports_as or machine.serial
    lines = [
        FIRST_LINE,
        f"serial\t{serial}",
        f"uuid\t{machine.uuid}",
        "maker\tHolm Instruments",
        f"product\t{plan.model}",
        "firmware\tuefi",
        "kernel\t6.1.0-26-cloud-amd64",
        f"memory_kib\t{plan.memory_bytes // 1024}",
        "cpu\tStonework 9374F",
        f"threads\t{plan.cores * 2}",
        f"flags\t{FLAGS}",
    ]
    for number in range(1, plan.ports + 1):
        link = number <= LINKED_PORTS
        lines.append(
            "\t".join(
                (
                    "nic",
                    f"eth{number - 1}",
                    f"ens{number}f0",
                    plan.mac(number),
                    "1" if link else "0",
                    "25000" if link else "",
                    _frame(plan.name, number) if link else "",
                )
            )
        )
    for number in range(plan.drives):
        solid = number < 2 or plan.drive_kind == "SSD"
        device = f"nvme{number}n1" if plan.drive_kind == "SSD" else f"sd{chr(97 + number)}"
        lines.append(
            "\t".join(
                (
                    "disk",
                    device,
                    f"{machine.serial}D{number}",
                    f"eui.00{machine.serial.lower()}{number:02x}",
                    "HOLM-N7680",
                    str(plan.drive_bytes),
                    "nvme" if plan.drive_kind == "SSD" else {True: "ssd", False: "hdd"}[solid],
                )
            )
        )
        drive = f"{machine.serial}D{number}"
        if _remains(machine, drive):
            lines += [f"holds\t{device}\tgpt\t", f"holds\t{device}p1\text4\told-archive"]
        if drive in machine.written:
            lines.append(f"holds\t{device}\tdos\t")
    lines += [f"refused\t{why}" for why in refused]
    if written:
        lines.append(f"written\t{written}\t{machine.written.get(written, '')}")
    return "\n".join(lines) + "\n"


def _content(machine: LabMachine, serial: str) -> tuple[str, ...]:
    """What a drive holds."""
    if serial in machine.written:
        return ("dos",)
    return REMAINS if _remains(machine, serial) else ()


def _remains(machine: LabMachine, serial: str) -> bool:
    """Whether something of earlier times is on a drive."""
    old = {f"{machine.serial}D{number}" for number in machine.plan.odd.get("remains", ())}
    return serial in old and serial not in machine.wiped


def _frame(name: str, number: int) -> str:
    """The LLDP frame (IEEE 802.1AB) of the switch port that this port hangs on, in hexadecimal."""
    switch = bytes.fromhex("5254bbfe00") + bytes([number])
    parts = (
        (1, b"\x04" + switch),
        (2, b"\x05" + f"port {10 + number} ({name})".encode()),
        (3, (120).to_bytes(2, "big")),
        (5, f"leaf-{number}.kelda.holm.example".encode()),
        (0, b""),
    )
    body = b"".join((kind << 9 | len(value)).to_bytes(2, "big") + value for kind, value in parts)
    return (bytes.fromhex("0180c200000e") + switch + b"\x88\xcc" + body).hex()
