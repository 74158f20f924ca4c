"""Earlier texts of a kit: kept whenever a person saves one, or its page finds another file."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.app.aside import aside
from nimble_stone.store import kit_versions
from nimble_stone.store.kit_versions import KitVersion

MOST_LINES = 4000
"""Lines of a text that are compared: longer ones are told apart as a whole."""


@dataclass(frozen=True)
class VersionLine:
    """A version in a list: lines that it has more and less than the one before it."""

    number: int
    at: float
    added: int
    removed: int
    current: bool


async def seen(app: Application, ident: str, text: str) -> None:
    """Keep a kit's text, unless it is that of its newest version: then nothing is written."""
    if await app.store.read(kit_versions.newest, ident) == text:
        return
    await app.store.write(kit_versions.add, ident, text, app.clock())


async def listed(app: Application, ident: str, text: str) -> list[VersionLine]:
    """All versions, the newest first. `text`: as the kit is now."""
    found = await app.store.read(kit_versions.of_kit, ident)
    return await aside(_lines, found, text)


def _lines(found: Sequence[KitVersion], text: str) -> list[VersionLine]:
    current = next((one.number for one in found if one.text == text), 0)
    lines = []
    for newer, older in zip(found, [*found[1:], None], strict=True):
        told = difference(older.text, newer.text) if older else []
        added = sum(line.startswith("+") for line in told)
        removed = sum(line.startswith("-") for line in told)
        lines.append(VersionLine(newer.number, newer.at, added, removed, newer.number == current))
    return lines


async def one(app: Application, ident: str, number: int) -> KitVersion:
    """Raises NotFound."""
    return await app.store.read(kit_versions.one, ident, number)


def difference(old: str, new: str) -> list[str]:
    """Lines that begin with “+”, “-” or a blank, and “@@ …” before each part."""
    before, after = old.splitlines(), new.splitlines()
    if max(len(before), len(after)) > MOST_LINES:
        return [*(f"-{line}" for line in before), *(f"+{line}" for line in after)]
    return list(difflib.unified_diff(before, after, lineterm="", n=2))[2:]
