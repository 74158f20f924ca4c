"""Speaking to the interface of a product as its kit says: templates filled in, who asks, sessions
that are opened anew when the product has ended them, and certificates that may change to ours on
the way.
"""

from __future__ import annotations

import contextlib
import json
import secrets
from collections.abc import Mapping
from dataclasses import dataclass, field
from html import escape as xml_escape
from typing import Any
from urllib.parse import quote, urlencode

from nimble_stone.core import json_template, reply
from nimble_stone.core.errors import RemoteError, RemoteFailed, StoneError
from nimble_stone.core.kit.calls import Access, Call
from nimble_stone.core.plan.sheet import Node, reached
from nimble_stone.core.reply import Reply
from nimble_stone.engine import certificates
from nimble_stone.engine.commands import Commands
from nimble_stone.engine.filling import Filler, fill
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.hosts.api import Recorder, no_record
from nimble_stone.hosts.node import NodeAccess, NodeDoor
from nimble_stone.ports.ports import BLANK, Ports
from nimble_stone.reach.calls import Ask, Place
from nimble_stone.store import records

OURS = "ours"
"""Pinned where a node was seen with a certificate of this installation's authority."""
MOST_TOLD = 16 << 10
LIMIT_S = 15.0


@dataclass(frozen=True)
class At:
    """Whom texts are filled in for."""

    ports: Ports
    run: FrozenRun
    node: Node


@dataclass
class Opened:
    """A session: its cookies and its token."""

    cookies: dict[str, str] = field(default_factory=dict)
    token: str = ""


@dataclass(frozen=True)
class Login:
    """A name and a password other than the administrator's."""

    user: str
    password: str = field(repr=False)


class Speaker:
    """Calls to one node: the one that texts are filled in for, or another that is `asked`."""

    def __init__(
        self,
        at: Filler,
        record: Recorder = no_record,
        login: Login | None = None,
        asked: Node | None = None,
    ) -> None:
        self._at, self._record, self._login = at, record, login
        self._to: Filler = At(at.ports, at.run, asked) if asked else at

    @property
    def _access(self) -> Access:
        return self._at.run.sheet.kit.access

    async def send(
        self, call: Call, *, limit_s: float = LIMIT_S, known: Mapping[str, str] | None = None
    ) -> Reply:
        """The answer; `known`: what templates stand for besides what the sheet has. Raises
        RemoteError; a refusal carries the product's own words.
        """
        given = known or {}
        if call.ssh:
            door, login = await self._door(), await self._credential()
            return await Commands(self._at, door, login.password).run(call, given)
        limit_s, way = call.limit or limit_s, self._way(call)
        place = await place_of(self._to, call.port)
        answer = await self._asked(place, call, way, limit_s, given)
        if answer.status == 401 and way == "session":
            # it ended the session meanwhile
            self._at.ports.sessions.pop(self._key, None)
            answer = await self._asked(place, call, way, limit_s, given)
        self._judge(call, place, answer)
        return answer

    async def opens(self) -> None:
        """Open a session anew. Raises RemoteError when it is refused."""
        self._at.ports.sessions.pop(self._key, None)
        await self._session(await place_of(self._to), LIMIT_S)

    @property
    def _key(self) -> str:
        user = self._login.user if self._login else ""
        mine = f"{self._at.run.id}/{self._to.node.id}/{user}"
        return f"{mine}/first" if self._login else mine

    def _way(self, call: Call) -> str:
        if isinstance(call.login, str):
            return call.login
        return self._access.login if call.login else "none"

    async def _credential(self) -> Login:
        if self._login is not None:
            return self._login
        kit, ports = self._at.run.sheet.kit, self._at.ports
        password = await ports.open_for_plan(
            self._at.run.sheet.plan.name, self._to.node.value(kit.admin_password)
        )
        return Login(kit.admin, password)

    async def _door(self) -> NodeDoor:
        kit, login = self._at.run.sheet.kit, await self._credential()
        access = NodeAccess(
            self._to.node.name,
            reached(kit, self._to.node),
            kit.service.port,
            login.user,
            login.password,
        )
        return NodeDoor(self._at.ports.reach, access, self._record)

    async def _asked(
        self, place: Place, call: Call, way: str, limit_s: float, known: Mapping[str, str]
    ) -> Reply:
        login, more = None, {}
        if way == "basic":
            found = await self._credential()
            login = (found.user, found.password)
        elif way == "bearer":
            token = await fill(self._to, self._access.bearer)
            self._at.ports.hide(token)
            more = {"Authorization": f"Bearer {_line(token)}"}
        elif way == "session":
            opened = await self._session(place, limit_s)
            more = self._of_session(opened)
        return await self._sent(place, call, known, more, login, limit_s)

    def _of_session(self, opened: Opened) -> dict[str, str]:
        session = self._access.session
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
        session, login = self._access.session, await self._credential()
        assert session is not None
        more = {"user": login.user, "password": login.password}
        answer = await self._sent(place, session.login, more, {}, None, limit_s)
        self._judge(session.login, place, answer)
        token = reply.read(answer, session.token) if session.token else ""
        if token is None:
            raise RemoteFailed(
                f"{self._at.node.name} opened a session without {session.token}",
                target=self._at.node.name,
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
            told += f" <<'END'\n{wanted.content[:MOST_TOLD].decode('utf-8', 'replace')}\nEND"
        name, ports = self._to.node.name, self._at.ports
        try:
            answer = await ports.reach.ask(place, wanted, limit_s=limit_s)
        except RemoteError as error:
            self._record(name, told, str(error), -1, 0.0)
            raise
        self._record(name, told, self._told(call, answer), answer.status, answer.seconds)
        return answer

    def _told(self, call: Call, answer: Reply) -> str:
        """What the transcript has of an answer: without what it gave in confidence."""
        found = [reply.read(answer, what) for what in call.keep.values()]
        session = self._access.session
        if session is not None and call is session.login:
            found += answer.cookies.values()
            found += [reply.read(answer, session.token)] if session.token else []
        said = answer.text
        for secret in filter(None, found):
            said = said.replace(secret, BLANK)
        return said[:MOST_TOLD]

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

        async def escaped(text: str) -> str:
            return await fill(self._at, text, lambda value: quote(value, safe=""), known=known)

        query = {name: await one(text) for name, text in call.query.items()}
        path = await escaped(call.path) + (f"?{urlencode(query)}" if query else "")
        headers = {name: _line(await one(text)) for name, text in call.headers.items()}
        content, kind = await self._content(call, one, known)
        if kind and "content-type" not in {name.lower() for name in headers}:
            headers["Content-Type"] = kind
        return Ask(call.method, path, {**headers, **more}, content, login)

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

    def _judge(self, call: Call, place: Place, answer: Reply) -> None:
        """Raises RemoteFailed for a status that the call does not take for a success."""
        if answer.status in call.status or (not call.status and 200 <= answer.status < 400):
            return
        reason = reply.read(answer, "reason") or answer.text.strip()[:200]
        reason = reason or f"HTTP status {answer.status}"
        hint = (
            "The administrator's password on the node differs from the keyring's."
            if answer.status == 401
            else "See the transcript for the whole answer, and the node's console."
        )
        what = f"{call.method} {call.path}"
        raise RemoteFailed(
            f"{self._to.node.name} refuses {what}: {reason[:200]}",
            target=self._to.node.name,
            operation=f"{call.method} {place.url}{call.path}",
            hint=hint,
        )


def _line(text: str) -> str:
    """A header's value: one line (RFC 9110 section 5.5)."""
    return text.replace("\r", " ").replace("\n", " ").strip()


async def place_of(at: Filler, other: int = 0) -> Place:
    """Where a node's interface is, and which certificate it must show; `other`: a port of its own,
    0 none. Raises RemoteError.
    """
    kit, node = at.run.sheet.kit, at.node
    address, port = reached(kit, node), other or kit.access.port or kit.service.port
    if kit.access.scheme == "http":
        return Place(address, port)
    key, store = f"{address}:{port}/tls", at.ports.store
    pin = await store.read(records.get_pin, key)
    if kit.access.trust == "authority" or pin == OURS:
        return await _by_authority(at, address, port)
    if kit.access.trust == "first-use-then-authority":
        ours = await _by_authority(at, address, port)
        if not await at.ports.reach.trust(address, port, ours.trusted, ours.name):
            await store.write(records.drop_pin, key)
            await store.write(records.put_pin, key, OURS, at.ports.clock())
            return ours
    if pin is None:
        shown = await at.ports.reach.certificate(address, port, at.ports.clock())
        pin = shown.fingerprint
        await store.write(records.put_pin, key, pin, at.ports.clock())
    return Place(address, port, pin)


async def _by_authority(at: Filler, address: str, port: int) -> Place:
    authority = (await certificates.authority(at.ports)).certificate
    shown = await _shown(at)
    for one in at.run.sheet.kit.certificates:
        if one.port == port and at.node.has_any(one.roles):
            names = certificates.names(at.run.sheet, at.node, one)
            return Place(address, port, authority, names[0] if names else address, shown)
    return Place(address, port, authority, address, shown)


async def _shown(at: Filler) -> str:
    """The certificate that calls show as their own, with its key; '' none."""
    ident = at.run.sheet.kit.access.certificate
    if not ident:
        return ""
    pair = await fill(at, f"{{certificate.{ident}}}\n{{certificate.{ident}.key}}")
    return pair.strip() and pair


async def close(ports: Ports, run: FrozenRun) -> None:
    """Log out of all sessions of a run. A product that is gone needs no farewell."""
    mine = [key for key in ports.sessions if key.startswith(f"{run.id}/")]
    session = run.sheet.kit.access.session
    for key in mine:
        node = run.sheet.node(key.split("/")[1])
        if node is not None and session and session.logout and not key.endswith("/first"):
            with contextlib.suppress(StoneError):
                await Speaker(At(ports, run, node)).send(session.logout, limit_s=5.0)
        ports.sessions.pop(key, None)
