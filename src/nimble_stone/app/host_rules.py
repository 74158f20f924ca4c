"""Rules about hosts and machines: what breaks them by the last facts, and their settings."""

from __future__ import annotations

from collections.abc import Collection

from nimble_stone.app import leftovers
from nimble_stone.app.application import Application
from nimble_stone.app.claims import living_on
from nimble_stone.core import estate_rules
from nimble_stone.core.errors import InputError, NotFound
from nimble_stone.core.estate import Estate, RuleSetting
from nimble_stone.store import entries, records, runs


async def violations(
    app: Application, estate: Estate, names: Collection[str] = ()
) -> list[estate_rules.Violation]:
    """What breaks rules, of all hosts and machines or of the named ones."""
    live = {row.id for row in await app.store.read(runs.runs) if row.state != "undone"}
    live |= await leftovers.just_undone(app, estate)
    keys = await key_names(app)
    there = await living_on(app, {machine.name for machine in estate.machines})
    living = {machine: claim.name for machine, claim in there.items()}
    homes = await leftovers.homes(app, estate)
    ground = estate_rules.Ground(estate, app.clock(), live, set(keys), living, homes)
    return estate_rules.judge(ground, names)


async def key_names(app: Application) -> frozenset[str]:
    """Keyring entries that are private keys."""
    found = await app.store.read(entries.entries)
    return frozenset(entry.name for entry in found if entry.kind == "key")


async def set_rule(app: Application, setting: RuleSetting) -> None:
    """Switch a rule off for a bay, or set its limit; with neither, its default applies. Raises
    NotFound, and InputError for a limit that the rule does not have.
    """
    limits = {rule.id: rule.limit for rule in estate_rules.EVERY}
    if setting.rule not in limits:
        raise NotFound(
            f"there is no rule “{setting.rule}”",
            hint="`nimble-stone estate rules --reference` lists them.",
        )
    if setting.limit is not None and limits[setting.rule] is None:
        raise InputError(f"rule {setting.rule} has no limit that could be set", code="no-limit")
    await app.store.write(records.put_setting, setting, app.clock())
