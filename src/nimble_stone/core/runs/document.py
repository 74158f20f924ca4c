"""A run's own copy of everything it needs, resolved: no later edit changes a run under way,
and no later version of this program understands an old run differently.

Version 2 holds the nodes with all their values, the columns, the packages' descriptions and the
steps as they were. Version 1 held the ingredients (plan, kit) and is resolved when it is read. A
version that is written no more is read for ever: `tests/data/run-documents` holds one of each.
Keys that this program does not know are passed over; acceptance checks of kinds that it does not
know are left out and named.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from functools import cache
from typing import Any, TypeVar

from pydantic import BaseModel, TypeAdapter, ValidationError

from nimble_stone.core.errors import FormatError
from nimble_stone.core.estate import Estate
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.models import FROZEN
from nimble_stone.core.package.adapt import ExtraDisk
from nimble_stone.core.package.model import Size
from nimble_stone.core.plan.cells import NOTHING, UNUSED
from nimble_stone.core.plan.columns import Column
from nimble_stone.core.plan.model import Plan, RoleBlock
from nimble_stone.core.plan.packages import Packages, PackageView
from nimble_stone.core.plan.sheet import Cell, FoundDisk, Node, Sheet, resolve
from nimble_stone.core.processors import by_host
from nimble_stone.core.runs.change import Change
from nimble_stone.core.step import Step

VERSION = 2
MAX_REPAIRS = 500
_DROPPABLE = ("acceptance",)
"""Lists whose items may be left out where this program does not know their kind."""
Model = TypeVar("Model", bound=BaseModel)


@dataclass(frozen=True)
class NodeRecord:
    """A node as it was resolved: its row of the sheet without where each value came from."""

    id: str
    role: str
    number: int
    values: Mapping[str, str]
    unused: tuple[str, ...]
    """Columns that the node does not have, or whose condition does not hold."""
    size: Size | None
    thin_bytes: int
    full_bytes: int
    extra: tuple[ExtraDisk, ...] = ()
    extra_places: tuple[str, ...] = ()
    disks_of: str = ""
    volumes: tuple[FoundDisk, ...] = ()


@dataclass(frozen=True)
class PackageRecords:
    """The packages that nodes are made from: the plan's, and those of roles with their own."""

    main: PackageView | None = None
    own: Mapping[str, PackageView | None] = field(default_factory=dict)


@dataclass(frozen=True)
class RunDocument:
    """A run read back: its sheet, its steps by key in sequence, the domain type of each host and
    the processor that VMs get there ('' the host's own model).
    `unknown`: what of it this program does not know and left out, in words.
    """

    sheet: Sheet
    steps: Mapping[str, Step]
    domain_types: Mapping[str, str]
    unknown: tuple[str, ...] = ()
    change: Change | None = None
    processors: Mapping[str, str] = field(default_factory=dict)


@cache
def _adapter(kind: Any) -> TypeAdapter[Any]:
    return TypeAdapter(kind)


@dataclass(frozen=True)
class ChangeRecord:
    """A change as it is kept."""

    adds: tuple[str, ...]
    built: Mapping[str, str] = field(default_factory=dict)
    left: Mapping[str, str] = field(default_factory=dict)
    leaving: tuple[NodeRecord, ...] = ()
    resizes: tuple[str, ...] = ()
    upgrades: tuple[str, ...] = ()
    former: tuple[NodeRecord, ...] = ()
    adopts: tuple[str, ...] = ()


def write(
    sheet: Sheet, steps: list[Step], estate: Estate, change: Change | None = None
) -> dict[str, Any]:
    """The document kept with a run. Secrets stay references. Cost: O(nodes × columns)."""
    plan = sheet.plan.model_copy(
        update={
            "include": (),
            "nodes": {
                node.id: {key: cell.value for key, cell in node.cells.items() if cell.value}
                for node in sheet.nodes
            },
            "roles": {
                role.id: RoleBlock(count=sheet.count_of(role.id)) for role in sheet.kit.roles
            },
        }
    )
    nodes = [_record(node) for node in sheet.nodes]
    used = {node.role for node in sheet.nodes}
    own = {role: one for role, one in sheet.packages.own.items() if one and role in used}
    return {
        "version": VERSION,
        "plan": plan.model_dump(mode="json", by_alias=True),
        "kit": sheet.kit.model_dump(mode="json", by_alias=True),
        "columns": _adapter(tuple[Column, ...]).dump_python(sheet.columns, mode="json"),
        "nodes": _adapter(list[NodeRecord]).dump_python(nodes, mode="json"),
        "views": _adapter(PackageRecords).dump_python(
            PackageRecords(sheet.packages.main, own), mode="json"
        ),
        "steps": [asdict(step) for step in steps],
        "packages": {role: one.sha256 for role, one in own.items()},
        "domain_types": {
            node.value("host"): estate.facts[node.value("host")].domain_type or "qemu"
            for node in sheet.nodes
            if node.value("host") in estate.facts
        },
        "processors": {
            host: choice.model
            for host, choice in by_host(estate, {n.value("host") for n in sheet.nodes}).items()
            if choice.model
        },
        **({"change": _change_record(change)} if change else {}),
    }


def _record(node: Node) -> NodeRecord:
    return NodeRecord(
        node.id,
        node.role,
        node.number,
        {key: cell.value for key, cell in node.cells.items() if cell.value},
        tuple(key for key, cell in node.cells.items() if cell.origin == "unused"),
        node.size,
        node.thin_bytes,
        node.full_bytes,
        node.extra,
        node.extra_places,
        node.disks_of,
        node.volumes,
    )


def _change_record(change: Change) -> dict[str, Any]:
    leaving = tuple(_record(node) for node in change.leaving)
    former = tuple(_record(node) for node in change.former)
    record = ChangeRecord(
        change.adds,
        change.built,
        change.left,
        leaving,
        change.resizes,
        change.upgrades,
        former,
        change.adopts,
    )
    found: dict[str, Any] = _adapter(ChangeRecord).dump_python(record, mode="json")
    return found


def read(doc: Mapping[str, Any], packages: Packages) -> RunDocument:
    """The run as it was written. `packages`: what a document of version 1 names by digest only.

    Raises: FormatError for a document of a newer program, or one that is damaged.
    """
    version = doc.get("version", 1)
    if not isinstance(version, int) or not 1 <= version <= VERSION:
        raise FormatError(
            f"The run's document is of version {str(version)[:20]}; this program reads 1 to"
            f" {VERSION}.",
            code="run-document-version",
            hint="Start the newer version again.",
        )
    try:
        found = _version_1(doc, packages) if version == 1 else _version_2(doc)
    except (AttributeError, KeyError, TypeError, ValueError) as error:
        raise FormatError(
            f"The run's document cannot be read: {str(error).splitlines()[0][:200]}.",
            code="run-document",
            hint="Restore a backup, or report it with the server's log.",
        ) from error
    return replace(found, sheet=with_values(found.sheet, doc.get("learned", {})))


def renewed(doc: Mapping[str, Any], packages: Packages) -> dict[str, Any]:
    """A document of an earlier version as one of this version; what nodes were given on the way is
    kept beside it. Raises FormatError.
    """
    before = {key: value for key, value in doc.items() if key != "learned"}
    found = read(before, packages)
    fresh = write(found.sheet, list(found.steps.values()), Estate(), found.change)
    return fresh | {
        "domain_types": dict(found.domain_types),
        "processors": dict(found.processors),
    }


def with_kit(doc: Mapping[str, Any], kit: Kit, steps: Mapping[str, Step]) -> dict[str, Any]:
    """The document with another version of its kit and the steps by that. What nodes were given on
    the way is kept beside it.
    """
    kept = {key: value for key, value in doc.items() if key != "learned"}
    return {
        **kept,
        "kit": kit.model_dump(mode="json", by_alias=True),
        "steps": [asdict(step) for step in steps.values()],
    }


def with_values(sheet: Sheet, learned: Mapping[str, Mapping[str, str]]) -> Sheet:
    """The sheet with what nodes were given on the way (node → column → value)."""
    if not learned:
        return sheet
    return replace(sheet, nodes=tuple(_given(n, learned.get(n.id, {})) for n in sheet.nodes))


def _given(node: Node, values: Mapping[str, str]) -> Node:
    if not values:
        return node
    fresh = {column: Cell(value, "computed") for column, value in values.items()}
    return replace(node, cells={**node.cells, **fresh})


def _version_1(doc: Mapping[str, Any], packages: Packages) -> RunDocument:
    unknown: list[str] = []
    plan, kit = _known(Plan, doc["plan"], unknown), _known(Kit, doc["kit"], unknown)
    sheet = resolve(plan, kit, packages, Estate())
    return RunDocument(sheet, _steps(doc["steps"]), dict(doc["domain_types"]), tuple(unknown))


def _version_2(doc: Mapping[str, Any]) -> RunDocument:
    unknown: list[str] = []
    plan, kit = _known(Plan, doc["plan"], unknown), _known(Kit, doc["kit"], unknown)
    views: PackageRecords = _adapter(PackageRecords).validate_python(doc["views"])
    records: list[NodeRecord] = _adapter(list[NodeRecord]).validate_python(doc["nodes"])
    columns: tuple[Column, ...] = _adapter(tuple[Column, ...]).validate_python(doc["columns"])
    empty = {column.id: NOTHING for column in columns}
    nodes = tuple(_node(record, empty) for record in records)
    sheet = Sheet(plan, kit, Packages(views.main, views.own), columns, nodes)
    change = None
    if doc.get("change"):
        kept: ChangeRecord = _adapter(ChangeRecord).validate_python(doc["change"])
        leaving = tuple(_node(record, empty) for record in kept.leaving)
        former = tuple(_node(record, empty) for record in kept.former)
        change = Change(
            kept.adds,
            kept.built,
            kept.left,
            leaving,
            kept.resizes,
            kept.upgrades,
            former,
            kept.adopts,
        )
    steps, types = _steps(doc["steps"]), dict(doc["domain_types"])
    processors = dict(doc.get("processors", {}))
    return RunDocument(sheet, steps, types, tuple(unknown), change, processors)


def _node(record: NodeRecord, empty: Mapping[str, Cell]) -> Node:
    said = {column: Cell(value, "node") for column, value in record.values.items()}
    return Node(
        record.id,
        record.role,
        record.number,
        {**empty, **dict.fromkeys(record.unused, UNUSED), **said},
        record.size,
        record.thin_bytes,
        record.full_bytes,
        record.extra,
        record.extra_places,
        record.disks_of,
        record.volumes,
    )


def _steps(items: list[dict[str, Any]]) -> dict[str, Step]:
    known = set(Step.__dataclass_fields__)
    found = {}
    for item in items:
        values = {key: value for key, value in item.items() if key in known}
        found[item["key"]] = Step(**{**values, "after": tuple(item["after"])})
    return found


def _known(model: type[Model], data: Any, unknown: list[str]) -> Model:
    """Validate what another version of this program wrote: unknown keys are passed over, unknown
    kinds of acceptance checks left out; both are named in `unknown`. What it refers to was checked
    when the run began. Raises ValidationError.
    """
    for _ in range(MAX_REPAIRS):
        try:
            return model.model_validate(data, context=FROZEN)
        except ValidationError as error:
            data = _repaired(data, error, unknown)
    return model.model_validate(data, context=FROZEN)


def _repaired(data: Any, error: ValidationError, unknown: list[str]) -> Any:
    first = error.errors(include_url=False, include_input=False)[0]
    path = list(first["loc"])
    if first["type"] == "extra_forbidden":
        unknown.append(f"key {'.'.join(map(str, path))}")
        return _without(data, path)
    for name in _DROPPABLE:
        if name in path[:-1] and isinstance(path[path.index(name) + 1], int):
            path = path[: path.index(name) + 2]
            unknown.append(f"entry {'.'.join(map(str, path))}")
            return _without(data, path)
    raise error


def _without(data: Any, path: list[Any]) -> Any:
    """A copy without what stands at a path. Names of alternatives in the path, which stand for no
    key, are passed over.
    """
    head, rest = path[0], path[1:]
    if isinstance(data, list):
        if not rest:
            return data[:head] + data[head + 1 :]
        return [_without(item, rest) if n == head else item for n, item in enumerate(data)]
    if head not in data:
        return _without(data, rest)
    if not rest:
        return {key: value for key, value in data.items() if key != head}
    return {**data, head: _without(data[head], rest)}
