"""Calls by SSH: files that are put onto a node, and the command or script that runs there, as who
logs in or as root by sudo.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from dataclasses import replace

from nimble_stone.core import shell_words
from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.kit.calls import Call, PutFile, kept_file
from nimble_stone.core.redaction import shortened
from nimble_stone.core.reply import Reply
from nimble_stone.engine.filling import Filler, fill, fill_command, value
from nimble_stone.hosts.node import NodeDoor
from nimble_stone.reach import Answer

LIMIT_S = 30.0
MOST_COMMAND = 100_000
"""Characters of a filled command."""
MOST_FILE = 64 << 10
"""Bytes of a file that is fetched."""
LONG = 8000
"""Bytes from which on a command is a shell's input: small SSH servers end the connection at one of
9,000.
"""


class Commands:
    """The calls to one node, by the door that was opened to it. `password`: of who logs in."""

    def __init__(self, at: Filler, door: NodeDoor, password: str) -> None:
        self._at, self._door, self._password = at, door, password

    async def run(self, call: Call, known: Mapping[str, str]) -> Reply:
        """The answer; its status is the command's. Raises RemoteError; a command that ends with
        another status than it should is refused in its own words.
        """
        if wrong := shell_words.fault_of(call.ssh):
            # a run may have begun when this was not looked at
            raise RemoteFailed(
                f"the kit's command “{call.ssh[:80]}” cannot be filled in safely: {wrong}",
                target=self._at.node.name,
                operation=call.ssh[:200],
                hint="Correct the kit.",
            )
        for file in call.put:
            path = shell_words.word(await fill(self._at, file.path, known=known))
            await self._put(call, path, await self._content(file, known), file.mode)
        command = await fill_command(self._at, call.ssh, known)
        answer = await self._sent(call, command, b"")
        if answer.status not in (call.status or (0,)):
            raise self._refused(call.ssh, answer)
        files = {name: await self._got(call, path, known) for name, path in call.fetch.items()}
        if call.prints == "answer":
            return Reply(answer.status, answer.out, seconds=answer.seconds, files=files)
        lines = answer.text.strip().splitlines() or [""]
        said = {"status": str(answer.status), "said": lines[-1]}
        text = json.dumps(said).encode()
        return Reply(answer.status, text, seconds=answer.seconds, files=files)

    async def _content(self, file: PutFile, known: Mapping[str, str]) -> bytes:
        if file.fetched:
            return base64.b64decode(await value(self._at, f"kept.{kept_file(file.fetched)}"))
        return (await fill(self._at, file.text, known=known)).encode()

    async def _got(self, call: Call, template: str, known: Mapping[str, str]) -> bytes:
        """A file of the node. Raises RemoteFailed for one that is not there, or too large."""
        path = shell_words.word(await fill(self._at, template, known=known))
        answer = await self._sent(call, f"head -c {MOST_FILE + 1} {path}", b"", quiet=True)
        if answer.status != 0:
            # part of the file may have been printed
            raise self._refused(f"cat {path}", replace(answer, out=b""))
        if len(answer.out) > MOST_FILE:
            raise RemoteFailed(
                f"{path} on {self._at.node.name} is larger than {MOST_FILE >> 10} KiB",
                target=self._at.node.name,
                operation=f"cat {path}"[:200],
            )
        return answer.out

    async def _put(self, call: Call, path: str, data: bytes, mode: str) -> None:
        """Written beside and renamed: who reads it meanwhile has the old one or the new one."""
        command = (
            f"umask 077; cat > {path}.new && chmod {mode} {path}.new && mv -f {path}.new {path}"
        )
        answer = await self._sent(call, command, data)
        if answer.status != 0:
            raise self._refused(f"cat > {path}", answer)

    async def _sent(self, call: Call, command: str, data: bytes, *, quiet: bool = False) -> Answer:
        """`quiet`: what it prints is kept to ourselves."""
        if len(command) > MOST_COMMAND:
            raise RemoteFailed(
                f"a command of {len(command)} characters is too long; {MOST_COMMAND} are the most",
                target=self._at.node.name,
                operation=call.ssh[:80],
                hint="Put what is long into a file by `put`.",
            )
        limit_s = call.limit or LIMIT_S
        plain, as_root = command, f"sh -c {shell_words.word(command)}"
        if len(as_root.encode()) > LONG and not data:
            plain = as_root = "sh"
            data = shell_words.as_input(command)
        if not call.sudo:
            return await self._door.script(plain, data, limit_s, quiet=quiet)
        free = await self._door.script("sudo -n true", b"", LIMIT_S)
        if free.status == 0:
            return await self._door.script(f"sudo -n {as_root}", data, limit_s, quiet=quiet)
        # -k: it asks, whether or not it was told lately; so what it reads first is the password
        told = f"{self._password}\n".encode() + data
        return await self._door.script(f"sudo -k -S -p '' {as_root}", told, limit_s, quiet=quiet)

    def _refused(self, command: str, answer: Answer) -> RemoteFailed:
        name = self._at.node.name
        return RemoteFailed(
            f"{name} does not carry out “{shortened(command, 80)}” (status"
            f" {answer.status}): {shortened((answer.err or answer.text).strip(), 200)}",
            target=name,
            operation=shortened(command, 200),
            hint="See the transcript for the whole answer, and the node's console.",
        )
