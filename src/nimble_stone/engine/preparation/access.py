"""How a host is logged in to: keys, and whether passwords are taken."""

from __future__ import annotations

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict, RemoteFailed, StoneError
from nimble_stone.core.estate import EstateFile
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.preparation.context import Context, Found, Plain
from nimble_stone.reach import Credential, Target
from nimble_stone.store import entries, records, runs


class Key(Plain):
    """A key on the host, and we log in by it."""

    async def _logs_in(self, c: Context, credential: str) -> bool:
        host = await c.estate_host()
        found = await c.ports.store.read(entries.get_secret, credential)
        if found is None:
            return False
        value = await c.ports.open_secret(credential)
        login = (
            Credential(host.user, key=value) if found[0] == "key" else Credential(host.user, value)
        )
        pinned = (await c.ports.store.read(records.pins)).get(f"{host.address}:{host.port}", "")
        try:
            answer = await c.ports.reach.ssh.try_out(
                Target(host.name, host.address, host.port, login),
                pinned,
                "id -u",
            )
        except StoneError:
            return False
        return answer.status == 0

    async def observe(self, c: Context) -> Found | None:
        """The key is in the file, it opens the door, and the estate says so."""
        action = c.action
        assert isinstance(action, prep.AddKey)
        if not await c.host.preparation.has_key(action.public):
            return None
        if (await c.estate_host()).credential != action.credential or not await self._logs_in(
            c, action.credential
        ):
            return None
        return {"key": action.credential}

    async def act(self, c: Context) -> None:
        """Put it there, try it, and only then log in by it."""
        action = c.action
        assert isinstance(action, prep.AddKey)
        if not await c.host.preparation.has_key(action.public):
            await super().act(c)
        if not await self._logs_in(c, action.credential):
            raise RemoteFailed(
                f"{c.step.host}: the key is in the file, but the host does not accept it",
                target=c.step.host,
                hint=(
                    "See whether its SSH server allows keys and where it looks for them"
                    " (AuthorizedKeysFile); the login stays as it was."
                ),
            )
        host = await c.estate_host()
        await c.ports.store.write(
            records.merge_estate,
            EstateFile(hosts=(host.model_copy(update={"credential": action.credential}),)),
        )

    async def undo(self, c: Context) -> str:
        """Back to the login before, if that still works."""
        if not await c.ports.store.read(runs.acted, c.run, c.step.key):
            return f"{c.step.label}: it was so before and stays"
        before = c.step.detail["login"]
        if not await self._logs_in(c, before):
            raise Conflict(
                f"{c.step.host} no longer accepts the previous login; without the key no login"
                " would be possible",
                code="login-gone",
                hint=(
                    "Let it take passwords again, or correct the keyring; then take the run back"
                    " again."
                ),
            )
        host = await c.estate_host()
        await c.ports.store.write(
            records.merge_estate,
            EstateFile(hosts=(host.model_copy(update={"credential": before}),)),
        )
        for command in c.work.undo():
            await c.host.preparation.send(command)
        return f"{c.step.label}: rolled back"


class Passwords(Plain):
    """Keys only."""

    async def observe(self, c: Context) -> Found | None:
        """The SSH server says so itself."""
        takes = await c.host.preparation.takes_passwords()
        return {"passwords": "refused"} if takes is False else None

    async def act(self, c: Context) -> None:
        """Not while we need one ourselves."""
        host = await c.estate_host()
        found = await c.ports.store.read(entries.get_secret, host.credential)
        if found is None or found[0] != "key":
            raise Conflict(
                f"{c.step.host}: the login uses a password",
                code="needs-password",
                hint="Put a key on it first.",
            )
        await super().act(c)


KINDS: dict[str, Kind] = {"ssh-key": Key(), "refuse-passwords": Passwords()}
