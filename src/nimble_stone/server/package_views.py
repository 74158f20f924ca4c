"""What the package pages show."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import asdict

from pydantic import BaseModel, Field

from nimble_stone.app.licences import sha256_of
from nimble_stone.app.package_library import AcceptedLicence, licence_of
from nimble_stone.core.errors import FormatError
from nimble_stone.core.installing import answers as installing
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.package import adapt, compare, descriptor
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.package.model import Collection, Question
from nimble_stone.core.package.signature import Signature
from nimble_stone.packages import stored
from nimble_stone.store.library import Copy
from nimble_stone.store.records import PackageRow

COLUMNS = {"dns": "DNS", "ntp": "NTP"}


class PackageItem(BaseModel):
    """A package in the list."""

    sha256: str
    kind: str
    product: str
    version: str
    vendor: str
    file_name: str
    size: int
    added_at: float
    channel: str
    note: str
    thin_bytes: int
    full_bytes: int
    manifest: str
    signature: str
    cautions: int
    plans: list[str]
    kits: list[str]
    lacks: str = Field(default="", description="What it needs, where no kit fits it.")
    unusable: str = Field(
        default="", description="Why no plan can roll it out; empty when one can."
    )


class PackageSize(BaseModel):
    """A size on offer. Bytes."""

    id: str
    label: str
    description: str
    default: bool
    vcpu: int
    memory_bytes: int
    carries: str


class PackageQuestion(BaseModel):
    """A question the package asks, and where a plan answers it."""

    key: str
    label: str
    description: str
    category: str
    type: str
    default: str
    given: bool
    secret: bool
    asked: bool
    rule: str
    answered: str


class PackageFile(BaseModel):
    """A file of the package."""

    name: str
    size: int
    sha256: str
    state: str


class PackageDisk(BaseModel):
    """A disk. Bytes; capacity 0 when it is not known."""

    id: str
    file: str
    capacity_bytes: int
    note: str


class PackageNic(BaseModel):
    """A network interface of the guest."""

    name: str
    network: str
    description: str
    was: str
    becomes: str


class PackageFinding(BaseModel):
    """Something noticed."""

    severity: str
    code: str
    message: str
    where: str
    clause: str


class DifferenceView(BaseModel):
    """A device as described, and as the guest gets it."""

    outcome: str
    device: str
    was: str
    becomes: str
    why: str
    weight: str


class SignerView(BaseModel):
    """Who signed. Epoch seconds."""

    subject: str
    issuer: str
    not_before: float
    not_after: float
    fingerprint: str
    chain: list[str]


class AcceptedView(BaseModel):
    """Who accepted the licence text, when, and for which plan ('' for all)."""

    by: str
    at: float
    plan: str = ""


class CopyView(BaseModel):
    """A copy on a datastore."""

    place: str
    name: str
    datastore: str
    host: str
    size: int
    used_at: float
    used_by: list[str]


class VersionView(BaseModel):
    """Another version of the same product."""

    sha256: str
    version: str
    channel: str
    added_at: float
    plans: list[str]
    nodes: int
    current: bool


class SystemView(BaseModel):
    """A virtual system of the package."""

    id: str
    name: str
    os: str
    vcpu: int
    memory_bytes: int
    disks: int
    nics: int
    starts: str


class AnswerView(BaseModel):
    """An answer file that a kit gives an installer. `asks`: what is filled in."""

    kit: str
    path: str
    format: str
    label: str
    asks: list[str]


class ImageView(BaseModel):
    """The hardware that a kit gives a disk image, and what its first start is told."""

    kit: str
    role: str
    sizes: list[PackageSize]
    bus: str
    nic: str
    firmware: str
    disk_bytes: int
    asks: list[str]
    console_keys: bool


class PackageView(PackageItem):
    """One package, whole."""

    languages: list[str]
    language: str
    algorithm: str
    signer: SignerView | None
    signature_note: str
    unusable: str
    sizes: list[PackageSize]
    systems: list[SystemView]
    nics: list[PackageNic]
    networks: list[dict[str, str]]
    questions: list[PackageQuestion]
    licence_text: str
    licence_sha256: str
    accepted: list[AcceptedView]
    annotation: str
    files: list[PackageFile]
    disks: list[PackageDisk]
    differences: list[DifferenceView]
    findings: list[PackageFinding]
    versions: list[VersionView]
    copies: list[CopyView]
    iso: dict[str, str]
    answers: list[AnswerView] = []
    images: list[ImageView] = []
    kernel: str


class ChangeView(BaseModel):
    """One difference between two packages."""

    group: str
    kind: str
    what: str
    before: str
    after: str


class CompareView(BaseModel):
    """Two packages side by side."""

    old: PackageItem
    new: PackageItem
    changes: list[ChangeView]


def unusable_of(contents: Contents) -> str:
    """Why no plan can roll the package out, '' when one can."""
    if is_image(contents) or contents.format == "kernel":
        return ""
    if contents.iso is not None:
        bootable = contents.iso.boots_bios or contents.iso.boots_uefi
        return "" if bootable else "no machine can boot from the image"
    read = contents.envelope
    try:
        if read is None:
            adapt.adapt(contents.descriptor)
            return ""
        for system in read.systems:
            adapt.adapt(descriptor.of_system(read, system))
    except FormatError as error:
        return str(error)
    return ""


def is_image(contents: Contents) -> bool:
    """Whether the package is one disk and nothing else."""
    return contents.envelope is None and contents.iso is None and len(contents.disks) == 1


def _several(contents: Contents) -> bool:
    return contents.envelope is not None and len(contents.envelope.systems) > 1


def _able(contents: Contents, kits: Sequence[Kit]) -> list[Kit]:
    """Of the kits that take a package by its name, those that say which of its systems they make
    nodes from.
    """
    if contents.envelope is None or not _several(contents):
        return list(kits)
    ids = {system.id for system in contents.envelope.systems}
    return [
        kit
        for kit in kits
        if all(role.system in ids for role in kit.roles if role.own_nodes and not role.accepts)
    ]


def _lacks(contents: Contents) -> str:
    """What a plan needs to roll the package out, where no kit fits."""
    if is_image(contents):
        return "needs a kit that states hardware for the image"
    if contents.format == "kernel":
        return "needs a kit that states hardware and kernel arguments"
    if contents.iso is not None:
        return "needs a kit with answer files for the installer"
    if _several(contents):
        return "needs a kit whose roles name its systems"
    return "no kit supports this package"


def item(row: PackageRow, contents: Contents, kits: Sequence[Kit], plans: list[str]) -> PackageItem:
    """A package for the list."""
    product = (
        next((p for s in contents.envelope.systems for p in s.products if p.product), None)
        if contents.envelope
        else None
    )
    unusable, kits = unusable_of(contents), _able(contents, kits)
    return PackageItem(
        sha256=row.sha256,
        kind=row.kind,
        product=row.product,
        version=row.version,
        vendor=product.vendor if product else "",
        file_name=row.file_name,
        size=row.size,
        added_at=row.added_at,
        channel=row.channel,
        note=row.note,
        thin_bytes=row.thin_bytes,
        full_bytes=stored.full_bytes(contents),
        manifest=contents.integrity.manifest,
        signature=contents.integrity.signature,
        cautions=sum(f.severity == "caution" for f in contents.findings),
        plans=plans,
        kits=[] if unusable else [kit.title for kit in kits],
        unusable=unusable,
        lacks="" if unusable or kits else _lacks(contents),
    )


def view(
    row: PackageRow,
    contents: Contents,
    kits: Sequence[Kit],
    plans: list[str],
    signed: Signature,
    accepted: list[AcceptedLicence],
    copies: list[tuple[Copy, list[str]]],
    versions: list[VersionView],
) -> PackageView:
    """One package, whole. `signed`: its signature against today's trust list; `kits`: those that
    take it.
    """
    base = item(row, contents, kits, plans).model_dump() | {"signature": signed.state}
    read = contents.envelope
    guest: adapt.Guest | None = None
    with contextlib.suppress(FormatError):
        guest = None if _several(contents) else adapt.adapt(contents.descriptor)
    text = licence_of(contents)
    carries = {advice.size: advice.carries for kit in kits for advice in kit.sizes}
    descriptions = {n.name: n.description for n in read.networks} if read else {}
    nics = contents.descriptor.nics if guest else ()
    questions = list(
        [*read.questions, *(q for s in read.systems for q in s.questions)] if read else []
    )
    iso = contents.iso
    return PackageView(
        **base,
        languages=list(read.languages) if read else [],
        language=read.language if read else "",
        algorithm=contents.integrity.algorithm,
        signer=(
            SignerView(**{**asdict(signed.signer), "chain": list(signed.signer.chain)})
            if signed.signer
            else None
        ),
        signature_note="; ".join(f.message for f in signed.findings),
        sizes=[
            PackageSize(
                id=s.id,
                label=s.label,
                description=s.description,
                default=s.default,
                vcpu=s.vcpu,
                memory_bytes=s.memory_bytes,
                carries=carries.get(s.id, ""),
            )
            for s in (descriptor.sizes(read) if read and read.systems else ())
        ],
        systems=_systems(contents),
        nics=[
            PackageNic(
                name=n.name or f"interface {i}",
                network=n.network,
                description=descriptions.get(n.network, ""),
                was=n.kind,
                becomes=guest.nics[i - 1] if guest else "",
            )
            for i, n in enumerate(nics, 1)
        ],
        networks=[asdict(n) for n in read.networks] if read else [],
        questions=[
            PackageQuestion(
                key=q.key,
                label=q.label,
                description=q.description,
                category=q.category,
                type=q.type,
                default=q.default,
                given=q.given,
                secret=q.secret,
                asked=q.asked,
                rule=compare.rule_of(q),
                answered=_answered(q, kits),
            )
            for q in questions
        ],
        licence_text=text,
        licence_sha256=sha256_of(text),
        accepted=[AcceptedView(by=a.by, at=a.at, plan=a.plan) for a in accepted],
        annotation="\n\n".join(s.annotation for s in read.systems if s.annotation) if read else "",
        files=[
            PackageFile(name=m.name, size=m.size, sha256=m.sha256, state=m.state)
            for m in contents.members
        ],
        disks=_disks(contents),
        differences=[DifferenceView(**asdict(d)) for d in guest.differences] if guest else [],
        findings=[
            PackageFinding(
                severity=f.severity, code=f.code, message=f.message, where=f.where, clause=f.clause
            )
            for f in contents.findings
        ],
        versions=versions,
        copies=[
            CopyView(
                place=c.place,
                name=c.name,
                datastore=c.datastore,
                host=c.host,
                size=c.size,
                used_at=c.used_at,
                used_by=used,
            )
            for c, used in copies
        ],
        answers=_answer_files(contents, kits),
        images=_images(contents, kits),
        iso=(
            {
                "label": iso.label,
                "starts": (
                    " and ".join(
                        word
                        for word, yes in (("BIOS", iso.boots_bios), ("UEFI", iso.boots_uefi))
                        if yes
                    )
                    or "nothing"
                ),
            }
            if iso
            else {}
        ),
        kernel=contents.kernel,
    )


def _answered(question: Question, kits: Sequence[Kit]) -> str:
    """The column of the sheet that answers a question, by the first kit that takes the package."""
    for kit in kits:
        own = next((q for q in kit.questions if q.property == question.key), None)
        if own is not None:
            return own.label
        template = kit.environment.get(question.key, "")
        if template.startswith("{") and template.endswith("}"):
            return COLUMNS.get(template[1:-1], template[1:-1].replace("_", " ").capitalize())
        if template:
            return "by the kit"
    return ""


def _systems(contents: Contents) -> list[SystemView]:
    read = contents.envelope
    if read is None:
        return []
    starts: dict[str, str] = {}

    def order(collection: Collection | None) -> None:
        if collection is None:
            return
        for entry in collection.startup:
            starts[entry.member] = (
                f"{entry.order}."
                + (f" after {entry.delay_s} s" if entry.delay_s else "")
                + (" or when it answers" if entry.waits_for_guest else "")
            )
        for inner in collection.collections:
            order(inner)

    order(read.collection)
    return [
        SystemView(
            id=s.id,
            name=s.name or s.id,
            os=s.os or s.os_id,
            vcpu=s.standard.vcpu.normal or 0,
            memory_bytes=s.standard.memory.normal or 0,
            disks=len(s.standard.disks),
            nics=len(s.standard.nics),
            starts=starts.get(s.id, ""),
        )
        for s in read.systems
    ]


def _disks(contents: Contents) -> list[PackageDisk]:
    read = contents.envelope
    if read is None:
        return [
            PackageDisk(id=d.name, file=d.name, capacity_bytes=d.capacity_bytes or 0, note=d.kind)
            for d in contents.disks
        ]
    hrefs = {file.id: file for file in read.files}
    found = []
    for disk in read.disks:
        file = hrefs.get(disk.file_id)
        notes = [
            *(["empty"] if file is None else []),
            *(["packed by gzip"] if file and file.packed else []),
            *([f"in pieces of {file.chunk_bytes} bytes"] if file and file.chunk_bytes else []),
            *([f"differs from {disk.parent}"] if disk.parent else []),
            *(["shared"] if disk.shared else []),
            *([f"size asked by {disk.capacity_key}"] if disk.capacity_key else []),
        ]
        found.append(
            PackageDisk(
                id=disk.id,
                file=file.href if file else "",
                capacity_bytes=disk.capacity_bytes,
                note=", ".join(notes),
            )
        )
    return found


def _images(contents: Contents, kits: Sequence[Kit]) -> list[ImageView]:
    """What the kits that take a disk image make of it."""
    if not is_image(contents) and contents.format != "kernel":
        return []
    disk = stored.image_disk(contents).capacity_bytes if contents.disks else 0
    return [
        ImageView(
            kit=kit.title,
            role=role.label,
            sizes=[
                PackageSize(
                    id=one.id,
                    label=one.label or one.id,
                    description="",
                    default=number == 0,
                    vcpu=one.vcpu,
                    memory_bytes=one.memory_mib << 20,
                    carries="",
                )
                for number, one in enumerate(role.image.sizes)
            ],
            bus=role.image.bus,
            nic=role.image.nic,
            firmware="UEFI" if role.image.firmware == "efi" else "BIOS",
            disk_bytes=max(role.image.disk_gib << 30, disk),
            asks=installing.names(f"{role.image.user_data} {role.image.args}"),
            console_keys=role.image.console_keys,
        )
        for kit in kits
        for role in kit.roles
        if role.image is not None
    ]


def _answer_files(contents: Contents, kits: Sequence[Kit]) -> list[AnswerView]:
    """The answer files of an installer ISO, by the kits that take it."""
    if contents.iso is None:
        return []
    return [
        AnswerView(
            kit=kit.title,
            path=answer.path,
            format=answer.format,
            label=role.installer.label,
            asks=installing.names(answer.text),
        )
        for kit in kits
        for role in kit.roles
        if role.installer is not None
        for answer in role.installer.answers
    ]
