"""The report of the inspection system: lines of words with tabs between them, as a shell can write
them without quoting. docs/metal.md describes it.
"""

from __future__ import annotations

from pydantic import Field

from nimble_stone.core.errors import FormatError
from nimble_stone.core.models import Fixed

FIRST_LINE = "inspection-report 1"
MOST_BYTES = 256 * 1024
MOST_LINES = 4000
WORD = 400


class Neighbour(Fixed):
    """What a switch says of itself by LLDP (IEEE 802.1AB): chassis, port, and its name."""

    chassis: str = ""
    port: str = ""
    name: str = ""


class InsideNic(Fixed):
    """A network interface as the system sees it. `name`: as systemd would call it (predictable
    names), `kernel`: as the kernel did; `speed_mbit` 0 when it is not told.
    """

    name: str
    kernel: str = ""
    mac: str = ""
    link: bool | None = None
    speed_mbit: int = 0
    neighbour: Neighbour | None = None


class Signature(Fixed):
    """Something recognised on a disk. `device`: the disk or its partition."""

    device: str
    kind: str
    label: str = ""


class InsideDisk(Fixed):
    """A disk as the system sees it. `kind`: ssd, hdd or nvme."""

    device: str
    serial: str = ""
    wwid: str = ""
    model: str = ""
    size_bytes: int = 0
    kind: str = ""
    holds: tuple[Signature, ...] = ()

    @property
    def content(self) -> str:
        """What it holds, in a few words; '' when nothing was recognised."""
        return ", ".join(
            " ".join(part for part in (sign.device, sign.kind, sign.label) if part)
            for sign in self.holds
        )[:400]

    @property
    def blank(self) -> bool:
        """Whether nothing was recognised on it."""
        return not self.holds


class Written(Fixed):
    """An image that was written: to which disk, and the digest of what was read back."""

    serial: str
    sha256: str


class Inspection(Fixed):
    """What a machine is inside. Memory in bytes; `read_at` when the report came."""

    machine: str
    read_at: float = 0.0
    serial: str = ""
    uuid: str = ""
    maker: str = ""
    product: str = ""
    firmware: str = ""  # uefi or bios
    kernel: str = ""
    memory_bytes: int = Field(default=0, ge=0)
    cpu: str = ""
    threads: int = Field(default=0, ge=0)
    flags: tuple[str, ...] = ()
    nics: tuple[InsideNic, ...] = ()
    disks: tuple[InsideDisk, ...] = ()
    refused: tuple[str, ...] = ()
    """Why a job was not done, in the words of the system that was to do it."""
    written: tuple[Written, ...] = ()

    def disk(self, serial: str) -> InsideDisk | None:
        """The one disk with this serial number, None when there is none or more than one."""
        found = [disk for disk in self.disks if disk.serial == serial]
        return found[0] if len(found) == 1 else None


_TEXTS = ("serial", "uuid", "maker", "product", "firmware", "kernel", "cpu")


def parse(data: bytes, machine: str, now: float) -> Inspection:
    """A report. Unknown lines are passed over, so that newer systems may say more. Raises
    FormatError.

    Cost: O(length).
    """
    if len(data) > MOST_BYTES:
        raise FormatError(
            f"the report of {machine} is longer than {MOST_BYTES // 1024} KiB", code="report-long"
        )
    lines = data.decode("utf-8", "replace").splitlines()[:MOST_LINES]
    if not lines or lines[0].strip() != FIRST_LINE:
        raise FormatError(
            f"what came from {machine} is no inspection report",
            code="report-format",
            place="line 1",
        )
    values: dict[str, str] = {}
    nics: list[InsideNic] = []
    disks: dict[str, InsideDisk] = {}
    signs: list[Signature] = []
    refused: list[str] = []
    written: list[Written] = []
    flags: tuple[str, ...] = ()
    for line in lines[1:]:
        words = [_clean(word) for word in line.split("\t")]
        if words[0] == "flags":
            # the one line that is longer than a word may be
            flags = tuple(_clean(word) for word in line.split()[1:401])
            continue
        match words[0]:
            case "nic":
                nics.append(_nic(words[1:]))
            case "disk":
                disk = _disk(words[1:])
                disks[disk.device] = disk
            case "refused":
                refused.append(" ".join(words[1:]))
            case "written":
                serial, sha256 = _padded(words[1:], 2)
                written.append(Written(serial=serial, sha256=sha256))
            case "holds":
                device, kind, label = _padded(words[1:], 3)
                signs.append(Signature(device=device, kind=kind, label=label))
            case _:
                values[words[0]] = words[1] if len(words) > 1 else ""
    return Inspection(
        machine=machine,
        read_at=now,
        memory_bytes=_number(values.get("memory_kib", "")) * 1024,
        threads=_number(values.get("threads", "")),
        flags=flags,
        nics=tuple(sorted(nics, key=lambda nic: nic.name))[:64],
        refused=tuple(refused[:64]),
        written=tuple(written[:64]),
        disks=tuple(_with_signs(disk, signs) for disk in disks.values())[:512],
        **{key: values.get(key, "") for key in _TEXTS},
    )


def another(inside: Inspection, serial: str) -> str:
    """Why a report cannot be of the machine that the controller names by this serial number, ''
    when it can, or when one of the two says none.
    """
    shown, known = inside.serial.casefold(), serial.strip().casefold()
    if not shown or not known or shown == known:
        return ""
    return (
        f"the report comes from a machine with serial number {inside.serial};"
        f" its controller says {serial}"
    )


def not_wiped(inside: Inspection, serials: tuple[str, ...]) -> str:
    """Why disks that were to be wiped are not blank now, '' when all of them are."""
    if inside.refused:
        return f"nothing was wiped: {'; '.join(inside.refused[:3])}"
    for serial in serials:
        disk = inside.disk(serial)
        if disk is None:
            return f"the disk with serial number {serial} is not there any more"
        if not disk.blank:
            return f"{disk.device} ({serial}) still holds {disk.holds[0].kind}"
    return ""


def not_written(inside: Inspection, serial: str, sha256: str) -> str:
    """Why an image is not on a disk now, '' when it was read back as it was sent."""
    if inside.refused:
        return f"the image was not written: {'; '.join(inside.refused[:3])}"
    found = next((one.sha256 for one in inside.written if one.serial == serial), "")
    if found == sha256:
        return ""
    if not found:
        return f"the machine does not say that it wrote the image to {serial}"
    return f"what was read back from {serial} is not the image ({found[:12]}, not {sha256[:12]})"


def _with_signs(disk: InsideDisk, signs: list[Signature]) -> InsideDisk:
    own = [sign for sign in signs if disk.device in (sign.device, _disk_of(sign.device))]
    return disk.model_copy(update={"holds": tuple(own[:64])})


def _disk_of(device: str) -> str:
    """The disk of a partition: vda of vda1, nvme0n1 of nvme0n1p2."""
    stem = device.rstrip("0123456789")
    if stem.endswith("p") and stem[:-1][-1:].isdigit():
        return stem[:-1]
    return stem


def _nic(words: list[str]) -> InsideNic:
    kernel, name, mac, link, speed, frame = _padded(words, 6)
    return InsideNic(
        name=name or kernel,
        kernel=kernel,
        mac=mac.lower(),
        link={"1": True, "0": False}.get(link),
        speed_mbit=_number(speed),
        neighbour=neighbour(frame),
    )


def _disk(words: list[str]) -> InsideDisk:
    device, serial, wwid, model, size, kind = _padded(words, 6)
    return InsideDisk(
        device=device, serial=serial, wwid=wwid, model=model, size_bytes=_number(size), kind=kind
    )


def neighbour(frame: str) -> Neighbour | None:
    """What an LLDP frame says, given in hexadecimal from its Ethernet header on; None when it is
    none (IEEE 802.1AB clause 8).
    """
    try:
        data = bytes.fromhex(frame)
    except ValueError:
        return None
    if data[12:14] != b"\x88\xcc":
        return None
    found = {1: "", 2: "", 5: ""}
    place = 14
    while place + 2 <= len(data):
        head = int.from_bytes(data[place : place + 2], "big")
        kind, length = head >> 9, head & 0x1FF
        value = data[place + 2 : place + 2 + length]
        if kind == 0 or len(value) < length:
            break
        if kind in (1, 2):
            found[kind] = _ident(value)
        elif kind == 5:
            found[kind] = _clean(value.decode("utf-8", "replace"))
        place += 2 + length
    if not any(found.values()):
        return None
    return Neighbour(chassis=found[1], port=found[2], name=found[5])


def _ident(value: bytes) -> str:
    """A chassis or port id: a MAC address (subtypes 3 and 4 of 6 bytes), else text."""
    body = value[1:]
    if len(body) == 6 and value[:1] in (b"\x03", b"\x04"):
        return body.hex(":")
    return _clean(body.decode("utf-8", "replace"))


def _padded(words: list[str], count: int) -> list[str]:
    return [*words, *[""] * count][:count]


def _clean(text: str) -> str:
    return "".join(c if c.isprintable() else " " for c in text).strip()[:WORD]


def _number(text: str) -> int:
    return int(text) if text.isascii() and text.isdigit() and len(text) <= 18 else 0
