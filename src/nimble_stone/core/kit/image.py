"""What a kit says of a disk image, which itself states no hardware."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from nimble_stone.core.errors import FormatError
from nimble_stone.core.installing import answers
from nimble_stone.core.models import Fixed

FIRST_LINE = "#cloud-config"


class ImageSize(Fixed):
    """A size that nodes may have."""

    id: str = Field(pattern=r"^[a-z][a-z0-9_-]{0,39}$")
    label: str = Field(default="", description="Empty: the id.")
    vcpu: int = Field(ge=1, le=1024)
    memory_mib: int = Field(ge=64, le=32 << 20)


class DiskImage(Fixed):
    """A disk image as a package: the VM's hardware, and what its first start is told by
    NoCloud.
    """

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
    user_data: str = Field(
        default="",
        max_length=answers.MAX_TEXT,
        description=(
            "User data for cloud-init, beginning with “#cloud-config”. `@{name}` stands for a"
            " column, `@{hashed.SETTING}` for the hash of a password; each inside double quotes."
        ),
    )
    console_keys: bool = Field(
        default=False,
        description=(
            "The system writes its SSH host keys to the serial console, as cloud-init does; they"
            " are read there before anyone logs in."
        ),
    )

    @model_validator(mode="after")
    def _can_be_filled(self) -> DiskImage:
        idents = [size.id for size in self.sizes]
        if len(set(idents)) != len(idents):
            raise ValueError("two sizes of the image have one id")
        if self.user_data:
            if self.user_data.splitlines()[0].rstrip() != FIRST_LINE:
                raise ValueError(f"user_data does not begin with “{FIRST_LINE}”")
            try:
                answers.check(self.user_data, "yaml")
            except FormatError as error:
                hint = f" {error.hint}" if error.hint else ""
                raise ValueError(f"user_data: {error}.{hint}") from error
        return self
