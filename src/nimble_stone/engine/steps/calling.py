"""Requests of the kit's order: a token, a join, the cluster."""

from __future__ import annotations

from nimble_stone.core.errors import RemoteTimeout, Unreachable
from nimble_stone.core.kit.model import Call, Forming
from nimble_stone.engine.filling import fill, fill_command, kept_name
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.engine.steps.waiting import matches, still_there


def forming_of(c: Context) -> Forming:
    """The kit's forming step."""
    return next(
        forming for forming in c.run.sheet.kit.forming if forming.id == c.step.detail["forming"]
    )


class Calling:
    """A request of the kit's forming: its token, its join, the cluster."""

    async def observe(self, c: Context) -> Found | None:
        """What the kit says tells that it has happened; a GET tells by itself."""
        forming = forming_of(c)
        if forming.observe is not None:
            return (
                {}
                if matches(await self._send(c, forming.observe), forming.observe.confirm)
                else None
            )
        if forming.call.method == "GET" and not forming.call.ssh:
            return await self._kept(c, forming.call, await self._send(c, forming.call))
        return {} if c.acted and matches(c.answer, forming.call.confirm) else None

    async def _kept(self, c: Context, call: Call, answer: Found) -> Found | None:
        if not matches(answer, call.confirm) or not all(
            str(answer.get(member) or "") for member in call.keep.values()
        ):
            return None
        for name, member in call.keep.items():
            await c.ports.keep_secret(kept_name(c.run.id, name), str(answer[member]), "token")
        return {"kept": sorted(call.keep)} if call.keep else {}

    async def _send(self, c: Context, call: Call) -> Found:
        try:
            return await self._sent(c, call)
        except (Unreachable, RemoteTimeout):
            # a node that is gone is no node that is silent
            await still_there(c)
            raise

    async def _sent(self, c: Context, call: Call) -> Found:
        if call.ssh:
            return await (await c.door(c.node)).shell(await fill_command(c, call.ssh))
        body = {key: await fill(c, text) for key, text in call.body.items()}
        return await (await c.door(c.node)).call(
            call.method, call.path, login=call.login, body=body or None, secret=call.keep.values()
        )

    async def act(self, c: Context) -> None:
        """Send it; a GET was sent by observing."""
        call = forming_of(c).call
        if call.method != "GET" or call.ssh:
            c.answer = await self._send(c, call)

    async def undo(self, c: Context) -> str:
        """It goes with the guests."""
        return ""


KINDS: dict[str, Kind] = {"call": Calling()}
