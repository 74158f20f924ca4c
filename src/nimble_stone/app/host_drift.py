"""Rules that hosts of a deployment break now and kept when its nodes were built."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

from nimble_stone.app import host_rules
from nimble_stone.app.application import Application
from nimble_stone.app.claims import own_runs
from nimble_stone.app.estate import estate_of
from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.deployment import BuiltNode
from nimble_stone.core.drift import Drift, of_hosts
from nimble_stone.core.estate import Facts
from nimble_stone.core.estate_rules import Violation
from nimble_stone.engine.frozen import thawed
from nimble_stone.engine.survey import read_hosts
from nimble_stone.store import records, runs

PLACE = "ground/"
"""Below which it is kept, by plan, which rules its hosts broke when they were built upon."""
FRESH_S = 60.0
"""Facts of a host that are no older than this are not read again: it may carry many deployments."""


@dataclass(frozen=True)
class Built:
    """What was so at the end of a run: host → rules that it broke."""

    run: str
    broken: Mapping[str, Collection[str]]


@dataclass(frozen=True)
class Seen:
    """Hosts as they are: what breaks rules, and which could not be read, with the reason."""

    violations: Sequence[Violation]
    silent: Mapping[str, str]


async def kept(app: Application, plan: str) -> Built:
    """What was kept last; of no run when there is nothing."""
    text = await app.store.read(records.get_meta, PLACE + plan)
    return Built(**json.loads(text)) if text else Built("", {})


async def keep(app: Application, plan: str, stands: Mapping[str, BuiltNode]) -> Built:
    """Keep which rules the hosts break that a plan's newest run worked on, once after it has ended.
    Of a host that cannot be read then, nothing is known, and nothing is told later.
    """
    before, newest = await kept(app, plan), (await own_runs(app, plan))[0]
    if before.run == newest:
        return before
    frozen = await thawed(app.store, await app.store.read(runs.get_run, newest))
    touched = {step.host for step in frozen.steps.values()}
    hosts = _hosts(stands)
    fresh = {host for host in hosts if host in touched or host not in before.broken}
    seen = await _seen(app, fresh)
    broken = {host: list(rules) for host, rules in before.broken.items() if host in hosts - fresh}
    for host in fresh - seen.silent.keys():
        broken[host] = sorted({one.rule for one in seen.violations if one.host == host})
    text = json.dumps({"run": newest, "broken": broken})
    await app.store.write(records.put_meta, PLACE + plan, text)
    return Built(newest, broken)


async def read(
    app: Application, plan: str, stands: Mapping[str, BuiltNode], before: Iterable[Drift]
) -> list[Verdict]:
    """What breaks rules now and did not before, by host. Hosts are only read."""
    built = await keep(app, plan, stands)
    known = _hosts(stands) & built.broken.keys()
    seen = await _seen(app, known)
    broken = {host: built.broken[host] for host in sorted(known)}
    return of_hosts(broken, seen.violations, seen.silent, before)


def _hosts(stands: Mapping[str, BuiltNode]) -> set[str]:
    """Those that carry nodes; bare machines have rules of their own, by what a person reads."""
    return {one.node.value("host") for one in stands.values() if not one.node.on_machine}


async def _seen(app: Application, names: Collection[str]) -> Seen:
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
    return Seen(await host_rules.violations(app, estate, names) if names else [], silent)


def _is_fresh(facts: Facts | None, now: float) -> bool:
    return facts is not None and not facts.trouble and now - facts.read_at < FRESH_S
