"""A run's own copy of everything it needs, so that nobody's later edit changes a run under way."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any

from nimble_stone.core.estate import Estate
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.model import Plan, RoleBlock
from nimble_stone.core.plan.packages import Packages
from nimble_stone.core.plan.sheet import Cell, Sheet, resolve
from nimble_stone.core.sequence import Step
from nimble_stone.engine import packages
from nimble_stone.store import records
from nimble_stone.store.connect import Store
from nimble_stone.store.records import PackageRow
from nimble_stone.store.runs import RunRow


@dataclass
class FrozenRun:
    """A run read back: its sheet and its steps by key, in sequence. Only what nodes are given on
    the way (an address by DHCP) is added to it.
    """

    id: str
    sheet: Sheet
    steps: dict[str, Step]
    domain_types: dict[str, str]

    def learn(self, ident: str, values: Mapping[str, str]) -> None:
        """Put what a node was given into its cells."""
        self.sheet = _with(self.sheet, {ident: values})


def _with(sheet: Sheet, learned: Mapping[str, Mapping[str, str]]) -> Sheet:
    return (
        replace(
            sheet,
            nodes=tuple(
                (
                    replace(
                        node,
                        cells={
                            **node.cells,
                            **{
                                key: Cell(value, "computed")
                                for key, value in learned[node.id].items()
                            },
                        },
                    )
                    if node.id in learned
                    else node
                )
                for node in sheet.nodes
            ),
        )
        if learned
        else sheet
    )


def freeze(sheet: Sheet, steps: list[Step], estate: Estate) -> dict[str, Any]:
    """The document kept with a run: the plan with every cell written out per node. Secrets stay
    references.
    """
    plan = sheet.plan.model_copy(
        update={
            "include": (),
            "nodes": {
                node.id: {key: cell.value for key, cell in node.cells.items() if cell.value}
                for node in sheet.nodes
            },
            "roles": {
                role.id: RoleBlock(count=len(sheet.by_role[role.id])) for role in sheet.kit.roles
            },
        }
    )
    return {
        "plan": plan.model_dump(mode="json", by_alias=True),
        "kit": sheet.kit.model_dump(mode="json", by_alias=True),
        "steps": [asdict(step) for step in steps],
        "packages": {
            role: package.sha256
            for role, package in sheet.packages.own.items()
            if package and sheet.by_role[role]
        },
        "domain_types": {
            node.value("host"): estate.facts[node.value("host")].domain_type or "qemu"
            for node in sheet.nodes
            if node.value("host") in estate.facts
        },
    }


def made_from(row: RunRow, found: Mapping[str, PackageRow]) -> Packages:
    """What a run's nodes are made from; `found`: its packages by digest."""
    return Packages(
        packages.view_of(found[row.package]),
        {role: packages.view_of(found[sha256]) for role, sha256 in row.own_packages.items()},
    )


async def thawed(store: Store, row: RunRow) -> FrozenRun:
    """The run as it was frozen, with what its nodes are made from. Raises NotFound when one of its
    packages is gone.
    """
    return thaw(row, made_from(row, await store.read(records.packages_of, row.packages)))


def thaw(row: RunRow, packages: Packages) -> FrozenRun:
    """The run as it was frozen."""
    sheet = _with(
        resolve(
            Plan.model_validate(row.doc["plan"]),
            Kit.model_validate(row.doc["kit"]),
            packages,
            Estate(),
        ),
        row.doc.get("learned", {}),
    )
    steps = {
        item["key"]: Step(**{**item, "after": tuple(item["after"])}) for item in row.doc["steps"]
    }
    return FrozenRun(row.id, sheet, steps, row.doc["domain_types"])
