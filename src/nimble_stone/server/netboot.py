"""What iPXE is told: which kernel and ramdisk a machine boots, and by which arguments."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pycdlib
from pycdlib.pycdlibexception import PyCdlibException

from nimble_stone.core.errors import NotFound

SECTOR = 2048
INSPECTION = "console=tty0 console=ttyS0,115200 quiet loglevel=3 panic=10 rdinit=/init"
NOTHING = "#!ipxe\nexit\n"
"""For a machine that is not to boot from here: its firmware goes on to the next device."""


@dataclass(frozen=True)
class Part:
    """A file that lies inside an ISO. Bytes."""

    iso: Path
    start: int
    size: int


def part(iso: Path, path: str) -> Part:
    """A file of an ISO, by its path. Raises NotFound."""
    image: Any = pycdlib.PyCdlib()
    try:
        image.open(str(iso))
        kind = "rr_path" if image.has_rock_ridge() else "iso_path"
        if kind == "iso_path" and image.has_joliet():
            kind = "joliet_path"
        record = image.get_record(**{kind: path})
        return Part(iso, record.extent_location() * SECTOR, record.get_data_length())
    except (PyCdlibException, OSError) as error:
        raise NotFound(f"the ISO has no {path}") from error
    finally:
        if image._initialized:
            image.close()


def script(kernel: str, initrds: list[str], args: str) -> str:
    """An iPXE script. Each ramdisk is named, as EFI kernels ask for them by name."""
    out = io.StringIO()
    names = [f"initrd{number}" for number in range(len(initrds))]
    more = " ".join(f"initrd={name}" for name in names)
    out.write(f"#!ipxe\nkernel {kernel} {more} {args}\n")
    for name, address in zip(names, initrds, strict=True):
        out.write(f"initrd --name {name} {address}\n")
    out.write("boot\n")
    return out.getvalue()
