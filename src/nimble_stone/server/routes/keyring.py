"""The keyring: names of entries, whose they are, and which plans a person granted them to. Values
never leave.
"""

from __future__ import annotations

from typing import Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from nimble_stone.core import grants
from nimble_stone.core.errors import Conflict, InputError
from nimble_stone.core.estate import Estate
from nimble_stone.server.deps import TheApplication
from nimble_stone.store import entries, records

router = APIRouter(tags=["keyring"])


class Secret(BaseModel):
    """A value to keep; a private key with `kind` key."""

    kind: Literal["password", "key"] = "password"
    value: str = Field(min_length=1, max_length=20_000)


class KeyringEntry(BaseModel):
    """An entry without its value. `owner`: whose it is, in words; `plans`: those it was granted to;
    `grantable`: whether it can be granted at all."""

    name: str
    kind: str
    made_at: float
    owner: str
    plans: list[str]
    grantable: bool


class Grant(BaseModel):
    """An entry and the plan that may open it."""

    entry: str = Field(min_length=1, max_length=300)
    plan: str = Field(min_length=1, max_length=60)


@router.get("/secrets")
async def secret_names(app: TheApplication) -> dict[str, str]:
    """Names and kinds; values never leave."""
    return {entry.name: entry.kind for entry in await app.store.read(entries.entries)}


@router.put("/secrets/{name:path}")
async def put_secret(name: str, body: Secret, app: TheApplication) -> dict[str, str]:
    """Keep a secret. Raises InputError for a name that belongs to the installation itself."""
    if grants.is_internal(name):
        raise InputError(
            f"“{name}” is reserved",
            code="secret-name",
            hint="Choose another name.",
        )
    return {"reference": await app.keep_secret(name, body.value, body.kind)}


@router.delete("/secrets/{name:path}")
async def drop_secret(name: str, app: TheApplication) -> list[KeyringEntry]:
    """Delete an entry. Raises NotFound, Conflict while hosts or machines log in with it."""
    estate = await app.store.read(records.load_estate)
    users = [host.name for host in estate.hosts if host.credential == name]
    users += [machine.name for machine in estate.machines if machine.credential == name]
    if users or grants.is_internal(name):
        used = ", ".join(sorted(users)[:5]) or "this installation"
        raise Conflict(
            f"keyring entry “{name}” is in use by {used}",
            code="secret-in-use",
            hint="Choose another login for them first.",
        )
    await app.store.write(entries.drop_secret, name)
    return await _views(app, estate)


@router.get("/keyring")
async def keyring(app: TheApplication) -> list[KeyringEntry]:
    """All entries, whose they are and to which plans they were granted."""
    return await _views(app, await app.store.read(records.load_estate))


@router.post("/keyring/grants")
async def grant(body: Grant, app: TheApplication) -> list[KeyringEntry]:
    """Let a plan open an entry that is not its own. Raises NotFound, Conflict for entries of the
    installation itself.
    """
    if grants.is_internal(body.entry):
        raise Conflict(
            f"keyring entry “{body.entry}” belongs to this installation and cannot be granted",
            code="secret-internal",
        )
    await app.store.write(entries.grant, body.entry, body.plan, app.clock())
    return await _views(app, await app.store.read(records.load_estate))


@router.delete("/keyring/grants")
async def revoke(entry: str, plan: str, app: TheApplication) -> list[KeyringEntry]:
    """Take a grant away; runs of that plan can no longer open the entry."""
    await app.store.write(entries.revoke, entry, plan)
    return await _views(app, await app.store.read(records.load_estate))


async def _views(app: TheApplication, estate: Estate) -> list[KeyringEntry]:
    return [
        KeyringEntry(
            name=entry.name,
            kind=entry.kind,
            made_at=entry.made_at,
            owner=grants.owner_of(entry.name, estate),
            plans=list(entry.plans),
            grantable=not grants.is_internal(entry.name),
        )
        for entry in await app.store.read(entries.entries)
    ]
