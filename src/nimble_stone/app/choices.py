"""Which kit and packages a plan is made of, and which others would do."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.core.errors import InputError
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.packages import Packages, PackageView, formats_of, takes
from nimble_stone.packages import stored
from nimble_stone.store import records


def kit_of(plan: Plan, kits: Mapping[str, Kit]) -> Kit:
    """The plan's kit. Raises InputError."""
    if plan.kit not in kits:
        raise InputError(
            f"the plan needs kit “{plan.kit}”; there are {', '.join(sorted(kits))}",
            code="kit-unknown",
            hint="Correct `kit` in the plan.",
        )
    return kits[plan.kit]


async def packages_of(app: Application, plan: Plan, kit: Kit) -> Packages:
    """The packages the plan names. Raises FormatError for one that cannot be rolled out."""

    async def find(wanted: str) -> PackageView | None:
        row = await app.store.read(records.find_package, wanted)
        return stored.view_of(row) if row else None

    named = {
        role.id: block.package if (block := plan.roles.get(role.id)) else ""
        for role in kit.roles
        if role.accepts
    }
    return Packages(
        await find(plan.package), {role: await find(wanted) for role, wanted in named.items()}
    )


@dataclass(frozen=True)
class Choice:
    """A package that would do. `why_not`: why a new plan does not take it by itself, '' when it
    does.
    """

    title: str
    channel: str
    signature: str
    why_not: str


async def choices_of(app: Application, kit: Kit) -> dict[str, tuple[Choice, ...]]:
    """Role ('' for the plan's package) → packages that would do: stable before others, trusted
    before unsigned, the newest first.
    """
    known = await app.store.read(records.package_names)
    found = {}
    for role, accepts in (
        ("", kit.accepts),
        *((role.id, role.accepts) for role in kit.roles if role.accepts),
    ):
        fitting = {
            one.title: Choice(one.title, one.channel, one.signature, _why_not(one))
            for one in reversed(known)
            if takes(accepts, one.product, one.version) and one.kind in formats_of(kit, role)
        }
        newest = list(fitting.values())[::-1]
        found[role] = tuple(
            sorted(
                newest,
                key=lambda one: (
                    bool(one.why_not),
                    one.channel != STABLE,
                    one.signature != "verified",
                ),
            )
        )
    return found


STABLE = "stable"


def _why_not(package: records.PackageName) -> str:
    if package.signature == "failed":
        return "its signature is not valid"
    if package.signature == "untrusted":
        return "its publisher is not trusted"
    return f"its channel is {package.channel}" if package.channel not in ("", STABLE) else ""


async def fitting_packages(app: Application, kit: Kit) -> dict[str, tuple[str, ...]]:
    """Role ('' for the plan's package) → names of the packages taken in that would do, the best
    choice first.
    """
    return {
        role: tuple(one.title for one in choices)
        for role, choices in (await choices_of(app, kit)).items()
    }


async def usual_of(app: Application, kit: Kit) -> dict[str, str]:
    """Role → the package that a new plan takes by itself; roles for which there is none are left
    out. What is a candidate or not
    trusted is taken on purpose only."""
    found = {}
    for role, choices in (await choices_of(app, kit)).items():
        if choices and not choices[0].why_not:
            found[role] = choices[0].title
    return found
