"""Checking a plan without a server: against a file of facts (`nimble-stone estate facts --json`) and, when given, a package file."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any

from nimble_stone.cli.say import text_of
from nimble_stone.core import answers, checks, sequence, yaml_text
from nimble_stone.core.checks import Situation
from nimble_stone.core.errors import FormatError, InputError
from nimble_stone.core.estate import Estate
from nimble_stone.core.package.contents import examine
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import PackageView, resolve
from nimble_stone.engine.files import opened
from nimble_stone.server.kits import load_kits

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
        raise FormatError(f"it is no file of facts: {str(error).splitlines()[0]}", place=str(path),
                          hint="Make one with nimble-stone estate facts --json.") from error


def check(plan_file: Path, facts: Path, package: Path | None) -> dict[str, Any]:
    """{check, place} of a plan by what was read earlier; nobody is asked. Secrets cannot be looked at here and are not judged."""
    plan = yaml_text.read(text_of(plan_file), Plan, str(plan_file))
    kits = load_kits()
    if plan.kit not in kits:
        raise InputError(f"the plan asks for kit “{plan.kit}”; there are {', '.join(sorted(kits))}", code="kit-unknown")
    view = None
    if package is not None:
        with opened(package) as given:
            contents = examine(given)
            view = PackageView(contents.sha256, contents.descriptor, sum(g.source.size_bytes for g in given))
    estate = read_facts(facts)
    sheet = resolve(plan, kits[plan.kit], view, estate, set())
    secret = {node.value(column.id) for column in sheet.columns if column.kind == "secret" for node in sheet.nodes} - {""}
    licence = "\n\n".join(text for text in view.descriptor.licences if text) if view else ""
    digest = hashlib.sha256(licence.encode()).hexdigest() if licence else ""
    situation = Situation(sheet, estate, verdicts=dict.fromkeys(secret, ()), licence_sha256=digest)
    findings = checks.check(situation)
    return {"check": answers.check(sheet, estate, findings, sequence.build(sheet, estate)), "place": answers.place(sheet, estate),
            "findings": [finding.model_dump(mode="json") for finding in findings]}
