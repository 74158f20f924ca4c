"""The estate as it is stored."""

from __future__ import annotations

from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.core.estate import Estate
from nimble_stone.store import designs


@dataclass(frozen=True)
class NumberedEstate:
    """The estate and the number of its changes."""

    number: int
    estate: Estate


async def estate_of(app: Application) -> Estate:
    """The estate."""
    return (await numbered_estate(app)).estate


async def numbered_estate(app: Application) -> NumberedEstate:
    """The estate and the number of its changes, read again only when it was changed."""
    number = await app.store.read(designs.estate_number)
    kept = app.caches.estate.get(number)
    if kept is not None:
        return NumberedEstate(number, kept)
    number, found = await app.store.read(designs.estate_with_number)
    return NumberedEstate(number, app.caches.estate.put(number, found))
