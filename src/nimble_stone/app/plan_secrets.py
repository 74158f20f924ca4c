"""What is said of the secrets and certificates that a plan names, without showing them."""

from __future__ import annotations

from nimble_stone.app.application import Application
from nimble_stone.core import grants, secrets_rule
from nimble_stone.core.errors import Denied, FormatError, NotFound
from nimble_stone.core.estate import Estate
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.engine.certificates import names
from nimble_stone.keyring import certificates
from nimble_stone.store import entries


async def withheld_secrets(app: Application, sheet: Sheet, estate: Estate) -> dict[str, str]:
    """Reference → whose the entry is, for entries that the sheet names and the plan may not
    open.
    """
    granted = await app.store.read(entries.granted, sheet.plan.name)
    named = {node.value(column) for column in _secret_columns(sheet) for node in sheet.nodes}
    found = {}
    for reference in named:
        name = reference.removeprefix(grants.PREFIX)
        if reference.startswith(grants.PREFIX) and not grants.may_open(
            sheet.plan.name, name, granted
        ):
            found[reference] = grants.owner_of(name, estate)
    return found


def _secret_columns(sheet: Sheet) -> list[str]:
    """Columns whose cells may name keyring entries."""
    return [
        *(column.id for column in sheet.columns if column.kind == "secret"),
        *(f"certificate.{one.id}" for one in sheet.kit.certificates),
    ]


async def secret_verdicts(app: Application, sheet: Sheet) -> dict[str, tuple[str, ...]]:
    """Reference → what the secret lacks. Secrets are opened here and go no further."""
    verdicts: dict[str, tuple[str, ...]] = {}
    for column in sheet.columns:
        if column.kind == "secret":
            for reference in {node.value(column.id) for node in sheet.nodes} - {""}:
                try:
                    verdicts[reference] = tuple(
                        secrets_rule.violations(
                            await app.open_for_plan(sheet.plan.name, reference), column.rule
                        )
                    )
                except (NotFound, Denied):
                    continue
    return verdicts


async def pair_verdicts(app: Application, sheet: Sheet) -> dict[str, dict[str, tuple[str, ...]]]:
    """Reference of a certificate → node id → what is wrong with it there. Pairs are opened here and
    go no further.
    """
    found: dict[str, dict[str, tuple[str, ...]]] = {}
    for wanted in sheet.kit.certificates:
        for node in sheet.nodes:
            reference = node.value(f"certificate.{wanted.id}")
            if not reference.startswith("keyring:"):
                continue
            try:
                pair = certificates.unpacked(await app.open_for_plan(sheet.plan.name, reference))
            except (NotFound, Denied, FormatError):
                continue
            found.setdefault(reference, {})[node.id] = tuple(
                certificates.faults(pair, names(sheet, node, wanted), app.clock())
            )
    return found
