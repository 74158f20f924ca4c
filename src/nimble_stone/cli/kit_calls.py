"""`kit try --node`: a kit's calls, sent to one real node and shown one by one."""

from __future__ import annotations

import asyncio
import os
import tempfile
from collections.abc import Callable, Mapping
from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING

from nimble_stone.core.errors import InputError

if TYPE_CHECKING:
    from nimble_stone.core.kit.model import Kit
    from nimble_stone.core.plan.sheet import Sheet
    from nimble_stone.engine.trial import Tried

NAME = "trial"
OF_NODE = ("name", "address")
"""Values that are a node's, not the plan's."""


def sheet_of(kit: Kit, address: str, role: str, values: Mapping[str, str]) -> Sheet:
    """A sheet with one node at an address, with what a person said of it. Raises InputError."""
    from nimble_stone.core.estate import Estate
    from nimble_stone.core.plan.model import Plan
    from nimble_stone.core.plan.packages import Packages
    from nimble_stone.core.plan.sheet import resolve
    from nimble_stone.engine.trial import of_one

    wanted = kit.role(role) if role else kit.roles[0]
    if wanted is None:
        raise InputError(
            f"kit {kit.id} has no role “{role}”; its roles are"
            f" {', '.join(one.id for one in kit.roles)}"
        )
    own = {key: value for key, value in values.items() if key in OF_NODE}
    plan = Plan.model_validate(
        {
            "nimble-stone": "plan/1",
            "name": NAME,
            "kit": kit.id,
            "bay": NAME,
            "values": {key: value for key, value in values.items() if key not in OF_NODE},
            "nodes": {f"{wanted.id}-1": {"address": address, **own}},
        }
    )
    sheet = resolve(plan, kit, Packages(), Estate())
    nodes = of_one(sheet.nodes, wanted.id)
    if not nodes:
        raise InputError(f"role “{wanted.id}” of kit {kit.id} has no node by itself")
    return replace(sheet, nodes=nodes)


def secrets_of(kit: Kit) -> list[str]:
    """Settings whose values are secret."""
    return [one.id for one in kit.questions if one.secret]


def run(
    sheet: Sheet, secrets: Mapping[str, str], *, changes: bool, tell: Callable[[Tried], None]
) -> list[dict[str, object]]:
    """All calls as they were answered; `tell` hears of each at once. `secrets`: setting → value.
    Nothing of it is kept: store and keyring are temporary.
    """
    with tempfile.TemporaryDirectory(prefix="nimble-stone-calls-") as folder:
        _with_policy(Path(folder))
        return asyncio.run(_run(Path(folder), sheet, secrets, changes=changes, tell=tell))


def _with_policy(folder: Path) -> None:
    """What may be dialled is what this installation allows."""
    own = Path(os.environ.get("NIMBLE_STONE_DATA", "")) / "dial.yaml"
    if os.environ.get("NIMBLE_STONE_DATA") and own.is_file():
        (folder / "dial.yaml").write_bytes(own.read_bytes())


async def _run(
    folder: Path,
    sheet: Sheet,
    secrets: Mapping[str, str],
    *,
    changes: bool,
    tell: Callable[[Tried], None],
) -> list[dict[str, object]]:
    from nimble_stone.core.runs.document import with_values
    from nimble_stone.engine.frozen import FrozenRun
    from nimble_stone.engine.trial import Trial
    from nimble_stone.server.app import open_application

    app = open_application(folder, 1.0)
    try:
        references = {
            name: await app.keep_secret(f"plan/{NAME}/{name}", value)
            for name, value in secrets.items()
        }
        filled = with_values(sheet, {sheet.nodes[0].id: references})
        found = []
        async for one in Trial(app, FrozenRun(NAME, filled, {}, {}), changes=changes).calls():
            tell(one)
            found.append(asdict(one))
        return found
    finally:
        await app.reach.close()
        app.store.close()
