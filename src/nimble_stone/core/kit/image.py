"""What a kit says of a disk image, which itself states no hardware."""

from __future__ import annotations

from pydantic import Field, model_validator

from nimble_stone.core.errors import FormatError
from nimble_stone.core.installing import answers
from nimble_stone.core.kit.hardware import Hardware

FIRST_LINE = "#cloud-config"


class DiskImage(Hardware):
    """A disk image, or a kernel set, as a package: the VM's hardware, and what its first start is
    told by NoCloud.
    """

    user_data: str = Field(
        default="",
        max_length=answers.MAX_TEXT,
        description=(
            "User data for cloud-init, beginning with “#cloud-config”. `@{name}` stands for a"
            " column, `@{hashed.SETTING}` for the hash of a password; each inside double quotes."
        ),
    )
    args: str = Field(
        default="",
        max_length=2000,
        pattern=r"^[^\n\r]*$",
        description=(
            "The package is a kernel with its ramdisk, and perhaps a disk: the kernel's command"
            " line. `@{name}` stands for a column. The hypervisor starts it, without a boot loader."
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
        try:
            answers.check(self.args, "lines")
        except FormatError as error:
            raise ValueError(f"args: {error}") from error
        if self.user_data:
            if self.user_data.splitlines()[0].rstrip() != FIRST_LINE:
                raise ValueError(f"user_data does not begin with “{FIRST_LINE}”")
            try:
                answers.check(self.user_data, "yaml")
            except FormatError as error:
                hint = f" {error.hint}" if error.hint else ""
                raise ValueError(f"user_data: {error}.{hint}") from error
        return self
