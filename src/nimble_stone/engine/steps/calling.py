"""Requests of the kit's order: a first password, a token, a join, the cluster."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping

from nimble_stone.core.errors import LoginRefused, RemoteFailed, RemoteTimeout, Unreachable
from nimble_stone.core.kit.calls import Call, FirstPassword, kept_file
from nimble_stone.core.kit.setup import ITEM, Forming
from nimble_stone.core.plan.filled import value_of
from nimble_stone.core.reply import Reply
from nimble_stone.engine.filling import fill, kept_name, read
from nimble_stone.engine.peers import Credential, asked, system_of
from nimble_stone.engine.speaking import Speaker
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.engine.steps.membership import taken_out
from nimble_stone.engine.steps.told import lacking
from nimble_stone.engine.steps.waiting import still_there


def forming_of(c: Context) -> Forming:
    """The kit's forming step."""
    return next(
        forming for forming in c.run.sheet.kit.forming if forming.id == c.step.detail["forming"]
    )


def items(c: Context, forming: Forming) -> list[dict[str, str]]:
    """What the call is sent for: nothing in particular, or each value of a setting."""
    if forming.over is None:
        return [{}]
    text = value_of(forming.over, c.node, c.run.sheet)
    values = dict.fromkeys(filter(None, map(str.strip, re.split("[,\n]", text))))
    return [{ITEM: value} for value in values]


class Calling:
    """A request of the kit's forming: its token, its join, the cluster."""

    async def observe(self, c: Context) -> Found | None:
        """What the kit says tells that it has happened; a GET tells by itself."""
        forming = forming_of(c)
        if forming.observe is not None:
            return await self._observed(c, forming, forming.observe)
        if forming.call.only_reads:
            return await self._kept(c, forming.call, await self._send(c, forming.call, {}))
        if not c.acted or "reply" not in c.answer:
            return None
        return await self._kept(c, forming.call, c.answer["reply"])

    async def _observed(self, c: Context, forming: Forming, asks: Call) -> Found | None:
        """What the kit's own question tells, and what is kept of its answer; where that keeps
        nothing, of the answer to the call of this attempt.
        """
        found: Found = {}
        for item in items(c, forming):
            answer = await self._send(c, asks, item)
            if await self._told(c, asks, answer, item):
                return None
            if asks.keeps:
                if (kept := await self._kept(c, asks, answer)) is None:
                    return None
                found |= kept
        if not asks.keeps and "reply" in c.answer:
            if (kept := await self._kept(c, forming.call, c.answer["reply"])) is None:
                return None
            found |= kept
        return found | await self._made(c, forming)

    async def _made(self, c: Context, forming: Forming) -> Found:
        """What it made outside the plan, for the journal."""
        made = c.ports.blank(await fill(c, forming.makes)) if forming.makes else ""
        system = system_of(c.run, forming.asks)
        if not made or system is None:
            return {}
        return {"way": f"{system.label}: {made}"[:200], "system": system.id}

    async def _lacks(self, c: Context, call: Call, known: Mapping[str, str]) -> str:
        """What the answer lacks of what the call confirms, '' nothing; it is shown."""
        return await self._told(c, call, await self._send(c, call, known), known)

    async def _told(self, c: Context, call: Call, answer: Reply, known: Mapping[str, str]) -> str:
        lacks = await lacking(c, answer, call, known)
        if lacks:
            c.tell(words=c.ports.blank(lacks))
        return lacks

    async def _kept(self, c: Context, call: Call, answer: Reply) -> Found | None:
        if await self._told(c, call, answer, {}):
            return None
        for name, what in call.keep.items():
            value = await read(c, answer, what)
            if not value:
                c.tell(words=f"wanted {what}, got nothing")
                return None
            await c.ports.keep_secret(kept_name(c.run.id, name), value, "token")
            if system_of(c.run, forming_of(c).asks):
                # such as the id of this node's record there, which its undo needs
                own = kept_name(c.run.id, name, c.node.id)
                await c.ports.keep_secret(own, value, "token")
        for name, data in answer.files.items():
            kept = base64.b64encode(data).decode()
            await c.ports.keep_secret(kept_name(c.run.id, kept_file(name)), kept, "file")
        return {"kept": sorted(call.keeps)} if call.keeps else {}

    async def _send(self, c: Context, call: Call, known: Mapping[str, str]) -> Reply:
        asks = forming_of(c).asks
        try:
            return await Speaker(c, c.record, peer=asked(c, asks)).send(call, known=known)
        except (Unreachable, RemoteTimeout):
            if system_of(c.run, asks):
                raise
            # a node that is gone is no node that is silent
            await still_there(c)
            raise

    async def act(self, c: Context) -> None:
        """Send it, for each value that it has not been done for; a GET was sent by observing.
        Raises RemoteFailed when a value is not taken: the next ones are not tried.
        """
        forming = forming_of(c)
        if forming.over is None:
            if forming.observe is not None or not forming.call.only_reads:
                c.answer["reply"] = await self._send(c, forming.call, {})
            return
        assert forming.observe is not None
        wanted = items(c, forming)
        for number, item in enumerate(wanted):
            c.tell(done=number, total=len(wanted))
            if await self._lacks(c, forming.observe, item):
                answer = await self._send(c, forming.call, item)
                if lacks := await self._told(c, forming.call, answer, item):
                    raise RemoteFailed(
                        f"{c.node.name}: {item[ITEM][:80]}: {c.ports.blank(lacks)}",
                        target=c.node.name,
                        hint="Correct the setting, then retry.",
                    )

    async def undo(self, c: Context) -> str:
        """It goes with the guests. A node that was added to a cluster which stays leaves it
        first.
        """
        forming = forming_of(c)
        if forming.undo is not None:
            return await self._removed(c, forming)
        return await taken_out(c, forming.id)

    async def _removed(self, c: Context, forming: Forming) -> str:
        """What was made in a system outside the plan is removed there. Raises RemoteFailed where it
        is there afterwards still.
        """
        assert forming.observe is not None
        assert forming.undo is not None
        if c.run.change is not None and not c.step.node:
            # the deployment stays, and with it what was made for all of it
            return ""
        said = []
        for item in items(c, forming):
            if await self._lacks(c, forming.observe, item):
                continue
            await self._send(c, forming.undo, item)
            if not await self._lacks(c, forming.observe, item):
                raise RemoteFailed(
                    f"{asked(c, forming.asks).name} still has what “{forming.label}” made for"
                    f" {c.node.name}",
                    target=asked(c, forming.asks).name,
                    hint="Remove it there, then retry.",
                )
            made = await fill(c, forming.makes, known=item) if forming.makes else "it"
            said.append(c.ports.blank(made))
        gone = ", ".join(said)[:200]
        return f"{asked(c, forming.asks).name}: {gone} removed" if gone else ""


class FirstPasswordChange:
    """The password of a fresh product becomes the administrator's of the plan."""

    async def observe(self, c: Context) -> Found | None:
        """The administrator's password is taken. That it is not yet, is no trouble before it was
        changed.
        """
        try:
            await Speaker(c, c.record).opens()
        except (LoginRefused, RemoteFailed) as error:
            c.tell(words=c.ports.blank(str(error))[:200])
            return None
        return {}

    async def act(self, c: Context) -> None:
        """Log in by the first password, and change it. Raises RemoteFailed where that is not taken
        either.
        """
        first = needed(c)
        kit = c.run.sheet.kit
        login = Credential(first.user or kit.admin, first.password)
        try:
            await Speaker(c, c.record, login).send(first.change)
        except RemoteFailed as error:
            raise RemoteFailed(
                f"{c.node.name} takes neither the administrator's password nor its first one:"
                f" {error}",
                target=c.node.name,
                code="first-password",
                hint="Set the administrator's password on the node, then retry.",
            ) from error

    async def undo(self, c: Context) -> str:
        """It goes with the guests."""
        return ""


def needed(c: Context) -> FirstPassword:
    """What the kit says of it. Raises RemoteFailed where it says nothing."""
    found = c.run.sheet.kit.access.first_password
    if found is None:
        raise RemoteFailed(
            f"the kit names no first password for {c.node.name}", code="first-password"
        )
    return found


KINDS: dict[str, Kind] = {"call": Calling(), "first-password": FirstPasswordChange()}
