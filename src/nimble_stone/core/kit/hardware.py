"""The hardware of a VM, where the package itself states none."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from nimble_stone.core.models import Fixed


class ImageSize(Fixed):
    """A size that nodes may have."""

    id: str = Field(pattern=r"^[a-z][a-z0-9_-]{0,39}$")
    label: str = Field(default="", description="Empty: the id.")
    vcpu: int = Field(ge=1, le=1024)
    memory_mib: int = Field(ge=64, le=32 << 20)


class Hardware(Fixed):
    """What a VM gets whose package is an image, an installer or a kernel."""

    sizes: tuple[ImageSize, ...] = Field(
        min_length=1, max_length=40, description="Sizes, the default first."
    )
    bus: Literal["virtio", "scsi", "sata"] = Field(
        default="virtio", description="Bus of the system disk."
    )
    nic: Literal["virtio", "e1000e"] = Field(
        default="virtio", description="Kind of network interface."
    )
    firmware: Literal["bios", "efi"] = Field(default="bios", description="Firmware it starts by.")
    disk_gib: int = Field(
        default=0,
        ge=0,
        le=65_536,
        description="The system disk is at least so large; the system grows into it by itself.",
    )

    @model_validator(mode="after")
    def _sizes_differ(self) -> Hardware:
        idents = [size.id for size in self.sizes]
        if len(set(idents)) != len(idents):
            raise ValueError("two sizes have one id")
        return self
