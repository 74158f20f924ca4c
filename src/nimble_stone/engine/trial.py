"""A kit's calls tried on one real node, one after the other: what is asked, what it answers, and
what the kit takes from that.
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import dataclass, field

from nimble_stone.core import acceptance
from nimble_stone.core.errors import StoneError
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.kit.setup import Forming
from nimble_stone.core.plan.sheet import Node, holding
from nimble_stone.core.redaction import BLANK
from nimble_stone.core.reply import Reply
from nimble_stone.engine.acceptance import prove
from nimble_stone.engine.filling import fill_reading, kept_name, read
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.peers import At, asked
from nimble_stone.engine.speaking import Speaker, close
from nimble_stone.engine.steps.told import lacking
from nimble_stone.ports.ports import Ports

MOST_SHOWN = 4000
"""Characters of a question or an answer that are shown."""


@dataclass
class Tried:
    """One call. `what`: the step or check it is for; `asked`, `answered`: the exact texts, secrets
    blanked; `taken`: what was read → its value; `wrong`: what is not as the kit wants it, ''
    nothing; `skipped`: why it was not sent, '' it was.
    """

    what: str
    asked: str = ""
    answered: str = ""
    status: int = 0
    taken: dict[str, str] = field(default_factory=dict)
    wrong: str = ""
    skipped: str = ""


class Trial:
    """The calls of a kit to the first node of a run that is none: nothing of it is journaled.
    `changes`: setup steps are sent, not only asked about.
    """

    def __init__(self, ports: Ports, run: FrozenRun, *, changes: bool) -> None:
        self._ports, self._run, self._changes = ports, run, changes
        self._at = At(ports, run, run.sheet.nodes[0])

    async def calls(self) -> AsyncIterator[Tried]:
        """Each as it has been answered: the service, setup steps, acceptance checks."""
        kit, node = self._run.sheet.kit, self._run.sheet.nodes[0]
        yield await self._service()
        for step in kit.forming:
            if step.role not in ("cluster", *node.roles):
                continue
            if not holding(self._run.sheet, [node], step.when):
                yield Tried(step.label, skipped=f"not for this node: {step.when}")
                continue
            async for one in self._step(step):
                yield one
        for check in kit.acceptance:
            if check.kind in ("call", "series") and check.call is not None:
                yield await self._check(check.id)
            elif check.kind == "workload":
                yield await self._workload(check.id)
        await close(self._ports, self._run)

    async def _service(self) -> Tried:
        """What tells that the node is ready, and who it is."""
        service = self._run.sheet.kit.service
        prints = {"ssh": service.ssh, "prints": "answer", "login": True} if service.ssh else {}
        call = Call.model_validate(prints or {"path": service.path, "login": False})
        call = call.model_copy(update={"confirm": dict(service.ready)})
        found, reply = await self._sent("Service", call)
        if reply is None:
            return found
        for what, reading in service.identity.items():
            found.taken[f"{what} ({reading})"] = await read(self._at, reply, reading) or "nothing"
        return found

    async def _step(self, step: Forming) -> AsyncIterator[Tried]:
        if step.over is not None:
            yield Tried(step.label, skipped=f"goes over the values of {step.over}")
            return
        is_done = False
        if step.observe is not None:
            found, _ = await self._sent(f"{step.label}: done already?", step.observe, step.asks)
            is_done = not found.wrong
            yield found
        if is_done:
            return
        if not self._changes and not step.call.only_reads:
            yield Tried(step.label, step.call.words(), skipped="it changes the node: add --changes")
            return
        yield (await self._sent(step.label, step.call, step.asks))[0]

    async def _check(self, ident: str) -> Tried:
        [check] = [one for one in self._run.sheet.kit.acceptance if one.id == ident]
        assert check.call is not None
        found, reply = await self._sent(check.label, check.call, check.asks)
        if reply is None or check.kind != "call":
            return found
        value = await read(self._at, reply, check.value) if check.value else str(reply.status)
        found.taken[check.value or "status"] = self._ports.blank(value or "nothing")
        for item in acceptance.expectations(self._run.sheet):
            if item.proof == ident:
                # judged by the answer that is shown
                verdict = acceptance.judge(item, acceptance.Answer(value, found.asked))
                wrong = f"wanted {verdict.expected}, got {verdict.found}"
                found.wrong = found.wrong or ("" if verdict.passed else self._ports.blank(wrong))
        return found

    async def _workload(self, ident: str) -> Tried:
        [check] = [one for one in self._run.sheet.kit.acceptance if one.id == ident]
        if not self._changes:
            return Tried(check.label, skipped="it writes to the node: add --changes")
        [verdict] = await prove(self._ports, self._run, {ident})
        wrong = "" if verdict.passed else verdict.found
        return Tried(check.label, verdict.how, verdict.found, wrong=self._ports.blank(wrong))

    async def _sent(
        self, what: str, call: Call, asks: str = "itself"
    ) -> tuple[Tried, Reply | None]:
        """A call, its answer, and what was taken of it."""
        found = Tried(what)

        def record(target: str, command: str, answer: str, status: int, seconds: float) -> None:
            del target, seconds
            found.asked = self._ports.blank(command)[:MOST_SHOWN]
            found.answered = self._ports.blank(answer)[:MOST_SHOWN]
            found.status = status

        try:
            reply = await Speaker(self._at, record, peer=asked(self._at, asks)).send(call)
            for reading in call.confirm:
                value = await read(self._at, reply, reading) or "nothing"
                asked_for = await fill_reading(self._at, reading)
                found.taken[self._ports.blank(asked_for)] = self._ports.blank(value)
            await self._kept(call, reply, found)
            found.wrong = self._ports.blank(await lacking(self._at, reply, call))
            return found, reply
        except StoneError as error:
            found.asked = found.asked or call.words()
            found.wrong = self._ports.blank(str(error))
            return found, None

    async def _kept(self, call: Call, reply: Reply, found: Tried) -> None:
        """What is kept is there for later calls, and not shown."""
        for name, reading in call.keep.items():
            value = await read(self._at, reply, reading)
            found.taken[f"{reading} as {{kept.{name}}}"] = BLANK if value else "nothing"
            if value:
                await self._ports.keep_secret(kept_name(self._run.id, name), value, "token")


def of_one(nodes: tuple[Node, ...], role: str) -> tuple[Node, ...]:
    """The first node of a role alone, '' of any."""
    return tuple(node for node in nodes if not role or node.has_any((role,)))[:1]
