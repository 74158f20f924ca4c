"""What a medium tells the system that boots from it: a small file of fixed size, so that a medium
is made once and only these bytes differ from machine to machine.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from nimble_stone.core.errors import FormatError

FILE = "nimble-stone.job"
SIZE = 4096
"""Bytes of the file, whatever it says."""
MARK = b"#nimble-stone-job 1\n"
ANY = "any"
"""Among the kinds that a disk may hold: whatever there is."""
EMPTY = MARK + b"kind=none\n"


@dataclass(frozen=True)
class DiskName:
    """A disk as it was seen: serial number and size must be so when it is wiped, and it must hold
    nothing but these kinds of things. Bytes.
    """

    serial: str
    size_bytes: int
    kinds: tuple[str, ...] = ()


@dataclass(frozen=True)
class ImageName:
    """An image to be written. `zero_bytes`: so much of the disk's beginning is zero where the image
    holds nothing; `sha256`: of the parts that hold data, one after the other; `address`: below it
    lie `map` and `data`, where the job's pin holds too.
    """

    zero_bytes: int
    sha256: str
    address: str


@dataclass(frozen=True)
class Job:
    """What to do. `report`: where the report goes, an HTTPS address that takes one; `pin`: the
    public key that must answer there, as curl's --pinnedpubkey has it; `disks`: those to be wiped;
    `image`: what is written to the one disk that is named.
    """

    kind: str
    machine: str
    report: str
    pin: str
    disks: tuple[DiskName, ...] = ()
    image: ImageName | None = None


def placeholder() -> bytes:
    """The file as it lies in a medium that is good for any machine."""
    return EMPTY.ljust(SIZE, b"\n")


def written(job: Job) -> bytes:
    """The file for one machine. Raises ValueError when it does not fit or holds a line break."""
    lines = (
        f"kind={job.kind}",
        f"machine={job.machine}",
        f"report={job.report}",
        f"pin={job.pin}",
        *(
            f"disk={disk.size_bytes} {','.join(sorted(set(disk.kinds))) or '-'} {disk.serial}"
            for disk in job.disks
        ),
        *(
            [f"image={job.image.zero_bytes} {job.image.sha256} {job.image.address}"]
            if job.image
            else []
        ),
    )
    if any(not line.isprintable() for line in lines):
        raise ValueError("a value of the job is not printable")
    data = MARK + "".join(f"{line}\n" for line in lines).encode()
    if len(data) > SIZE:
        raise ValueError(f"the job is longer than {SIZE} bytes")
    return data.ljust(SIZE, b"\n")


def read(data: bytes) -> Job:
    """The job of such a file. Raises FormatError."""
    if not data.startswith(MARK) or len(data) > SIZE:
        raise FormatError("this is no job of ours", code="job-format", place=FILE)
    text = data[len(MARK) :].decode("utf-8", "replace")
    values = dict(re.findall(r"^([a-z]+)=(.*)$", text, re.MULTILINE))
    named = re.findall(r"^disk=(\d{1,18}) (\S+) (.+)$", text, re.MULTILINE)
    image = re.search(r"^image=(\d{1,18}) ([0-9a-f]{64}) (\S+)$", text, re.MULTILINE)
    return Job(
        values.get("kind", ""),
        values.get("machine", ""),
        values.get("report", ""),
        values.get("pin", ""),
        tuple(
            DiskName(serial, int(size), tuple(kind for kind in kinds.split(",") if kind != "-"))
            for size, kinds, serial in named
        ),
        ImageName(int(image[1]), image[2], image[3]) if image else None,
    )
