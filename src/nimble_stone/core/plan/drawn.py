"""What nodes are given from series: MAC addresses, IPv6 addresses, numbers. Changes the cells it is
given.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from functools import lru_cache
from ipaddress import IPv6Address, IPv6Network

from nimble_stone.core.estate import Estate
from nimble_stone.core.plan.cells import Cell, Cells
from nimble_stone.core.plan.columns import Column
from nimble_stone.core.series import Series, clean, draw, number_of


def from_series(
    base: Mapping[str, Cells],
    columns: tuple[Column, ...],
    estate: Estate,
    taken: Collection[str],
    held: Mapping[str, str],
) -> dict[str, list[str]]:
    """Fill the cells that draw from series. Answers with column → ids of nodes that found their
    series exhausted.

    A number asked for the whole plan is one for all nodes; everything else is each node's own.
    `taken`: members that other plans hold, as
    `Series.member` writes them; `held`: “node/column” → what it held so far. Cost: O(nodes ×
    drawing columns + taken).
    """
    used: dict[str, set[int]] = {}
    short: dict[str, list[str]] = {}
    found_in_use = in_use(estate) if any(column.draws for column in columns) else frozenset[str]()
    # all typed ones are known before any is given
    requests = [(column, _wanting(column, base, used)) for column in columns if column.draws]
    for column, wanting in requests:
        whole = column.draws == "number" and column.scope == "plan"
        for name, idents in wanting.items():
            series = estate.one_series(name)
            if series is None or series.kind != column.draws:
                continue
            _give(series, column, idents, whole, base, used, {*taken, *found_in_use}, held, short)
    return short


def _wanting(
    column: Column, base: Mapping[str, Cells], used: dict[str, set[int]]
) -> dict[str, list[str]]:
    """Series → nodes that want one of its members in a column. What was typed is written tidily and
    noted in `used`: it is never handed out beside.
    """
    kind = column.draws or "number"
    wanting: dict[str, list[str]] = {}
    for ident, cells in base.items():
        cell = cells[column.id]
        if cell.value:
            tidy = clean(kind, cell.value)
            if tidy != cell.value:
                cells[column.id] = Cell(tidy, cell.origin)
            number = number_of(kind, tidy)
            if number is not None:
                used.setdefault(_realm(column, cells), set()).add(number)
        elif cell.origin == "none" and column.series in cells and cells[column.series].value:
            wanting.setdefault(cells[column.series].value, []).append(ident)
    return wanting


def _give(
    series: Series,
    column: Column,
    idents: list[str],
    whole: bool,
    base: Mapping[str, Cells],
    used: dict[str, set[int]],
    taken: Collection[str],
    held: Mapping[str, str],
    short: dict[str, list[str]],
) -> None:
    realm = series.name if series.kind == "number" else series.kind
    gone = series.gone(taken) | used.setdefault(realm, set())
    slots = [f"/{column.id}"] if whole else [f"{ident}/{column.id}" for ident in idents]
    before = {
        slot: number
        for slot in slots
        if (number := number_of(series.kind, held.get(slot, "").rpartition("#")[2])) is not None
    }
    given = draw(series, slots, before, gone)
    used[realm].update(given.values())
    for ident in idents:
        number = given.get(slots[0] if whole else f"{ident}/{column.id}")
        if number is None:
            short.setdefault(column.id, []).append(ident)
        else:
            base[ident][column.id] = Cell(_text(series, number), "pool")


def _text(series: Series, number: int) -> str:
    return str(number) if series.kind == "number" else series.member(number)


def _realm(column: Column, cells: Cells) -> str:
    """Numbers are counted apart in each series; addresses are what they are everywhere."""
    return (
        cells[column.series].value
        if column.draws == "number" and column.series in cells
        else column.draws or ""
    )


def member_of(column: Column, cells: Mapping[str, Cell]) -> str:
    """What a plan holds by a cell, '' nothing: an address, or a number together with its series."""
    value = cells[column.id].value
    if not value or not column.draws or number_of(column.draws, value) is None:
        return ""
    if column.draws == "number":
        name = cells[column.series].value if column.series in cells else ""
        return f"{name}#{value}" if name else ""
    return value


def in_use(estate: Estate) -> frozenset[str]:
    """MAC and IPv6 addresses that hosts, guests and gateways of the estate have themselves. Cost:
    O(interfaces + guests).
    """
    found = {str(network.gateway6) for network in estate.networks if network.gateway6}
    for facts in estate.facts.values():
        found |= {mac for guest in facts.guests for mac in guest.macs}
        for one in facts.interfaces:
            found.add(one.mac.lower())
            found |= {address.partition("/")[0] for address in one.addresses if ":" in address}
    return frozenset(found - {""})


@lru_cache(maxsize=16384)
def ipv6_fault(text: str, subnet: IPv6Network | None, gateway: IPv6Address | None) -> str:
    """What is wrong with a node's IPv6 address, '' nothing."""
    try:
        address = IPv6Address(text)
    except ValueError:
        return "is not an IPv6 address"
    if address.is_multicast or address.is_unspecified or address.is_loopback:
        return "is not a valid node address"
    if subnet is not None and address not in subnet:
        return f"is outside {subnet}"
    return "is the gateway's" if address == gateway else ""
