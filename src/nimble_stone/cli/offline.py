"""Designing without a server: against a file of facts (`nimble-stone estate facts --json`) and,
when given, a package file.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from nimble_stone.app import designing
from nimble_stone.app.kits import load_kits
from nimble_stone.app.licences import licence_sha256
from nimble_stone.cli.say import text_of
from nimble_stone.core import answers, checks, sequence, yaml_text
from nimble_stone.core.checks import Situation
from nimble_stone.core.errors import FormatError, InputError
from nimble_stone.core.estate import Estate
from nimble_stone.core.package.contents import examine
from nimble_stone.core.plan.difference import differences
from nimble_stone.core.plan.include import gather
from nimble_stone.core.plan.model import Plan, SharedValues
from nimble_stone.core.plan.packages import PackageView, matched
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.packages import stored
from nimble_stone.packages.files import opened
from nimble_stone.packages.intake import title_of

MAX_FACTS = 256 << 20


def read_facts(path: Path) -> Estate:
    """The file of facts. Raises InputError, FormatError."""
    try:
        if path.stat().st_size > MAX_FACTS:
            raise FormatError("the file is larger than 256 MiB", place=str(path))
        return Estate.model_validate_json(path.read_bytes())
    except OSError as error:
        raise InputError(f"{path} cannot be read: {error}") from error
    except ValueError as error:
        raise FormatError(
            f"this is not a facts file: {str(error).splitlines()[0]}",
            place=str(path),
            hint="Create one: nimble-stone estate facts --json",
        ) from error


def sheet_of(
    plan_file: Path, estate: Estate, packages: list[PackageView], include: list[Path]
) -> Sheet:
    """The plan of a file, calculated. Shared values are looked for beside the plan as
    NAME.values.yaml, and in `include`.

    Raises FormatError, Faults, InputError.
    """
    plan = yaml_text.read(text_of(plan_file), Plan, str(plan_file))
    estate = without_guests_of(plan.name, estate)
    kits = load_kits(plan_file.parent / "kits")
    if plan.kit not in kits:
        raise InputError(
            f"the plan needs kit “{plan.kit}”; there are {', '.join(sorted(kits))}",
            code="kit-unknown",
        )
    files = [*sorted(plan_file.parent.glob("*.values.yaml")), *include] if plan.include else []
    known = {
        values.name: values
        for values in (yaml_text.read(text_of(path), SharedValues, str(path)) for path in files)
    }
    return resolve(
        plan,
        kits[plan.kit],
        matched(kits[plan.kit], packages),
        estate,
        set(),
        shared=gather(plan.include, known),
    )


def without_guests_of(plan: str, estate: Estate) -> Estate:
    """The estate as if the plan's own runs had made nothing, as the server looks at it."""
    facts = {
        name: one.model_copy(
            update={
                "guests": tuple(
                    guest for guest in one.guests if not (guest.mark and guest.mark.plan == plan)
                )
            }
        )
        for name, one in estate.facts.items()
    }
    return estate.model_copy(update={"facts": facts})


def view_of(package: Path) -> PackageView:
    """What the sheet needs of a package's file. Raises FormatError."""
    with opened(package) as given:
        contents = examine(given)
        size = sum(g.source.size_bytes for g in given)
        return stored.view_from(contents, *title_of(contents, package.name), size, size)


def check(
    plan_file: Path, facts: Path, packages: list[Path], include: list[Path]
) -> dict[str, Any]:
    """{check, place, findings} of a plan by what was read earlier, and functions for what else may
    be asked; nothing is asked.

    Secrets cannot be looked at here and are not judged.
    """
    estate = read_facts(facts)
    sheet = sheet_of(plan_file, estate, [view_of(package) for package in packages], include)
    estate = without_guests_of(sheet.plan.name, estate)
    secret = {
        node.value(column.id)
        for column in sheet.columns
        if column.kind == "secret"
        for node in sheet.nodes
    } - {""}
    situation = Situation(
        sheet,
        estate,
        verdicts=dict.fromkeys(secret, ()),
        licence_sha256=licence_sha256(package.descriptor for package in sheet.used),
    )
    findings = checks.check(situation)
    names: dict[str, str] = {node.name: node.id for node in sheet.nodes}
    return {
        "check": answers.check(sheet, estate, findings, sequence.build(sheet, estate)),
        "place": answers.place(sheet, estate),
        "findings": [finding.model_dump(mode="json") for finding in findings],
        "size": lambda loads: designing.sized(sheet, estate, loads).model_dump(mode="json"),
        "headroom": lambda together: designing.as_data(
            designing.losses(sheet, estate, together, ())
        ),
        "layout": lambda: designing.as_data(designing.layouts(sheet)),
        "balance": lambda: designing.balance(sheet).model_dump(mode="json"),
        "why": lambda node: designing.as_data(
            designing.places(sheet, estate, names.get(str(node), str(node)))
        ),
    }


def difference(
    first: Path, second: Path, facts: Path, packages: list[Path], include: list[Path]
) -> list[dict[str, Any]]:
    """What differs from one plan file to another."""
    views, estate = [view_of(package) for package in packages], read_facts(facts)
    return designing.as_data(
        designing.difference_views(
            differences(
                sheet_of(first, estate, views, include), sheet_of(second, estate, views, include)
            )
        )
    )
