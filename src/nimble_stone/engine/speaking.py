"""Speaking to the interface of a product as its kit says: templates filled in, who asks, sessions
that are opened anew when the product has ended them, and certificates that may change to ours on
the way.
"""

from __future__ import annotations

import contextlib
import json
import secrets
from collections.abc import Awaitable, Mapping
from dataclasses import dataclass, field
from html import escape as xml_escape
from typing import Any
from urllib.parse import quote, urlencode

import re2

from nimble_stone.core import json_template, reply
from nimble_stone.core.errors import NotNow, RemoteError, RemoteFailed, StoneError
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.redaction import BLANK, shortened
from nimble_stone.core.reply import Reply
from nimble_stone.engine.commands import Commands
from nimble_stone.engine.filling import Filler, fill, read
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.peers import (
    At,
    Credential,
    NodePeer,
    Peer,
    SystemPeer,
    asked,
    system_of,
)
from nimble_stone.hosts.api import Recorder, no_record
from nimble_stone.ports.ports import Ports
from nimble_stone.reach import datagrams
from nimble_stone.reach.calls import Ask, Place

MOST_TOLD = 16 << 10
LIMIT_S = 15.0
LATER = (423, 425, 429, 503)
"""HTTP statuses of what may well succeed later (RFC 4918, 8470, 6585, 9110)."""
_IN_A_LINE = re2.compile(r"[!#-:<=>?-\[\]-~]*")
"""What a value in a line may hold: printable, no blanks, no quotes, none of `;` and `\\`, by which
such interfaces end or escape what is said.
"""


def usual_port(call: Call) -> int:
    """The port of a call; where it names none, that of its protocol; 0: that of who is asked."""
    return call.port or (datagrams.PORTS.get(call.datagram_kind, 0) if call.is_datagram else 0)


@dataclass
class Opened:
    """A session: its cookies and its token."""

    cookies: dict[str, str] = field(default_factory=dict)
    token: str = ""


class Speaker:
    """Calls to whom texts are filled in for, or to another `peer`. `login`: somebody else than who
    logs in as a rule.
    """

    def __init__(
        self,
        at: Filler,
        record: Recorder = no_record,
        login: Credential | None = None,
        peer: Peer | None = None,
    ) -> None:
        self._at, self._record, self._login = at, record, login
        self._to = peer or NodePeer(at)

    async def send(
        self, call: Call, *, limit_s: float = LIMIT_S, known: Mapping[str, str] | None = None
    ) -> Reply:
        """The answer; `known`: what templates stand for besides what the sheet has. Raises
        RemoteError; a refusal carries the product's own words.
        """
        given = known or {}
        if call.ssh:
            login = await self._credential()
            door = await self._to.door(login, self._record)
            return await Commands(self._at, door, login.password).run(call, given)
        limit_s, way = call.limit or limit_s, self._way(call)
        place = await self._to.place(call.port)
        if call.line:
            return await self._said(place, call, given, limit_s)
        if call.is_datagram:
            return await self._by_datagram(call, given, limit_s)
        answer = await self._asked(place, call, way, limit_s, given)
        if answer.status == 401 and way == "session":
            # it ended the session meanwhile
            self._at.ports.sessions.pop(self._key, None)
            answer = await self._asked(place, call, way, limit_s, given)
        await self._judge(call, place, answer, given)
        return answer

    async def opens(self) -> None:
        """Open a session anew. Raises RemoteError when it is refused."""
        self._at.ports.sessions.pop(self._key, None)
        await self._session(await self._to.place(), LIMIT_S)

    def forget(self) -> None:
        """Use no session that was opened before: with another password, it would prove nothing."""
        self._at.ports.sessions.pop(self._key, None)

    @property
    def _key(self) -> str:
        user = self._login.user if self._login else ""
        mine = f"{self._at.run.id}/{self._to.key}/{user}"
        return f"{mine}/first" if self._login else mine

    def _way(self, call: Call) -> str:
        if isinstance(call.login, str):
            return call.login
        return self._to.login if call.login else "none"

    async def _credential(self) -> Credential:
        return self._login or await self._to.credential()

    async def _said(
        self, place: Place, call: Call, known: Mapping[str, str], limit_s: float
    ) -> Reply:
        """A line and its answer."""
        line = await fill(self._at, call.line, self._one_word, known=known)
        asking = self._at.ports.reach.ask_line(place, line, until=call.until, limit_s=limit_s)
        return await self._noted(call, known, f"{line}  to {place.address}:{place.port}", asking)

    async def _noted(
        self, call: Call, known: Mapping[str, str], told: str, asking: Awaitable[Reply]
    ) -> Reply:
        """The answer, in the transcript."""
        try:
            answer = await asking
        except RemoteError as error:
            self._record(self._to.name, told, str(error), -1, 0.0)
            raise
        self._record(self._to.name, told, await self._told(call, answer, known), 0, answer.seconds)
        return answer

    def _one_word(self, value: str) -> str:
        if re2.fullmatch(_IN_A_LINE, value) is None:
            raise RemoteFailed(
                f"“{self._at.ports.blank(value)[:60]}” cannot be said in a line to"
                f" {self._to.name}: it has blanks, quotes or “;”",
                target=self._to.name,
                hint="Choose a value without them.",
            )
        return value

    async def _by_datagram(self, call: Call, known: Mapping[str, str], limit_s: float) -> Reply:
        """A question by UDP and its answer."""
        place, reach = await self._to.place(usual_port(call)), self._at.ports.reach
        told = f"to {place.address}:{place.port}"
        if call.ntp:
            return await self._noted(call, known, f"NTP {told}", reach.ask_time(place, limit_s))
        text = await fill(self._at, call.dns or call.datagram, self._one_word, known=known)
        if call.dns:
            asking = reach.ask_name(place, text, call.record, limit_s)
            return await self._noted(call, known, f"DNS {call.record} {text} {told}", asking)
        asking = reach.ask_datagram(place, text, limit_s)
        return await self._noted(call, known, f"UDP {text} {told}", asking)

    async def _asked(
        self, place: Place, call: Call, way: str, limit_s: float, known: Mapping[str, str]
    ) -> Reply:
        login, more = None, {}
        if way == "basic":
            found = await self._credential()
            login = (found.user, found.password)
        elif way == "bearer":
            token = await fill(self._at, self._to.bearer)
            self._at.ports.hide(token)
            more = {"Authorization": f"Bearer {_line(token)}"}
        elif way == "session":
            opened = await self._session(place, limit_s)
            more = self._of_session(opened)
        return await self._sent(place, call, known, more, login, limit_s)

    def _of_session(self, opened: Opened) -> dict[str, str]:
        session = self._to.session
        sent = session.send if session else {}
        headers = {name: text.replace("{token}", opened.token) for name, text in sent.items()}
        if opened.cookies:
            headers["Cookie"] = "; ".join(f"{name}={one}" for name, one in opened.cookies.items())
        return headers

    async def _session(self, place: Place, limit_s: float) -> Opened:
        """The session, opened where there is none. Raises RemoteFailed when it is refused."""
        known = self._at.ports.sessions.get(self._key)
        if isinstance(known, Opened):
            return known
        session, login = self._to.session, await self._credential()
        assert session is not None
        more = {"user": login.user, "password": login.password}
        answer = await self._sent(place, session.login, more, {}, None, limit_s)
        await self._judge(session.login, place, answer, {})
        token = reply.read(answer, session.token) if session.token else ""
        if token is None:
            raise RemoteFailed(
                f"{self._to.name} opened a session without {session.token}",
                target=self._to.name,
                hint="Correct `token` in the kit, or see what the node answers.",
            )
        for secret in (token, *answer.cookies.values()):
            self._at.ports.hide(secret)
        opened = Opened(dict(answer.cookies), token)
        self._at.ports.sessions[self._key] = opened
        return opened

    async def _sent(
        self,
        place: Place,
        call: Call,
        known: Mapping[str, str],
        more: Mapping[str, str],
        login: tuple[str, str] | None,
        limit_s: float,
    ) -> Reply:
        wanted = await self._request(call, known, more, login)
        told = f"{wanted.method} {place.url}{wanted.path}"
        if wanted.content:
            content = shortened(
                wanted.content[: 2 * MOST_TOLD].decode("utf-8", "replace"), MOST_TOLD
            )
            told += f" <<'END'\n{content}\nEND"
        name, ports = self._to.name, self._at.ports
        try:
            answer = await ports.reach.ask(place, wanted, limit_s=limit_s)
        except RemoteError as error:
            self._record(name, told, str(error), -1, 0.0)
            raise
        words = await self._told(call, answer, known)
        self._record(name, told, words, answer.status, answer.seconds)
        return answer

    async def _told(self, call: Call, answer: Reply, known: Mapping[str, str]) -> str:
        """What the transcript has of an answer: without what it gave in confidence."""
        found = [await read(self._at, answer, what, known) for what in call.keep.values()]
        session = self._to.session
        if session is not None and call is session.login:
            found += answer.cookies.values()
            found += [reply.read(answer, session.token)] if session.token else []
        said = answer.text
        for secret in filter(None, found):
            said = said.replace(secret, BLANK)
        return shortened(said, MOST_TOLD)

    async def _request(
        self,
        call: Call,
        known: Mapping[str, str],
        more: Mapping[str, str],
        login: tuple[str, str] | None,
    ) -> Ask:
        async def one(text: str, node: Any = None) -> str:
            at = self._at if node is None else At(self._at.ports, self._at.run, node)
            return await fill(at, text, known=known)

        query = {name: await one(text) for name, text in call.query.items()}
        path = await self._escaped(call.path, known) + (f"?{urlencode(query)}" if query else "")
        headers = {name: _line(await one(text)) for name, text in call.headers.items()}
        content, kind = await self._content(call, one, known)
        if kind and "content-type" not in {name.lower() for name in headers}:
            headers["Content-Type"] = kind
        return Ask(call.method, path, {**headers, **more}, content, login)

    async def _escaped(self, text: str, known: Mapping[str, str]) -> str:
        return await fill(self._at, text, lambda value: quote(value, safe=""), known=known)

    async def _content(
        self, call: Call, one: json_template.Fill, known: Mapping[str, str]
    ) -> tuple[bytes, str]:
        if call.body:
            data = await json_template.filled(call.body, one, self._nodes)
            return json.dumps(data).encode(), "application/json"
        if call.form:
            fields = {name: await one(text, None) for name, text in call.form.items()}
            return urlencode(fields).encode(), "application/x-www-form-urlencoded"
        if call.parts:
            return await self._multipart(call, one)
        if call.text:
            plain = xml_escape if call.escape == "xml" else str
            text = await fill(self._at, call.text, plain, known=known)
            return text.encode(), "text/plain; charset=utf-8"
        return b"", ""

    async def _multipart(self, call: Call, one: json_template.Fill) -> tuple[bytes, str]:
        edge, out = secrets.token_hex(16), b""
        for part in call.parts:
            file = f'; filename="{part.file}"' if part.file else ""
            out += f'--{edge}\r\nContent-Disposition: form-data; name="{part.name}"{file}'.encode()
            out += f"\r\nContent-Type: {part.type}".encode() if part.type else b""
            out += b"\r\n\r\n" + (await one(part.text, None)).encode() + b"\r\n"
        return out + f"--{edge}--\r\n".encode(), f"multipart/form-data; boundary={edge}"

    def _nodes(self, role: str) -> list[Node]:
        sheet = self._at.run.sheet
        return list(sheet.carriers.get(role, ())) if role else list(sheet.nodes)

    async def _judge(
        self, call: Call, place: Place, answer: Reply, known: Mapping[str, str]
    ) -> None:
        """Raises RemoteFailed for a status that the call does not take for a success."""
        if answer.status in call.status or (not call.status and 200 <= answer.status < 400):
            return
        reason = reply.read(answer, "reason") or answer.text.strip()
        reason = shortened(reason or f"HTTP status {answer.status}", 200)
        hint = "See the transcript for the whole answer, and the node's console."
        if answer.status == 401:
            hint = "The administrator's password on the node differs from the keyring's."
            if isinstance(self._to, SystemPeer):
                hint = f"Correct user and password of {self._to.name} in the plan."
        path = shortened(await self._escaped(call.path, known), 200)
        what = f"{call.method} {path}"
        kind = NotNow if answer.status in LATER else RemoteFailed
        raise kind(
            f"{self._to.name} refuses {what}: {reason}",
            target=self._to.name,
            operation=f"{call.method} {place.url}{path}",
            hint=hint,
        )


def _line(text: str) -> str:
    """A header's value: one line (RFC 9110 section 5.5)."""
    return text.replace("\r", " ").replace("\n", " ").strip()


async def close(ports: Ports, run: FrozenRun) -> None:
    """Log out of all sessions of a run. Who is gone needs no farewell."""
    for key in [key for key in ports.sessions if key.startswith(f"{run.id}/")]:
        peer = None if key.endswith("/first") else _peer_of(ports, run, key.split("/")[1])
        if peer is not None and peer.session and peer.session.logout:
            at = At(ports, run, run.sheet.nodes[0])
            with contextlib.suppress(StoneError):
                await Speaker(at, peer=peer).send(peer.session.logout, limit_s=5.0)
        ports.sessions.pop(key, None)


def _peer_of(ports: Ports, run: FrozenRun, key: str) -> Peer | None:
    """Whose session it is, None for a node that the run has no more."""
    kind, _, ident = key.partition(":")
    if kind == "system" and system_of(run, ident):
        return asked(At(ports, run, run.sheet.nodes[0]), ident)
    node = run.sheet.node(key)
    return NodePeer(At(ports, run, node)) if node else None
