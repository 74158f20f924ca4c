"""A kit that is tried on stand-in nodes which answer as somebody wrote down: with a package that
the lab understands in place of the product's own.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING
from xml.sax.saxutils import quoteattr

from nimble_stone.core.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Mapping

    from nimble_stone.core.kit.model import Kit
    from nimble_stone.lab.guests.answers import Answers
    from nimble_stone.lab.scenario.products import Product

LAB = "lab"
"""First part of the settings of a package for such nodes."""
GIVEN = {
    "hostname": "{name}",
    "address": "{address}",
    "prefix": "{prefix}",
    "gateway": "{gateway}",
    "dns": "{dns}",
    "domain": "{domain}",
    "ntp": "{ntp}",
    "time_zone": "{time_zone}",
    "role": "{role}",
}
"""What each node is given, as the templates of a kit."""


@dataclass(frozen=True)
class Trial:
    """The kit as it is tried, its text, and its package."""

    kit: Kit
    text: str
    package: Path
    told: Mapping[str, str]
    """Setting → value, for the systems that are described."""


def on_answers(kit: Kit, answers: Answers, folder: Path) -> Trial:
    """The trial, its package written into a folder. What the product itself would be told at its
    first boot (`environment`, user data of an image, answers of an installer) is left out: the lab
    does not understand it. Raises InputError where a system is described that the kit has not.
    """
    from nimble_stone.app.kits import read_kit
    from nimble_stone.lab.scenario import products

    data = kit.model_dump(mode="json", by_alias=True, exclude_unset=True)
    data["accepts"] = {"product": kit.accepts.product}
    data["environment"] = {f"{LAB}.{key}": text for key, text in GIVEN.items()} | {
        f"{LAB}.admin": kit.admin,
        f"{LAB}.admin_password": f"{{{kit.admin_password}}}",
    }
    for role in data["roles"]:
        for key in ("accepts", "environment", "system", "image", "installer"):
            role.pop(key, None)
    for question in data.get("questions", ()):
        question.pop("property", None)
    text = json.dumps(data, indent=1)
    tried = read_kit(text, f"{kit.id}, tried")
    file = folder / "tried.ova"
    file.write_bytes(products.ova(_product(kit), mib=1))
    return Trial(tried, text, file, _told(kit, answers, folder))


def _told(kit: Kit, answers: Answers, folder: Path) -> dict[str, str]:
    """What the kit's settings say of the systems: where each is, and who logs in."""
    from nimble_stone.lab import systems

    told: dict[str, str] = {}
    for standing in systems.in_file(answers.systems, folder):
        wanted = standing.system
        asked = next((one for one in kit.systems if one.id == wanted.id), None)
        if asked is None:
            known = ", ".join(one.id for one in kit.systems) or "none"
            raise InputError(
                f"the answers describe system “{wanted.id}”; {kit.title} asks {known}",
                hint="Write the kit's own id of the system.",
            )
        for template, value in (
            (asked.address, standing.address),
            (asked.user, wanted.user),
            (asked.password, wanted.password),
        ):
            if value and template.startswith("{") and template.endswith("}"):
                told[template[1:-1]] = value
    return told


def _product(kit: Kit) -> Product:
    """A package with the sizes and interfaces that the kit names."""
    from nimble_stone.lab.scenario import products

    names = [size.size for size in kit.sizes]
    names += [size for role in kit.roles for size in role.sizes]
    for role in kit.roles:
        hardware = role.image or (role.installer and role.installer.vm)
        names += [size.id for size in hardware.sizes] if hardware else []
    if kit.sizing:
        names += [size for role in kit.sizing.roles.values() for size in role.by_size]
    sizes = tuple(
        products.Size(id=quoteattr(name)[1:-1], label="", text="", vcpu=1, memory_gib=1)
        for name in dict.fromkeys(names or ["usual"])
    )
    most = max((network.interface for network in kit.networks), default=1)
    networks = tuple(products.Network(name=f"Network {n}", text="") for n in range(1, most + 1))
    return products.Product(
        id=LAB,
        title=kit.accepts.product,
        version="1.0",
        disk_gib=1,
        sizes=sizes,
        networks=networks,
        asks=(),
    )
