"""Further disks of nodes, and how data is stored on them."""

from __future__ import annotations

from typing import Literal

from pydantic import AliasChoices, Field

from nimble_stone.core.kit.part import Part
from nimble_stone.core.models import Ident


class Span(Part):
    """A number with limits and default."""

    least: int = Field(default=0, ge=0, le=65_536)
    most: int = Field(default=0, ge=0, le=65_536)
    usual: int = Field(default=0, ge=0, le=65_536)


class DiskUse(Part):
    """Size and number of a disk for one purpose of the product."""

    size_gib: Span
    count: Span = Span(least=1, most=1, usual=1)


class ExtraDisk(Part):
    """A disk in addition to the package's disks."""

    id: Ident
    label: str
    purpose: str = ""
    roles: tuple[Ident, ...] = Field(default=(), description="Roles with this disk; empty: all.")
    size_gib: Span = Field(description="Size of each disk in GiB.")
    count: Span = Field(default=Span(least=0, most=1, usual=1), description="Number of disks.")
    controller: Literal["virtio", "scsi", "sata"] = "virtio"
    datastore: Literal["same", "shared", "local", "any"] = Field(
        default="same", description="Preferred datastore; “same”: that of the node's other disks."
    )
    drives: str = Field(
        default="all",
        max_length=80,
        description="On machines: rule for the drives, such as “all” or “2 largest hdd”.",
    )
    by_use: dict[Ident, DiskUse] = Field(
        default={}, description="Other sizes and numbers for some purposes (`uses`)."
    )

    def limits(self, use: str) -> tuple[Span, Span]:
        """(size in GiB, how many) for a purpose."""
        own = self.by_use.get(use)
        return (own.size_gib, own.count) if own else (self.size_gib, self.count)


class RedundancyScheme(Part):
    """A way to store data: `pieces` data fragments and `spare` further ones (for copies: 1 piece),
    each on another host.
    """

    pieces: int = Field(default=1, ge=1, le=64)
    spare: int = Field(default=1, ge=0, le=9)
    answers: dict[Ident, str] = Field(
        min_length=1, description="Setting → value that selects this scheme."
    )


class DataLayout(Part):
    """How the product stores data on its data disks."""

    disks: tuple[Ident, ...] = Field(min_length=1, description="Extra disks for data.")
    schemes: tuple[RedundancyScheme, ...] = Field(
        min_length=1, max_length=12, validation_alias=AliasChoices("schemes", "ways")
    )
