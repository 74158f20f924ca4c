"""Rules that hosts of a deployment break now and kept when its nodes were built."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

from nimble_stone.app import host_rules
from nimble_stone.app.application import Application
from nimble_stone.app.estate import estate_of
from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.deployment import BuiltNode
from nimble_stone.core.drift import Drift, of_hosts
from nimble_stone.core.estate import Facts
from nimble_stone.core.estate_rules import Violation
from nimble_stone.engine.survey import read_hosts
from nimble_stone.store import records
from nimble_stone.store.drift import GROUND

FRESH_S = 60.0
"""Facts of a host that are no older than this are not read again: it may carry many deployments."""


@dataclass(frozen=True)
class Seen:
    """Hosts as they are: what breaks rules, and which could not be read, with the reason."""

    violations: Sequence[Violation]
    silent: Mapping[str, str]


async def keep(
    app: Application, plan: str, stands: Mapping[str, BuiltNode]
) -> Mapping[str, Sequence[str]]:
    """Keep which rules the hosts break that carry nodes of a deployment for the first time; host →
    rules. What a host breaks later stays a difference, whatever runs work on it meanwhile. One that
    cannot be read is kept at the next time.
    """
    hosts = _hosts(stands)
    text = await app.store.read(records.get_meta, GROUND + plan)
    known: dict[str, list[str]] = json.loads(text) if text else {}
    if hosts == known.keys():
        return known
    new = hosts - known.keys()
    seen = await _seen(app, new)
    built = {host: rules for host, rules in known.items() if host in hosts}
    for host in new - seen.silent.keys():
        built[host] = sorted({one.rule for one in seen.violations if one.host == host})
    await app.store.write(records.put_meta, GROUND + plan, json.dumps(built))
    return built


async def read(
    app: Application, plan: str, stands: Mapping[str, BuiltNode], before: Iterable[Drift]
) -> list[Verdict]:
    """What breaks rules now and did not before, by host. Hosts are only read."""
    built = await keep(app, plan, stands)
    seen = await _seen(app, built.keys())
    return of_hosts(built, seen.violations, seen.silent, before)


def _hosts(stands: Mapping[str, BuiltNode]) -> set[str]:
    """Those that carry nodes; bare machines have rules of their own, by what a person reads."""
    return {one.node.value("host") for one in stands.values() if not one.node.on_machine}


async def _seen(app: Application, names: Collection[str]) -> Seen:
    if not names:
        return Seen((), {})
    estate = await estate_of(app)
    now = app.clock()
    old = [
        host
        for host in estate.hosts
        if host.name in names and not _is_fresh(estate.facts.get(host.name), now)
    ]
    fresh = await read_hosts(app, old, dict(estate.facts))
    silent = {name: facts.trouble for name, facts in fresh.items() if facts.trouble}
    estate = await estate_of(app)
    return Seen(await host_rules.violations(app, estate, names), silent)


def _is_fresh(facts: Facts | None, now: float) -> bool:
    return facts is not None and not facts.trouble and now - facts.read_at < FRESH_S
