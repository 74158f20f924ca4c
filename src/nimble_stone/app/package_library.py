"""Imported packages: found, who uses them, licences, trusted publishers."""

from __future__ import annotations

import asyncio
import datetime
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from nimble_stone.app import licences
from nimble_stone.app.application import Application
from nimble_stone.app.texts import parse_plan
from nimble_stone.core.errors import Conflict, FormatError, InputError, NotFound
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.package import signature
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.plan.packages import formats_of, takes
from nimble_stone.packages import stored
from nimble_stone.packages.intake import Intake
from nimble_stone.packages.trust import trusted_certificates
from nimble_stone.store import library, records, runs
from nimble_stone.store.library import Accepted, Trusted
from nimble_stone.store.records import PackageRow

Users = Mapping[str, list[str]]
"""How plans name their packages → ids of these plans."""


@dataclass(frozen=True)
class AcceptedLicence:
    """Who accepted a licence text, when (epoch seconds), and for which plan ('': for all)."""

    by: str
    at: float
    plan: str


async def package_of(app: Application, wanted: str) -> PackageRow:
    """The package by its digest's first digits or “Product version”. Raises NotFound."""
    row = await app.store.read(records.find_package, wanted)
    if row is None:
        raise NotFound("no such package", hint="`nimble-stone package list` shows those there are.")
    return row


def kits_for(row: PackageRow, kits: Iterable[Kit]) -> list[Kit]:
    """Kits that support the package, for all their roles or for some."""
    return [
        kit
        for kit in kits
        if any(
            takes(accepts, row.product, row.version) and row.kind in formats_of(kit, role)
            for role, accepts in (
                ("", kit.accepts),
                *((role.id, role.accepts) for role in kit.roles if role.accepts),
            )
        )
    ]


async def users(app: Application) -> Users:
    """Which plans name which packages. Cost: O(plans), their texts are parsed."""
    found: dict[str, list[str]] = {}
    for plan in await app.store.read(records.plans):
        try:
            parsed = await parse_plan(plan.text)
        except (FormatError, InputError):
            continue
        named = {parsed.package, *(block.package for block in parsed.roles.values())}
        for wanted in named - {""}:
            found.setdefault(wanted, []).append(plan.id)
    return found


async def rename(app: Application, row: PackageRow, product: str, version: str) -> None:
    """Name a package that has no descriptor; '' leaves a part as it is. Raises Conflict while plans
    name it, InputError for one that says itself what it is.
    """
    named = (product or row.product, version or row.version)
    if named == (row.product, row.version):
        return
    if stored.contents_of(row).envelope is not None:
        raise InputError("the package's descriptor says product and version", code="package-named")
    if plans := plans_using(row, await users(app)):
        raise Conflict(
            f"plan {plans[0]} names {row.product} {row.version}",
            code="package-in-use",
            hint="Choose another package there first.",
        )
    await app.store.write(records.rename_package, row.sha256, *named)


def plans_using(row: PackageRow, users: Users) -> list[str]:
    """Ids of plans that name the package, in order."""
    title = f"{row.product} {row.version}"
    return sorted(
        plan
        for wanted, ids in users.items()
        for plan in ids
        if wanted == title or (len(wanted) >= 12 and row.sha256.startswith(wanted))
    )


async def deployed_nodes(app: Application) -> dict[str, int]:
    """Digest of a package → number of nodes that runs made from it."""
    nodes: dict[str, int] = {}
    for run in await app.store.read(runs.runs):
        if run.state == "undone":
            continue
        own = run.own_packages
        for ident in run.doc["plan"].get("nodes", {}):
            made_from = own.get(ident.rpartition("-")[0], run.package)
            nodes[made_from] = nodes.get(made_from, 0) + 1
    return nodes


def licence_of(contents: Contents) -> str:
    """The licence text of a package, of all its systems; '' when it has none."""
    return licences.joined(contents.envelope.licences) if contents.envelope else ""


async def accepted_licences(app: Application, text: str) -> list[AcceptedLicence]:
    """Who accepted a licence text: for all plans first, then for single ones."""
    text_sha256 = licences.sha256_of(text)
    found = [
        AcceptedLicence(one.by, one.at, "")
        for one in await app.store.read(library.accepted, text_sha256)
    ]
    if not text_sha256:
        return found
    for row in await app.store.read(records.plans):
        try:
            licence = (await parse_plan(row.text)).licence
        except (FormatError, InputError):
            continue
        if licence and licence.text == text_sha256:
            found.append(AcceptedLicence(licence.by, _epoch(licence.at), row.id))
    return found


def _epoch(text: str) -> float:
    try:
        return datetime.datetime.fromisoformat(text).timestamp()
    except ValueError:
        return 0.0


async def accept_licence(app: Application, row: PackageRow, by: str) -> None:
    """Accept a package's licence text in a person's name. Raises Conflict when it has none."""
    text_sha256 = licences.sha256_of(licence_of(stored.contents_of(row)))
    if not text_sha256:
        raise Conflict("the package has no licence text to accept", code="no-licence")
    await app.store.write(
        library.put_accepted, Accepted(text_sha256, by.strip(), app.clock(), row.sha256)
    )


async def remove(app: Application, intake: Intake, wanted: str) -> None:
    """Remove a package. Raises Conflict while a plan, a datastore or a run needs it."""
    row = await package_of(app, wanted)
    if needing := plans_using(row, await users(app)):
        raise Conflict(
            f"the package is used by {', '.join(needing[:5])}",
            code="package-in-use",
            hint="Choose another package in those plans first.",
        )
    if await app.store.read(library.copies, row.sha256):
        raise Conflict(
            "datastores still have cached images of the package",
            code="package-in-use",
            hint="Delete them first, on the package's page.",
        )
    await intake.remove(row.sha256)


async def signature_of(app: Application, contents: Contents) -> signature.Signature:
    """A package's signature by the trust list of today; what was known at import where its files
    cannot be read.
    """
    trust = await trusted_certificates(app)
    try:
        return await asyncio.to_thread(
            stored.signature_now, app.packages, contents, trust, app.clock()
        )
    except FormatError:
        return signature.Signature(contents.integrity.signature, contents.integrity.signer)


async def trust(app: Application, pem: str) -> None:
    """Trust the certificates of a PEM text. Raises FormatError."""
    for certificate in signature.read_certificates(pem.encode()):
        await app.store.write(
            library.put_trusted,
            Trusted(
                signature.fingerprint(certificate),
                signature.name_of(certificate.subject),
                certificate.not_valid_after_utc.timestamp(),
                signature.pem(certificate),
                app.clock(),
            ),
        )
    await _judge_signatures_again(app)


async def distrust(app: Application, fingerprint: str) -> None:
    """Stop trusting a certificate."""
    await app.store.write(library.drop_trusted, fingerprint)
    await _judge_signatures_again(app)


async def _judge_signatures_again(app: Application) -> None:
    """Which packages count as trusted follows the trust list: new plans choose by it."""
    trust = await trusted_certificates(app)
    for row in await app.store.read(records.packages):
        contents = stored.contents_of(row)
        if contents.integrity.signature == "absent":
            continue
        try:
            signed = await asyncio.to_thread(
                stored.signature_now, app.packages, contents, trust, app.clock()
            )
        except (FormatError, OSError):
            # its files cannot be read: what was known stays
            continue
        if signed.state != contents.integrity.signature:
            integrity = replace(contents.integrity, signature=signed.state, signer=signed.signer)
            await app.store.write(
                records.renew_package,
                row.sha256,
                stored.dump(replace(contents, integrity=integrity)),
            )
