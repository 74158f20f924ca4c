"""What a person may do with a run, and what is kept of it: transcript, acceptance, console."""

from __future__ import annotations

import datetime
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass

from nimble_stone.app import built_hosts, former
from nimble_stone.app.application import Application
from nimble_stone.core import report
from nimble_stone.core.acceptance import Verdict, totals, verdict_of
from nimble_stone.core.acceptance.compared import VARIES, Comparison, compare
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.runs.states import RunState
from nimble_stone.engine.engine import Engine
from nimble_stone.engine.frozen import FrozenRun, thawed
from nimble_stone.store import runs
from nimble_stone.store.runs import RunRow


@dataclass(frozen=True)
class RunArguments:
    """What a request says: steps, the reason for skipping, by how many seconds to extend."""

    steps: Sequence[str] = ()
    reason: str = ""
    seconds: float = 600.0

    def one_step(self) -> str:
        """The one step it names. Raises InputError."""
        if len(self.steps) != 1:
            raise InputError("Name one step.", code="one-step")
        return self.steps[0]


async def _skip(engine: Engine, ident: str, wanted: RunArguments) -> None:
    if not wanted.reason.strip():
        raise InputError("Skipping a step needs a reason.", code="skip-reason")
    await engine.skip(ident, wanted.one_step(), wanted.reason)


REQUESTS: Mapping[str, Callable[[Engine, str, RunArguments], Awaitable[None]]] = {
    "hold": lambda engine, ident, _: engine.hold(ident),
    "resume": lambda engine, ident, _: engine.resume(ident),
    "resume-retry": lambda engine, ident, _: engine.resume_and_retry(ident),
    "retry": lambda engine, ident, wanted: engine.retry(ident, list(wanted.steps)),
    "skip": _skip,
    "extend": lambda engine, ident, wanted: engine.extend(ident, wanted.one_step(), wanted.seconds),
    "end-wait": lambda engine, ident, wanted: engine.end_wait(ident, wanted.one_step()),
    "undo": lambda engine, ident, _: engine.undo(ident),
    "prove": lambda engine, ident, _: engine.prove(ident),
}
"""What a person may do with a run."""


async def request(
    app: Application, engine: Engine, ident: str, what: str, wanted: RunArguments
) -> None:
    """Do it. Raises NotFound for an unknown run or word, InputError, Conflict."""
    await rollout_row(app, ident)
    if what == "undo":
        await former.check_kept(app, ident)
        await built_hosts.check_unused(app, ident)
        await _check_newest(app, ident, f"Roll back {LATER} first.")
    if what == "prove":
        # what was built then is not what stands now
        await _check_newest(app, ident, f"Run the checks of {LATER}.")
    work = REQUESTS.get(what)
    if work is None:
        raise NotFound(f"a run cannot {what}")
    await work(engine, ident, wanted)


LATER = "{later}"


async def _check_newest(app: Application, ident: str, hint: str) -> None:
    """Only the newest run of a deployment knows all of it, and runs are rolled back in the opposite
    order. Raises Conflict.
    """
    plan = (await app.store.read(runs.get_run, ident)).plan
    rows = await app.store.read(runs.of_plan, plan)
    standing = [row.id for row in rows if row.state != RunState.UNDONE]
    if ident in standing[:-1]:
        raise Conflict(
            f"Run {standing[-1]} changed what run {ident} built.",
            code="run-changed",
            hint=hint.replace(LATER, standing[-1]),
        )


async def rollout_row(app: Application, ident: str) -> RunRow:
    """A rollout's row. Raises NotFound, also for a run that prepares hosts."""
    row = await app.store.read(runs.get_run, ident)
    if row.kind != "rollout":
        raise NotFound(
            f"Run {ident} prepares hosts; it is not a rollout.",
            code="run-prepares",
            hint=f"See /api/groundwork/{ident}, or `nimble-stone estate preparations`.",
        )
    return row


async def console(app: Application, ident: str, node: str) -> str:
    """The end of a node's serial console, secrets blanked; '' when there is none. Raises NotFound,
    and what the host's driver raises.
    """
    frozen = await thawed(app.store, await rollout_row(app, ident))
    found = frozen.sheet.node(node)
    if found is None:
        raise NotFound("no such node")
    if found.on_machine:
        raise NotFound(
            f"{found.name} is on a bare machine", hint="Its console is on the machine's controller."
        )
    host = await app.driver(await app.host(found.value("host")))
    return app.blank(await host.vms.console(found.name))


async def transcript_text(app: Application, ident: str, step: str) -> AsyncIterator[str]:
    """All commands and answers of a step, or of all steps, as text, page by page."""
    after = 0
    while page := await app.store.read(runs.transcript, ident, step, after):
        for entry in page:
            moment = datetime.datetime.fromtimestamp(entry["at"], datetime.UTC)
            times = f" ({entry['times']} times)" if entry["times"] > 1 else ""
            yield (
                f"{moment:%Y-%m-%d %H:%M:%S UTC} {entry['step']} {entry['target']}$"
                f" {entry['command']}{times}\n{entry['answer']}\n"
                f"(status {entry['status']}, {entry['seconds']:.2f} s)\n\n"
            )
        after = page[-1]["id"]


@dataclass(frozen=True)
class Rounds:
    """The two newest rounds of acceptance checks of a run, compared. Instants in seconds; `before`
    is None where there was only one.
    """

    at: float
    before: float | None
    found: Comparison


async def compared(app: Application, ident: str) -> Rounds:
    """Raises NotFound when no checks ran yet."""
    row = await rollout_row(app, ident)
    rounds = await app.store.read(runs.last_two_proofs, ident)
    if not rounds:
        raise NotFound(
            "no acceptance checks ran yet", hint="Acceptance checks run at the end of a run."
        )
    at, now = rounds[0]
    if len(rounds) == 1:
        return Rounds(at, None, Comparison((), ()))
    kit = (await thawed(app.store, row)).sheet.kit
    varying = {one.id for one in kit.acceptance if one.kind in VARIES}
    before, old = rounds[1]
    found = compare([verdict_of(one) for one in old], [verdict_of(one) for one in now], varying)
    return Rounds(at, before, found)


@dataclass(frozen=True)
class Acceptance:
    """The last acceptance results of a run. `at`: UTC, ISO 8601."""

    row: RunRow
    frozen: FrozenRun
    at: str
    verdicts: list[Verdict]

    def sentence(self) -> str:
        """“2 of 39 acceptance checks failed, 1 could not run.”"""
        count = totals(self.verdicts)
        if count["passed"] == len(self.verdicts):
            return f"All {len(self.verdicts)} acceptance checks passed."
        not_run = f", {count['open']} could not run" if count["open"] else ""
        return f"{count['failed']} of {len(self.verdicts)} acceptance checks failed{not_run}."

    def junit(self) -> bytes:
        """The results as JUnit XML."""
        title = f"{self.row.plan} run {self.row.id}"
        return report.junit(title, self.at, self.verdicts, self._names())

    def html(self) -> str:
        """The results as a page."""
        title = f"{self.frozen.sheet.plan.title or self.row.plan} · acceptance"
        return report.html(title, self.sentence(), self.at, self.verdicts, self._names())

    def _names(self) -> dict[str, str]:
        return {node.id: node.name for node in self.frozen.sheet.nodes}


async def acceptance(app: Application, ident: str) -> Acceptance:
    """The last results. Raises NotFound when no checks ran yet."""
    row = await rollout_row(app, ident)
    frozen = await thawed(app.store, row)
    found = await app.store.read(runs.last_proofs, ident)
    if found is None:
        raise NotFound(
            "no acceptance checks ran yet", hint="Acceptance checks run at the end of a run."
        )
    at, items = found
    moment = datetime.datetime.fromtimestamp(at, datetime.UTC)
    verdicts = [verdict_of(item) for item in items]
    return Acceptance(row, frozen, f"{moment:%Y-%m-%dT%H:%M:%SZ}", verdicts)
