"""Many plans from one table, and one plan carried over to another place. Pure."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from typing import Any

from ruamel.yaml import YAML

from nimble_stone.core import yaml_text
from nimble_stone.core.errors import InputError, StoneError
from nimble_stone.core.estate import Estate
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.model import Plan

MAX_PLANS = 200
_HEAD = ("name", "title", "bay", "package", "kit", "include")


@dataclass(frozen=True)
class Drawn:
    """A row of the table as a plan: its text, or why it is none. `row` counts from 1, the header
    included.
    """

    row: int
    name: str
    text: str = ""
    faults: tuple[str, ...] = ()


@dataclass(frozen=True)
class Base:
    """What all rows have in common unless they say otherwise."""

    kit: str = ""
    package: str = ""
    bay: str = ""
    include: tuple[str, ...] = ()
    values: Mapping[str, str] = field(default_factory=dict)
    own_packages: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    """Kit → role with a product of its own ('' for all others) → its package, unless the row or
    `package` says otherwise.
    """


Begin = Callable[[Kit, str], Mapping[str, str]]
"""What a plan of a kit in a bay begins with, unless its row says otherwise."""


def plans_of(
    rows: Sequence[Sequence[str]],
    base: Base,
    kits: Mapping[str, Kit],
    begin: Begin = lambda kit, bay: {},
) -> list[Drawn]:
    """A plan for each row. Columns: name, title, bay, package, kit, include; `count.ROLE`;
    `package.ROLE`; `load.LOAD`; `ROLE.COLUMN` for one role; any other
    column holds for the plan.

    Raises InputError when there is no header with a column “name”, or there are more than 200 rows.
    """
    at = next(
        (
            i
            for i, row in enumerate(rows[:5])
            if any(cell.strip().lower() == "name" for cell in row)
        ),
        None,
    )
    if at is None:
        raise InputError(
            "the table has no header with a column “name”",
            code="table-header",
            hint="One row per cluster: name, bay, pool, count.archive …",
        )
    header = [cell.strip() for cell in rows[at]]
    body = [
        (number, row)
        for number, row in enumerate(rows[at + 1 :], at + 2)
        if any(cell.strip() for cell in row)
    ]
    if len(body) > MAX_PLANS:
        raise InputError(
            f"the table has {len(body)} rows; {MAX_PLANS} plans can be created at once",
            code="table-large",
        )
    found = [
        _one(
            number,
            dict(zip(header, (cell.strip() for cell in row), strict=False)),
            base,
            kits,
            begin,
        )
        for number, row in body
    ]
    names = [one.name for one in found]
    return [
        (
            Drawn(one.row, one.name, "", (f"the name “{one.name}” is there twice",))
            if one.name and names.count(one.name) > 1
            else one
        )
        for one in found
    ]


def _put(document: dict[str, Any], kit: Kit, key: str, value: str) -> None:
    """A cell into the plan's document, by what its column means. Raises ValueError for a number
    that is none.
    """
    first, _, rest = key.partition(".")
    roles = document["roles"]
    if first == "count" and kit.role(rest):
        if not value.isdigit():
            raise ValueError(value)
        roles.setdefault(rest, {})["count"] = int(value)
    elif first == "package" and kit.role(rest):
        roles.setdefault(rest, {})["package"] = value
    elif first == "load":
        document["load"][rest] = float(value)
    elif kit.role(first) and rest:
        roles.setdefault(first, {}).setdefault("values", {})[rest] = value
    else:
        document["values"][key] = value


def _one(
    number: int, cells: Mapping[str, str], base: Base, kits: Mapping[str, Kit], begin: Begin
) -> Drawn:
    given = {key: value for key, value in cells.items() if key and value}
    kit = kits.get(given.get("kit", base.kit))
    name = next((value for key, value in given.items() if key.lower() == "name"), "")
    if kit is None:
        return Drawn(number, name, "", (f"there is no kit “{given.get('kit', base.kit)}”",))
    usual = base.own_packages.get(kit.id, {})
    document: dict[str, Any] = {
        "nimble-stone": "plan/1",
        "name": name,
        "title": given.get("title", ""),
        "kit": kit.id,
        "package": given.get("package") or base.package or usual.get("", ""),
        "bay": given.get("bay", base.bay),
        "include": [*base.include, *given.get("include", "").split()],
        "load": {},
        "values": {**begin(kit, given.get("bay", base.bay)), **base.values},
        "roles": {role: {"package": title} for role, title in usual.items() if role},
    }
    faults = []
    for key, value in given.items():
        if key.lower() in _HEAD:
            continue
        try:
            _put(document, kit, key, value)
        except ValueError:
            faults.append(f"{key}: “{value[:20]}” is not a number")
    text = _dump(
        {
            key: value
            for key, value in document.items()
            if value or key in ("nimble-stone", "name", "kit")
        }
    )
    try:
        yaml_text.read(text, Plan, f"row {number}")
    except StoneError as error:
        faults.append(str(error))
    return Drawn(number, name, "" if faults else text, tuple(faults))


@dataclass(frozen=True)
class Copied:
    """A plan carried over: its text, and what in it still speaks of the old place (path and
    value).
    """

    text: str
    left: tuple[tuple[str, str], ...]


def copy(text: str, name: str, bay: str, mapping: Mapping[str, str], estate: Estate) -> Copied:
    """The plan under another name in another bay. Every value that is a key of `mapping` becomes
    what it maps to; hosts, datastores and all addresses of
    single nodes are forgotten, for they belong to the old place. Licence, comments and order stay.
    Raises FormatError.
    """
    plan = yaml_text.read(text, Plan, "the plan")
    local = re.compile(r"(^|\.)(host|datastore|address|address6|mac|port|drives)$|^system\.drive$")
    edits: list[tuple[tuple[str, ...], Any]] = [(("name",), name), (("bay",), bay)]
    if bay != plan.bay and plan.further_bays:
        edits.append((("further_bays",), None))
    left: list[tuple[str, str]] = []
    old = [
        network
        for network in estate.networks
        if _carried(network.name, plan.bay, estate) and not _carried(network.name, bay, estate)
    ]
    gone = {network.name for network in old}
    names = (
        gone
        | {pool.name for pool in estate.pools if pool.network in gone}
        | {one.name for one in estate.series if one.network in gone}
    )
    for path, values in plan.levels().items():
        for key, value in values.items():
            if path[0] == "nodes" and local.search(key):
                edits.append(((*path, key), None))
            elif str(value) in mapping:
                edits.append(((*path, key), mapping[str(value)]))
            elif any(word in names or _within(word, old) for word in str(value).split()):
                left.append((".".join((*path, key)), str(value)))
    return Copied(yaml_text.edit_all(text, edits), tuple(left))


def _carried(network: str, bay: str, estate: Estate) -> bool:
    return any(
        net.name == network
        for host in estate.bay(bay)
        if host.name in estate.facts
        for net in estate.facts[host.name].networks
    )


def _within(word: str, networks: Sequence[Any]) -> bool:
    try:
        address = IPv4Address(word)
    except ValueError:
        return False
    return any(address in network.subnet for network in networks)


def _dump(document: Mapping[str, Any]) -> str:
    yaml = YAML(typ="safe", pure=True)
    yaml.default_flow_style = False
    # keys keep the order they were given in
    yaml.sort_base_mapping_type_on_output = False  # type: ignore[assignment]
    out = io.StringIO()
    yaml.dump(dict(document), out)
    return out.getvalue()
