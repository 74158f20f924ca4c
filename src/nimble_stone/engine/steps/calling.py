"""Requests of the kit's order: a first password, a token, a join, the cluster."""

from __future__ import annotations

import re
from collections.abc import Mapping

from nimble_stone.core import reply
from nimble_stone.core.errors import LoginRefused, RemoteFailed, RemoteTimeout, Unreachable
from nimble_stone.core.kit.calls import Call, FirstPassword
from nimble_stone.core.kit.model import ITEM, Forming
from nimble_stone.core.plan.filled import value_of
from nimble_stone.core.reply import Reply
from nimble_stone.engine.filling import kept_name
from nimble_stone.engine.speaking import Login, Speaker
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.engine.steps.leaving import left, let_go
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
            for item in items(c, forming):
                if await self._lacks(c, forming.observe, item):
                    return None
            return {}
        if forming.call.method == "GET" and not forming.call.ssh:
            return await self._kept(c, forming.call, await self._send(c, forming.call, {}))
        if not c.acted or "reply" not in c.answer:
            return None
        return await self._kept(c, forming.call, c.answer["reply"])

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
            value = reply.read(answer, what)
            if not value:
                c.tell(words=f"wanted {what}, got nothing")
                return None
            await c.ports.keep_secret(kept_name(c.run.id, name), value, "token")
        return {"kept": sorted(call.keep)} if call.keep else {}

    async def _send(self, c: Context, call: Call, known: Mapping[str, str]) -> Reply:
        first = c.run.sheet.nodes[0] if forming_of(c).asks == "first" else None
        try:
            return await Speaker(c, c.record, asked=first).send(call, known=known)
        except (Unreachable, RemoteTimeout):
            # a node that is gone is no node that is silent
            await still_there(c)
            raise

    async def act(self, c: Context) -> None:
        """Send it, for each value that it has not been done for; a GET was sent by observing.
        Raises RemoteFailed when a value is not taken: the next ones are not tried.
        """
        forming = forming_of(c)
        if forming.over is None:
            if forming.call.method != "GET" or forming.call.ssh:
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
        if c.run.change is None or c.node.id not in c.run.change.adds:
            return ""
        ident = c.step.detail["forming"]
        one = next((one for one in c.run.sheet.kit.leaving if one.undoes == ident), None)
        if one is None or await left(c, one):
            return ""
        await let_go(c, one)
        return f"{c.node.name} left the cluster"


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
        login = Login(first.user or kit.admin, first.password)
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
