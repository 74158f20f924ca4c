"""What a kit says of an installer ISO: its answer files, what it needs, and how it ends."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from nimble_stone.core.errors import FormatError
from nimble_stone.core.installing import answers
from nimble_stone.core.kit.hardware import Hardware
from nimble_stone.core.models import Fixed

REPORTS = ("report.done", "report.failed", "report.progress")
"""Addresses for one machine and one installation: it is done, it failed, how far it is."""
MEDIUM = ("medium.files", "medium.iso")
"""Addresses below which answer files are, and of the ISO."""
PATH = r"^(/[A-Za-z0-9][A-Za-z0-9._-]{0,60}){1,6}$"


class Answer(Fixed):
    """A file that the installer reads. One with the path of a file of the ISO takes its place, for
    example the boot menu with its kernel arguments.
    """

    path: str = Field(pattern=PATH, description="Path on the medium.")
    format: answers.Format = Field(
        description="How values are escaped: `xml`, `yaml`, `json`, `shell` or `lines` (as it is)."
    )
    text: str = Field(
        max_length=answers.MAX_TEXT,
        description="The file. `@{name}` stands for a column or for an address to report to.",
    )

    @model_validator(mode="after")
    def _takes_any_value(self) -> Answer:
        try:
            answers.check(self.text, self.format)
        except FormatError as error:
            hint = f" {error.hint}" if error.hint else ""
            raise ValueError(f"answer file {self.path}: {error}.{hint}") from error
        return self


class NetBoot(Fixed):
    """How the installer starts without a medium: files of its ISO, and the kernel's arguments."""

    kernel: str = Field(pattern=PATH, description="Path on the ISO.")
    initrd: tuple[str, ...] = Field(default=(), max_length=4, description="Paths on the ISO.")
    args: str = Field(
        default="",
        max_length=2000,
        pattern=r"^[^\n\r]*$",
        description=(
            "Kernel arguments. `@{medium.files}` is an address below which the answer files are,"
            " `@{medium.iso}` that of the ISO."
        ),
    )


class Installer(Fixed):
    """An unattended installer: the package is its ISO."""

    answers: tuple[Answer, ...] = Field(min_length=1, max_length=8)
    label: str = Field(
        default="",
        pattern=r"^[A-Z0-9_]{0,32}$",
        description=(
            "Volume label by which the installer finds answer files on a second medium; empty: they"
            " are put into a copy of the ISO."
        ),
    )
    netboot: NetBoot | None = Field(
        default=None, description="For machines that boot from the network."
    )
    vm: Hardware | None = Field(
        default=None,
        description=(
            "Hardware of its VMs, for a role whose nodes live on hosts: the installer runs in each,"
            " on a blank disk of `disk_gib`."
        ),
    )
    ends: Literal["report", "off"] = Field(
        default="report",
        description=(
            "How it tells that it is done: a request to `@{report.done}`, or it switches the"
            " machine off."
        ),
    )
    drive_gib: int = Field(default=1, ge=1, le=65_536, description="Least size of the drive.")
    memory_gib: int = Field(default=0, ge=0, le=65_536, description="Least memory.")
    threads: int = Field(default=0, ge=0, le=4_096, description="Least number of threads.")
    expected: float = Field(default=600.0, gt=0, description="Seconds it usually takes.")
    longest: float = Field(default=7200.0, gt=0, description="Seconds after which it has failed.")

    @model_validator(mode="after")
    def _can_end(self) -> Installer:
        paths = [one.path.lower() for one in self.answers]
        if len(set(paths)) != len(paths):
            raise ValueError("two answer files have one path")
        asked = {name for one in self.answers for name in answers.names(one.text)}
        if self.vm is not None and self.vm.disk_gib < 1:
            raise ValueError("its VMs have no disk; say `disk_gib`")
        if self.ends == "report" and "report.done" not in asked:
            raise ValueError(
                "no answer file has “@{report.done}”, so nothing tells when the installation is"
                " done; name it, or say “ends: off”"
            )
        return self
