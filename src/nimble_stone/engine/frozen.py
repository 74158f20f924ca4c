"""A run's own copy of everything it needs, so that nobody's later edit changes a run under way."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from nimble_stone.core.estate import Estate
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.model import Plan, RoleBlock
from nimble_stone.core.plan.sheet import PackageView, Sheet, resolve
from nimble_stone.core.sequence import Step
from nimble_stone.store.runs import RunRow


@dataclass(frozen=True)
class FrozenRun:
    """A run read back: its sheet and its steps by key, in sequence."""

    id: str
    sheet: Sheet
    steps: dict[str, Step]
    domain_types: dict[str, str]


def freeze(sheet: Sheet, steps: list[Step], estate: Estate) -> dict[str, Any]:
    """The document kept with a run: the plan with every cell written out per node. Secrets stay references."""
    plan = sheet.plan.model_copy(update={
        "include": (), "nodes": {node.id: {key: cell.value for key, cell in node.cells.items() if cell.value} for node in sheet.nodes},
        "roles": {role.id: RoleBlock(count=sum(node.role == role.id for node in sheet.nodes)) for role in sheet.kit.roles}})
    return {"plan": plan.model_dump(mode="json", by_alias=True), "kit": sheet.kit.model_dump(mode="json", by_alias=True),
            "steps": [asdict(step) for step in steps],
            "domain_types": {node.value("host"): estate.facts[node.value("host")].domain_type or "qemu" for node in sheet.nodes
                             if node.value("host") in estate.facts}}


def thaw(row: RunRow, package: PackageView) -> FrozenRun:
    """The run as it was frozen."""
    sheet = resolve(Plan.model_validate(row.doc["plan"]), Kit.model_validate(row.doc["kit"]), package, Estate())
    steps = {item["key"]: Step(**{**item, "after": tuple(item["after"])}) for item in row.doc["steps"]}
    return FrozenRun(row.id, sheet, steps, row.doc["domain_types"])
