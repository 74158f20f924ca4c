"""A package of two virtual systems, made of the Gauge Collector: a keeper that starts first, and a
shelf that starts when the keeper answers; and a kit that says which roles they are.
"""

from __future__ import annotations

import re
from importlib.resources import files

from nimble_stone.lab.scenario import appliance

PRODUCT = "Gauge Set"
_SYSTEM = re.compile(r"<VirtualSystem .*</VirtualSystem>", re.DOTALL)
START = (
    "<StartupSection><Info>Order</Info>"
    '<Item ovf:id="keeper" ovf:order="1" {first}/><Item ovf:id="shelf" ovf:order="2"/>'
    "</StartupSection>"
)


def descriptor(
    capacity: int, disk_size: int, *, scale: int = 1, first: str = 'ovf:waitingForGuest="true"'
) -> str:
    """The descriptor. `first`: attributes of the keeper in the order of starting."""
    one = appliance.descriptor(capacity, disk_size, scale=scale)
    found = _SYSTEM.search(one)
    assert found is not None
    system = found[0].replace("<Product>Gauge Collector<", f"<Product>{PRODUCT}<")
    both = ""
    for name in ("keeper", "shelf"):
        own = system.replace('ovf:id="gauge-collector"', f'ovf:id="{name}"')
        both += own.replace("ovf:/disk/disk1", f"ovf:/disk/{name}")
    text = one.replace(
        found[0],
        '<VirtualSystemCollection ovf:id="set"><Info>Set</Info><Name>Gauge Set</Name>'
        f"{START.format(first=first)}{both}</VirtualSystemCollection>",
    )
    disk = re.search(r"<Disk .*?/>", text, re.DOTALL)
    assert disk is not None
    each = "".join(disk[0].replace('"disk1"', f'"{name}"') for name in ("keeper", "shelf"))
    return text.replace(disk[0], each)


def ova(capacity: int, disk: bytes, *, scale: int = 1, **more: str) -> bytes:
    """The package, with the same disk for both systems."""
    text = descriptor(capacity, len(disk), scale=scale, **more)
    return appliance.pack(
        "gauge-set",
        {"gauge-set.ovf": text.encode(), "gauge-collector-disk1.vmdk": disk},
    )


def small(**more: str) -> bytes:
    """A package for stand-ins."""
    capacity = 1 << 30
    return ova(capacity, appliance.vmdk(capacity, {0: b"gauge set".ljust(512, b"\0")}), **more)


def kit() -> str:
    """The kit file."""
    text = (files("nimble_stone.kits") / "gauge-collector.yaml").read_text()
    text = text.replace("id: gauge-collector", "id: gauge-set")
    text = text.replace("title: Gauge Collector", f"title: {PRODUCT}")
    text = text.replace("product: Gauge Collector", f"product: {PRODUCT}")
    # the package alone says what starts first
    text = text.replace("    after: [lead]\n", "")
    text = text.replace("    label: lead\n", "    label: lead\n    system: keeper\n")
    text = text.replace("    label: archive\n", "    label: archive\n    system: shelf\n")
    return text.replace("    label: relay\n", "    label: relay\n    system: shelf\n")
