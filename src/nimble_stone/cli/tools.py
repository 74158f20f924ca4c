"""Commands that need no server: looking into packages and disks, and converting disks."""

from __future__ import annotations

import json
import os
import sys
import time
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any, Literal

import typer

from nimble_stone.core.disk.image import CLUSTER
from nimble_stone.core.disk.opening import open_image
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.package import compare, inspect, signature
from nimble_stone.core.package.contents import Contents, examine
from nimble_stone.core.units import size_text, time_text
from nimble_stone.engine import disk_file
from nimble_stone.engine.files import opened

disk_app = typer.Typer(help="Disk images: look inside, convert. Works without a server.", no_args_is_help=True)
Json = Annotated[bool, typer.Option("--json", help="Answer as JSON on standard output.")]


def inspect_file(path: Path, language: str, trust: list[Path], as_json: bool) -> int:
    """Print what a package file holds; the exit code: 0 without blockers, 1 with. Raises FormatError when it is no package."""
    anchors = [certificate for file in trust for certificate in signature.read_certificates(_bytes(file))]
    teller = Progress("verifying")
    with opened(path) as given:
        teller.total = sum(g.source.size_bytes for g in given)
        contents = examine(given, language=language, trust=anchors, now=time.time(), tell=teller.add)
    teller.end()
    found = inspect.answer(contents)
    if as_json:
        typer.echo(json.dumps(found, indent=2))
    else:
        for line in lines(contents, found):
            typer.echo(line)
    return 1 if contents.blockers else 0


def compare_files(old: Path, new: Path) -> list[dict[str, str]]:
    """What changed between two package files. Raises FormatError."""
    with opened(old) as before, opened(new) as after:
        return [asdict(change) for change in compare.compare(examine(before), examine(after))]


def lines(contents: Contents, found: dict[str, Any]) -> list[str]:
    """The answer for people."""
    out = []
    trust = {"absent": "not signed", "verified": "signed by a publisher on the trust list", "untrusted": "signed, but nobody on the trust list vouches for it",
             "failed": "THE SIGNATURE DOES NOT HOLD"}[found["integrity"]["signature"]]
    whole = {"absent": "no manifest", "verified": "every listed digest holds", "failed": "THE MANIFEST DOES NOT HOLD"}[found["integrity"]["manifest"]]
    for system in found["systems"] or [{}]:
        title = " ".join(x for x in (system.get("product") or system.get("name") or contents.members[0].name if contents.members else "",
                                     system.get("version")) if x)
        vendor = f" by {system['vendor']}" if system.get("vendor") else ""
        out.append(f"{title}{vendor} ({found['format']})")
        if system.get("vcpu") or system.get("memory_bytes"):
            out.append(f"  {system['vcpu'] or '?'} vCPU, {size_text(system['memory_bytes'] or 0)} memory, {len(system['disks'])} disks,"
                       f" {len(system['nics'])} interfaces")
    out.append(f"  {whole}; {trust}")
    if contents.iso:
        boots = " and ".join(name for name, yes in (("BIOS", contents.iso.boots_bios), ("UEFI", contents.iso.boots_uefi)) if yes)
        out.append(f"  volume “{contents.iso.label}”, {size_text(contents.size)}, starts by {boots or 'nothing'}")
    if contents.kernel:
        out.append(f"  kernel {contents.kernel}")
    out += [f"  size {s['id']}{' (default)' if s['default'] else ''}: {s['vcpu']} vCPU, {size_text(s['memory_bytes'] or 0)}  {s['description'] or ''}".rstrip()
            for s in found["sizes"]]
    out += [f"  disk {d['id']}: {size_text(d['capacity_bytes']) if d['capacity_bytes'] else 'of unknown size'}" for d in found["disks"]]
    out += [f"  network {n['name']}: {n['description'] or ''}".rstrip(": ") for n in found["networks"]]
    out += [f"  asks {p['key']} ({p['type']}{', secret' if p['password'] else ''})" for p in found["properties"] if p["user_configurable"]]
    out += [f"  licence to accept: {len(licence['text'].split())} words" for licence in found["licences"]]
    out += [f"{f['severity']:8} {f['code']}: {f['message']}" + (f" [{f['where']}]" if f["where"] else "") + (f" ({f['clause']})" if f["clause"] else "")
            for f in found["findings"]]
    return out


@disk_app.command("info")
def disk_info(source: Path, as_json: Json = False) -> None:
    """What a disk image is: format, size as a guest sees it, how much of it holds data."""
    with opened(source) as given:
        image = open_image(given[0].source, {g.name: g.source for g in given})
        found = {"format": image.kind, "capacity_bytes": image.capacity_bytes, "data_bytes": min(image.capacity_bytes, len(image.clusters) * CLUSTER),
                 "file_bytes": sum(g.source.size_bytes for g in given), "unit_bytes": image.unit_bytes, "packed": image.packed,
                 "parent": bool(getattr(image, "has_parent", False)), "notes": list(image.notes)}
    if as_json:
        typer.echo(json.dumps(found, indent=2))
        return
    typer.echo(f"{found['format']}: {size_text(image.capacity_bytes)} as a guest sees it, at most {size_text(int(str(found['data_bytes'])))} of it data,"
               f" {size_text(int(str(found['file_bytes'])))} on disk{', packed' if image.packed else ''}")
    for note in image.notes:
        typer.echo(f"note: {note}")


@disk_app.command("convert")
def disk_convert(source: Path, target: Path, to: Annotated[Literal["raw", "qcow2"], typer.Option(help="The format to write.")], as_json: Json = False) -> None:
    """Convert a disk image (VMDK of any kind, qcow2, raw) to raw or qcow2; holes stay holes. TARGET must not exist yet."""
    teller = Progress("converting")
    with opened(source) as given:
        image = open_image(given[0].source, {g.name: g.source for g in given})
        if getattr(image, "has_parent", False):
            raise InputError("the disk holds only what differs from a parent, which did not come with it", code="disk-backing")
        try:
            descriptor = os.open(target, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o644)
        except FileExistsError as error:
            raise Conflict(f"{target} exists already and is left alone", hint="Name another target, or remove it yourself.") from error
        except OSError as error:
            raise InputError(f"{target} cannot be written: {error.strerror}") from error
        teller.total = len(image.clusters) * CLUSTER
        try:
            size = disk_file.into_file(image, descriptor, to, lambda done: teller.at(done * CLUSTER))
        except BaseException as error:
            target.unlink(missing_ok=True)                     # half a disk is worse than none
            if isinstance(error, OSError):
                raise InputError(f"{target} cannot be written: {error.strerror}", hint="Nothing of it was kept.") from error
            raise
        finally:
            os.close(descriptor)
    teller.end()
    if as_json:
        typer.echo(json.dumps({"target": str(target), "format": to, "capacity_bytes": image.capacity_bytes, "file_bytes": size}))
    else:
        typer.echo(f"{target}: {to}, {size_text(image.capacity_bytes)} as a guest sees it")


def _bytes(file: Path) -> bytes:
    try:
        return file.read_bytes()
    except OSError as error:
        raise NotFound(f"{file} cannot be read: {error.strerror}") from error


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
            sys.stderr.write(f"\r{self.word} {100 * done // max(1, self.total)} %, {size_text(int(rate))}/s, {left} left   ")

    def end(self) -> None:
        """Clear the line."""
        if self.shown and self.said:
            sys.stderr.write("\r\033[K")
