"""Which package the nodes of each role are made from: the plan's, unless the kit gives a role a
product of its own.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.roles import Accepts
from nimble_stone.core.package.model import Descriptor, Size, Startup


@dataclass(frozen=True)
class PackageView:
    """What the sheet needs of a package: its descriptor and how many bytes a node's disks take when
    thin.
    """

    sha256: str
    descriptor: Descriptor
    thin_bytes: int
    format: str = "ova"
    systems: tuple[Descriptor, ...] = ()
    """Of a package with several virtual systems: each, named by its id."""
    file_bytes: int = 0
    """Of an installer ISO: how much travels to a datastore."""
    startup: tuple[Startup, ...] = ()
    """When each of them starts, as the package says."""

    def system(self, ident: str) -> Descriptor | None:
        """One of several systems, by its id."""
        return next((one for one in self.systems if one.name == ident), None)

    @property
    def title(self) -> str:
        """“Gauge Collector 4.2.0”."""
        return f"{self.descriptor.product} {self.descriptor.version}"


@dataclass(frozen=True)
class Packages:
    """`main`: the plan's package; `own`: those of roles that take another one. None: it was not
    taken in, or none is chosen.
    """

    main: PackageView | None = None
    own: Mapping[str, PackageView | None] = field(default_factory=dict)

    def of(self, role: str) -> PackageView | None:
        """What a node of that role is made from."""
        return self.own.get(role, self.main)

    def sizes(self, role: str) -> Mapping[str, Size]:
        """The sizes a node of that role may be, by id."""
        package = self.of(role)
        return {size.id: size for size in package.descriptor.sizes} if package else {}

    def each(self, roles: Iterable[str]) -> tuple[PackageView, ...]:
        """The packages that nodes of these roles are made from, each once, in that order."""
        found = {package.sha256: package for role in roles if (package := self.of(role))}
        return tuple(found.values())


def takes(accepts: Accepts, product: str, version: str) -> bool:
    """Whether a package of that product and version will do."""
    return product == accepts.product and (
        not accepts.versions or version.startswith(accepts.versions)
    )


SYSTEMS, IMAGES, INSTALLERS = ("ova", "ovf"), ("qcow2", "vmdk", "raw"), ("iso",)
KERNELS = ("kernel",)
"""Formats of packages that state their hardware; of those that are one disk; of installers; of
kernels with their ramdisks.
"""


def formats_of(kit: Kit, role: str) -> tuple[str, ...]:
    """Formats of the packages that a role is made from; for '' the plan's package."""
    roles = [
        one
        for one in kit.roles
        if one.own_nodes and (one.id == role or (not role and not one.accepts))
    ]
    found: list[str] = []
    for one in roles:
        if one.image is not None:
            found += KERNELS if one.image.args else IMAGES
        elif one.installer is not None:
            found += INSTALLERS
        else:
            found += SYSTEMS
    return tuple(dict.fromkeys(found))


def accepts_of(kit: Kit, role: str) -> Accepts:
    """What packages the kit takes for a role."""
    found = kit.role(role)
    return found.accepts if found and found.accepts else kit.accepts


def matched(kit: Kit, packages: Iterable[PackageView]) -> Packages:
    """Packages given in any order, to the roles they fit; one that fits nothing is taken for the
    plan's, so that a check can say so.
    """
    given = list(packages)
    own = {
        role.id: next(
            (
                one
                for one in given
                if takes(role.accepts, one.descriptor.product, one.descriptor.version)
            ),
            None,
        )
        for role in kit.roles
        if role.accepts
    }
    rest = [one for one in given if one not in own.values()]
    main = next(
        (one for one in rest if takes(kit.accepts, one.descriptor.product, one.descriptor.version)),
        rest[0] if rest else None,
    )
    return Packages(main, own)
