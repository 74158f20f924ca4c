"""The disk image of the demonstration: Shoal, a plain server that sets itself up by NoCloud.
Stand-ins have no processor, so it holds a partition table, a label and content to be copied.
"""

from __future__ import annotations

import random
import struct

from nimble_stone.lab.guests.label import labelled

NAME, VERSION = "shoal", "12.1"
FILE = f"{NAME}-{VERSION}.img"
SECTORS_PER_MIB = 2048


def image(*, mib: int = 8) -> bytes:
    """A raw disk of so many MiB, half of it written."""
    unset = b"\xfe\xff\xff"
    last = (mib - 1) * SECTORS_PER_MIB
    entry = struct.pack("<B3sB3sII", 0x80, unset, 0x83, unset, SECTORS_PER_MIB, last)
    head = (b"\xf4" + bytes(445) + entry + bytes(48) + b"\x55\xaa").ljust(1 << 16, b"\0")
    content = random.Random(NAME).randbytes((mib << 19) - len(head))
    return (labelled(head, NAME, VERSION) + content).ljust(mib << 20, b"\0")
