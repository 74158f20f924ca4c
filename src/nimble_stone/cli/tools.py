"""Looking into packages without a server."""

from __future__ import annotations

import json
import time
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from nimble_stone.cli.disks import Progress
from nimble_stone.core.errors import NotFound
from nimble_stone.core.package import inspect
from nimble_stone.core.package.contents import Contents, examine
from nimble_stone.core.units import size_text
from nimble_stone.packages.files import opened

if TYPE_CHECKING:
    from cryptography.x509 import Certificate


def inspect_file(path: Path, language: str, trust: list[Path], as_json: bool) -> int:
    """Print what a package file holds; the exit code: 0 without blockers, 1 with. Raises
    FormatError when it is no package.
    """
    anchors = _anchors(trust)
    teller = Progress("verifying")
    with opened(path) as given:
        teller.total = sum(g.source.size_bytes for g in given)
        contents = examine(
            given, language=language, trust=anchors, now=time.time(), tell=teller.add
        )
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
    from nimble_stone.core.package import compare

    with opened(old) as before, opened(new) as after:
        return [asdict(change) for change in compare.compare(examine(before), examine(after))]


def lines(contents: Contents, found: dict[str, Any]) -> list[str]:
    """The answer for people."""
    out = []
    trust = {
        "absent": "not signed",
        "verified": "signed by a publisher on the trust list",
        "untrusted": "signed, publisher not trusted",
        "failed": "THE SIGNATURE DOES NOT HOLD",
    }[found["integrity"]["signature"]]
    whole = {
        "absent": "no manifest",
        "verified": "every listed digest matches",
        "failed": "THE MANIFEST DOES NOT HOLD",
    }[found["integrity"]["manifest"]]
    for system in found["systems"] or [{}]:
        title = " ".join(
            x
            for x in (
                (
                    system.get("product") or system.get("name") or contents.members[0].name
                    if contents.members
                    else ""
                ),
                system.get("version"),
            )
            if x
        )
        vendor = f" by {system['vendor']}" if system.get("vendor") else ""
        out.append(f"{title}{vendor} ({found['format']})")
        if system.get("vcpu") or system.get("memory_bytes"):
            out.append(
                f"  {system['vcpu'] or '?'} vCPU, {size_text(system['memory_bytes'] or 0)} memory,"
                f" {len(system['disks'])} disks, {len(system['nics'])} interfaces"
            )
    out.append(f"  {whole}; {trust}")
    if contents.iso:
        boots = " and ".join(
            name
            for name, yes in (("BIOS", contents.iso.boots_bios), ("UEFI", contents.iso.boots_uefi))
            if yes
        )
        out.append(
            f"  volume “{contents.iso.label}”, {size_text(contents.size)}, starts by"
            f" {boots or 'nothing'}"
        )
    if contents.kernel:
        out.append(f"  kernel {contents.kernel}")
    out += [
        f"  size {s['id']}{' (default)' if s['default'] else ''}: {s['vcpu']} vCPU,"
        f" {size_text(s['memory_bytes'] or 0)}  {s['description'] or ''}".rstrip()
        for s in found["sizes"]
    ]
    out += [
        f"  disk {d['id']}:"
        f" {size_text(d['capacity_bytes']) if d['capacity_bytes'] else 'of unknown size'}"
        for d in found["disks"]
    ]
    out += [
        f"  network {n['name']}: {n['description'] or ''}".rstrip(": ") for n in found["networks"]
    ]
    out += [
        f"  asks {p['key']} ({p['type']}{', secret' if p['password'] else ''})"
        for p in found["properties"]
        if p["user_configurable"]
    ]
    out += [
        f"  licence to accept: {len(licence['text'].split())} words"
        for licence in found["licences"]
    ]
    out += [
        f"{f['severity']:8} {f['code']}: {f['message']}"
        + (f" [{f['where']}]" if f["where"] else "")
        + (f" ({f['clause']})" if f["clause"] else "")
        for f in found["findings"]
    ]
    return out


def _anchors(trust: list[Path]) -> list[Certificate]:
    """The publishers' certificates in PEM files. Raises NotFound, FormatError."""
    if not trust:
        return []
    from nimble_stone.core.package import signature

    return [
        certificate for file in trust for certificate in signature.read_certificates(_bytes(file))
    ]


def _bytes(file: Path) -> bytes:
    try:
        return file.read_bytes()
    except OSError as error:
        raise NotFound(f"{file} cannot be read: {error.strerror}") from error
