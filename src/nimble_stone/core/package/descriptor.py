"""From an envelope to the one virtual system that a rollout clones."""

from __future__ import annotations

from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import envelope
from nimble_stone.core.package.model import (
    Collection,
    Descriptor,
    Envelope,
    Noticed,
    Product,
    Size,
    Startup,
    System,
)

_NOBODY = Product("", "", "", "", "", "")


def parse(data: bytes) -> Descriptor:
    """Read a descriptor for a rollout. Raises FormatError for the first blocker: what it lacks,
    where, by which clause.
    """
    read, found = envelope.read(data)
    for notice in found:
        if notice.severity == "blocker":
            raise FormatError(
                notice.message, code=notice.code, place=notice.where, clause=notice.clause
            )
    return summary(read, found)


def summary(read: Envelope, found: list[Noticed] | tuple[Noticed, ...] = ()) -> Descriptor:
    """What a rollout needs. Raises FormatError when the envelope does not hold exactly one system
    with hardware.
    """
    if len(read.systems) != 1:
        raise FormatError(
            f"the package holds {len(read.systems)} virtual systems; a plan rolls out packages"
            " with one",
            code="ovf-systems",
            clause="DSP0243 7.2",
        )
    return of_system(read, read.systems[0], found)


def of_system(
    read: Envelope, system: System, found: list[Noticed] | tuple[Noticed, ...] = ()
) -> Descriptor:
    """What a rollout needs of one of the envelope's systems."""
    product = next(
        (p for p in system.products if p.product),
        system.products[0] if system.products else _NOBODY,
    )
    standard = system.standard
    return Descriptor(
        name=system.id,
        product=product.product or system.name or system.id,
        vendor=product.vendor,
        version=product.version or product.full_version,
        files=read.files,
        disks=read.disks,
        disk_order=standard.disks,
        networks=read.networks,
        sizes=sizes(read, (system,)),
        nics=standard.nics,
        questions=system.questions,
        licences=read.licences,
        transports=system.transports,
        notes=tuple(
            f"{n.where}: {n.message}" if n.where else n.message
            for n in found
            if n.severity != "blocker"
        ),
        controllers=standard.controllers,
        drives=standard.drives,
        firmware=system.firmware,
        families=system.families,
    )


def sizes(read: Envelope, systems: tuple[System, ...] = ()) -> tuple[Size, ...]:
    """The sizes on offer, in the publisher's order; one called “as packaged” when there are no
    options. Of these systems, or of all systems together.
    """

    def at(option: str) -> tuple[int, int]:
        rows = [
            next((h for h in s.hardware if h.option == option), s.standard)
            for s in systems or read.systems
        ]
        return sum(h.vcpu.normal or 0 for h in rows), sum(h.memory.normal or 0 for h in rows)

    if not read.options:
        return (Size("", "as packaged", "", True, *at("")),)
    return tuple(Size(o.id, o.label, o.description, o.default, *at(o.id)) for o in read.options)


def startups(collection: Collection | None) -> tuple[Startup, ...]:
    """In which order the members of a collection start, inner collections included (DSP0243
    clause 9.7).
    """
    if collection is None:
        return ()
    inner = (one for each in collection.collections for one in startups(each))
    return (*collection.startup, *inner)
