"""Disk images: look inside, convert. What they need is loaded when they run: every other command
starts without it.
"""

from __future__ import annotations

import json
import os
import sys
import time
from pathlib import Path
from typing import Annotated, Literal

import typer

from nimble_stone.core.errors import Conflict, InputError
from nimble_stone.core.units import size_text, time_text

app = typer.Typer(
    help="Disk images: look inside, convert. Works without a server.", no_args_is_help=True
)
Raw = Annotated[bool, typer.Option("--raw", help="Accept unknown content as a raw disk.")]
Json = Annotated[bool, typer.Option("--json", help="Answer as JSON on standard output.")]


@app.command("info")
def disk_info(source: Path, raw: Raw = False, as_json: Json = False) -> None:
    """Details of a disk image: format, size as a VM sees it, bytes of data."""
    from nimble_stone.core.disk.image import CLUSTER
    from nimble_stone.core.disk.opening import open_image
    from nimble_stone.packages.files import opened

    with opened(source) as given:
        image = open_image(given[0].source, {g.name: g.source for g in given}, raw=raw)
        found = {
            "format": image.kind,
            "capacity_bytes": image.capacity_bytes,
            "data_bytes": min(image.capacity_bytes, len(image.clusters) * CLUSTER),
            "file_bytes": sum(g.source.size_bytes for g in given),
            "unit_bytes": image.unit_bytes,
            "packed": image.packed,
            "parent": bool(getattr(image, "has_parent", False)),
            "notes": list(image.notes),
        }
    if as_json:
        typer.echo(json.dumps(found, indent=2))
        return
    typer.echo(
        f"{found['format']}: {size_text(image.capacity_bytes)} as a VM sees it, at most"
        f" {size_text(int(str(found['data_bytes'])))} used,"
        f" {size_text(int(str(found['file_bytes'])))} on disk{', packed' if image.packed else ''}"
    )
    for note in image.notes:
        typer.echo(f"note: {note}")


@app.command("convert")
def disk_convert(
    source: Path,
    target: Path,
    to: Annotated[Literal["raw", "qcow2"], typer.Option(help="The format to write.")],
    raw: Raw = False,
    as_json: Json = False,
) -> None:
    """Convert a disk image (any VMDK, qcow2 or raw) to raw or qcow2; holes stay holes. TARGET must
    not exist.
    """
    from nimble_stone.core.disk.image import CLUSTER
    from nimble_stone.core.disk.opening import open_image
    from nimble_stone.packages import disk_file
    from nimble_stone.packages.files import opened

    teller = Progress("converting")
    with opened(source) as given:
        image = open_image(given[0].source, {g.name: g.source for g in given}, raw=raw)
        if getattr(image, "has_parent", False):
            raise InputError(
                "the disk holds only what differs from a parent, which is missing",
                code="disk-backing",
            )
        try:
            descriptor = os.open(target, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o644)
        except FileExistsError as error:
            raise Conflict(
                f"{target} exists already and is left alone",
                hint="Name another target, or remove it yourself.",
            ) from error
        except OSError as error:
            raise InputError(f"{target} cannot be written: {error.strerror}") from error
        teller.total = len(image.clusters) * CLUSTER
        try:
            size = disk_file.into_file(
                image, descriptor, to, lambda done: teller.at(done * CLUSTER)
            )
        except BaseException as error:
            target.unlink(missing_ok=True)  # half a disk is worse than none
            if isinstance(error, OSError):
                raise InputError(
                    f"{target} cannot be written: {error.strerror}", hint="Nothing was saved."
                ) from error
            raise
        finally:
            os.close(descriptor)
    teller.end()
    if as_json:
        typer.echo(
            json.dumps(
                {
                    "target": str(target),
                    "format": to,
                    "capacity_bytes": image.capacity_bytes,
                    "file_bytes": size,
                }
            )
        )
    else:
        typer.echo(f"{target}: {to}, {size_text(image.capacity_bytes)} as a VM sees it")


class Progress:
    """Progress, rate and remaining time on a terminal's standard error; silent elsewhere."""

    def __init__(self, word: str) -> None:
        self.word, self.total, self.done, self.began, self.said = word, 0, 0, time.monotonic(), 0.0
        self.shown = sys.stderr.isatty()

    def add(self, count: int) -> None:
        """So many bytes more."""
        self.at(self.done + count)

    def at(self, done: int) -> None:
        """So many bytes in all."""
        self.done = done
        now = time.monotonic()
        if self.shown and now - self.said > 0.2:
            self.said = now
            rate = done / max(0.05, now - self.began)
            left = time_text(max(0, self.total - done) / max(1, rate))
            sys.stderr.write(
                f"\r{self.word} {100 * done // max(1, self.total)} %, {size_text(int(rate))}/s,"
                f" {left} left   "
            )

    def end(self) -> None:
        """Clear the line."""
        if self.shown and self.said:
            sys.stderr.write("\r\033[K")
