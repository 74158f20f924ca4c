"""Hosts that runs built: a run is rolled back only when nothing needs its hosts."""

from __future__ import annotations

from nimble_stone.app.application import Application
from nimble_stone.app.estate import estate_of
from nimble_stone.core.errors import Conflict
from nimble_stone.core.estate import Estate, Host
from nimble_stone.engine import adding


def built_by(estate: Estate, run: str) -> list[Host]:
    """The hosts that a run added to the estate."""
    return [host for host in estate.hosts if host.origin is not None and host.origin.run == run]


async def check_unused(app: Application, run: str) -> None:
    """Raises Conflict when a plan or a VM needs a host that the run built: nothing is taken back
    then, since that host would go.
    """
    reasons = []
    for host in built_by(await estate_of(app), run):
        reasons += [f"{host.name}: {why}" for why in await adding.needs(app, host.name)]
    if reasons:
        more = f" and {len(reasons) - 3} more" if len(reasons) > 3 else ""
        raise Conflict(
            f"Hosts of this run are in use. {'; '.join(reasons[:3])}{more}.",
            code="hosts-used",
            hint="Roll back those runs, or change those plans first.",
        )
