"""Kit files of this server: read with their text, checked while they are typed, kept and removed.
Those that ship stay as they are: a file in the data folder with the same id replaces one.
"""

from __future__ import annotations

import asyncio
import os
import re
from collections import Counter
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from nimble_stone.app import kit_versions
from nimble_stone.app.application import Application
from nimble_stone.app.kits import KitFolder, read_kit
from nimble_stone.app.texts import parse_plan
from nimble_stone.core import yaml_text
from nimble_stone.core.errors import Conflict, InputError, NotFound, StoneError
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.yaml_bounds import MAX_BYTES
from nimble_stone.store import records

_IDENT = re.compile(r"[a-z][a-z0-9-]{0,40}")


@dataclass(frozen=True)
class Fault:
    """What is wrong with a kit's text, and where: “line 12, column 3”."""

    place: str
    message: str


@dataclass(frozen=True)
class Checked:
    """A kit's text, read: the kit, or what is wrong with it."""

    kit: Kit | None
    faults: tuple[Fault, ...] = ()


def check(text: str) -> Checked:
    """Read a kit's text as `kit validate` does. For a thread."""
    if len(text.encode()) > MAX_BYTES:
        return Checked(None, (Fault("", "the text is larger than 1 MiB"),))
    try:
        return Checked(read_kit(text, "kit"))
    except yaml_text.Faults as error:
        return Checked(None, tuple(Fault(place, said) for place, said in error.faults))
    except StoneError as error:
        return Checked(None, (Fault(error.place, str(error)),))


@dataclass(frozen=True)
class Written:
    """A kit's file; `own`: it is this server's, not one that ships."""

    text: str
    own: bool


def text_of(folder: Path, ident: str) -> Written:
    """A kit's file as it was written. Raises NotFound."""
    own = _own_file(folder, ident)
    if own is not None:
        return Written(own.read_text(encoding="utf-8"), True)
    shipped = resources.files("nimble_stone.kits") / f"{ident}.yaml"
    if not _IDENT.fullmatch(ident) or not shipped.is_file():
        raise NotFound(f"there is no kit “{ident}”")
    return Written(shipped.read_text(encoding="utf-8"), False)


def _own_file(folder: Path, ident: str) -> Path | None:
    """The file of the data folder that holds the kit, whatever it is called."""
    for path in sorted(folder.glob("*.yaml")) if folder.is_dir() else ():
        found = check(path.read_text(encoding="utf-8", errors="replace")).kit
        if found is not None and found.id == ident:
            return path
    return None


def own_ids(folder: Path) -> set[str]:
    """Ids of the kits in the data folder."""
    files = sorted(folder.glob("*.yaml")) if folder.is_dir() else []
    found = (check(path.read_text(encoding="utf-8", errors="replace")).kit for path in files)
    return {kit.id for kit in found if kit is not None}


async def uses(app: Application) -> Counter[str]:
    """Kit → how many plans are made by it. Plans that cannot be read are made by none."""
    found: Counter[str] = Counter()
    for row in await app.store.read(records.plans):
        try:
            found[(await parse_plan(row.text)).kit] += 1
        except StoneError:
            continue
    return found


async def plans_of(app: Application, ident: str) -> list[str]:
    """The plans that are made by a kit."""
    found = []
    for row in await app.store.read(records.plans):
        try:
            if (await parse_plan(row.text)).kit == ident:
                found.append(row.id)
        except StoneError:
            continue
    return found


async def keep(app: Application, folder: KitFolder, text: str) -> Kit:
    """Keep a kit in the data folder, under its id; the text that it replaces stays as a version.
    Raises InputError for a text that is no kit; nothing is kept then.
    """
    found = await asyncio.to_thread(check, text)
    if found.kit is None:
        first = found.faults[0]
        where = f"{first.place}: " if first.place else ""
        raise InputError(
            f"{where}{first.message}", code="kit-faulty", hint="Correct it; nothing was kept."
        )
    await _remember(app, folder.folder, found.kit.id)
    await asyncio.to_thread(_write, folder.folder, found.kit.id, text)
    await kit_versions.seen(app, found.kit.id, text)
    folder.forget()
    return found.kit


async def _remember(app: Application, folder: Path, ident: str) -> None:
    """What the kit is now, as a version: its file may have been changed by hand."""
    try:
        written = await asyncio.to_thread(text_of, folder, ident)
    except NotFound:
        return
    await kit_versions.seen(app, ident, written.text)


def _write(folder: Path, ident: str, text: str) -> None:
    folder.mkdir(exist_ok=True, mode=0o700)
    path = _own_file(folder, ident) or folder / f"{ident}.yaml"
    part = path.with_suffix(".part")
    part.write_text(text, encoding="utf-8")
    os.replace(part, path)


async def remove(app: Application, folder: KitFolder, ident: str) -> None:
    """Remove a kit of this server's own; one that ships under the same id is used again. Raises
    NotFound, Conflict as long as plans need it.
    """
    path = await asyncio.to_thread(_own_file, folder.folder, ident)
    if path is None:
        raise NotFound(
            f"kit “{ident}” is not an own kit of this server",
            hint="Kits that ship stay as they are.",
        )
    shipped = resources.files("nimble_stone.kits") / f"{ident}.yaml"
    users = [] if shipped.is_file() else await plans_of(app, ident)
    if users:
        raise Conflict(
            f"kit {ident} is used by {', '.join(users[:5])}",
            code="kit-used",
            hint="Delete these plans, or give them another kit first.",
        )
    await _remember(app, folder.folder, ident)
    await asyncio.to_thread(path.unlink)
    folder.forget()
