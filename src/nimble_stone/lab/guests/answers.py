"""A product that somebody wrote down: what its nodes answer, in a small file beside a kit, format
`answers/1`. The stand-in nodes of `kit try` then answer by it, so that a kit is tried before there
is a node.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, MutableMapping, Sequence
from typing import Literal, Protocol

import re2
from aiohttp import web
from pydantic import Field, JsonValue, model_validator

from nimble_stone.core import json_template, pattern
from nimble_stone.core.errors import FormatError
from nimble_stone.core.models import Fixed, Ident

NAMES = ("name", "address", "prefix", "gateway", "dns", "domain", "ntp", "role", "admin_password")
"""What texts in braces stand for, besides what nodes remember."""
KNOWN = {"name": "hostname"}
"""Where a stand-in node calls it otherwise."""


class Listens(Fixed):
    """A port on which nodes answer requests."""

    port: int = Field(ge=1, le=65_535)
    scheme: Literal["http", "https"] = "http"


class WrittenAnswer(Fixed):
    """What a request is answered with. The first answer that fits is given."""

    method: Literal["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD"] = "GET"
    path: str = Field(
        max_length=400,
        description=(
            "A pattern that the whole path fits. `<1>` and so on stand for its groups in all that"
            " follows."
        ),
    )
    query: dict[str, str] = Field(
        default={}, max_length=20, description="Parameters that it must have; values are templates."
    )
    when: dict[str, str] = Field(
        default={}, max_length=20, description="What the node must remember; “” for nothing."
    )
    basic: bool = Field(
        default=False, description="Only with the administrator's name and password; else 401."
    )
    status: int = Field(default=200, ge=100, le=599)
    headers: dict[str, str] = Field(default={}, max_length=20)
    body: JsonValue = Field(
        default=None,
        description="JSON with templates, as in kits; “@each” lists all nodes of a role.",
    )
    text: str = Field(default="", max_length=65_536, description="Instead: text as it is.")
    keep: dict[str, str] = Field(
        default={},
        max_length=20,
        description="What the node remembers from now on; `{body.MEMBER}` is the request's.",
    )
    times: int = Field(
        default=0, ge=0, le=1000, description="How often it is given to a node; 0: always."
    )

    @model_validator(mode="after")
    def _can_be_given(self) -> WrittenAnswer:
        if wrong := pattern.fault_of(self.path):
            raise ValueError(f"path: {wrong}")
        if wrong := json_template.fault_of(self.body):
            raise ValueError(f"body: {wrong}")
        return self


class WrittenCommand(Fixed):
    """What a command by SSH prints."""

    command: str = Field(
        max_length=400,
        description="A pattern that the whole command fits; `<1>` and so on are its groups.",
    )
    when: dict[str, str] = Field(default={}, max_length=20)
    prints: str = Field(default="", max_length=65_536)
    status: int = Field(default=0, ge=0, le=255)
    keep: dict[str, str] = Field(default={}, max_length=20)

    @model_validator(mode="after")
    def _is_a_pattern(self) -> WrittenCommand:
        if wrong := pattern.fault_of(self.command):
            raise ValueError(f"command: {wrong}")
        return self


class WrittenSystem(Fixed):
    """A system outside the plan, one of the kit's `systems`: one address, which the trial fills in
    where the kit asks for it, as it confirms its certificate.
    """

    id: Ident = Field(description="The kit's id of it.")
    ports: tuple[Listens, ...] = Field(min_length=1, max_length=8)
    user: str = Field(default="", max_length=200, description="Who logs in, for `basic`.")
    password: str = Field(default="", max_length=200)
    answers: tuple[WrittenAnswer, ...] = Field(default=(), max_length=400)


class Answers(Fixed):
    """The file."""

    nimble_stone: Literal["answers/1"] = Field(alias="nimble-stone")
    ports: tuple[Listens, ...] = Field(min_length=1, max_length=8)
    answers: tuple[WrittenAnswer, ...] = Field(default=(), max_length=400)
    commands: tuple[WrittenCommand, ...] = Field(default=(), max_length=100)
    systems: tuple[WrittenSystem, ...] = Field(default=(), max_length=8)

    @model_validator(mode="after")
    def _are_different(self) -> Answers:
        names = [one.id for one in self.systems]
        if twice := next((name for name in names if names.count(name) > 1), ""):
            raise ValueError(f"system “{twice}” is described twice")
        return self


class Node(Protocol):
    """A stand-in node."""

    def get(self, key: str) -> str:
        """What it was given."""

    def memory(self) -> MutableMapping[str, str]:
        """What it remembers, on its disk."""


class Written:
    """One side of an answers file: that of the nodes, or of a system. `nodes`: those of a role that
    are up, “” all.
    """

    def __init__(
        self,
        answers: Sequence[WrittenAnswer],
        commands: Sequence[WrittenCommand],
        nodes: Callable[[str], list[Node]],
    ) -> None:
        self._answers, self._commands, self._nodes = answers, commands, nodes

    async def answer(self, node: Node, request: web.Request, login: bool) -> web.Response:
        """The first answer that fits; 404 where none does, and what was asked is said."""
        sent = await self._sent(request)
        for number, one in enumerate(self._answers):
            found = re2.fullmatch(one.path, request.path)
            if one.method != request.method or found is None:
                continue
            known = {**sent, **_groups(found.groups())}
            query = {name: _filled(text, node, known) for name, text in one.query.items()}
            if any(request.query.get(name) != value for name, value in query.items()):
                continue
            if not _remembers(node, one.when, known) or self._given(node, number, one):
                continue
            if one.basic and not login:
                return web.json_response({"reason": "login refused"}, status=401)
            return await self._give(node, one, known)
        words = f"no answer is written for {request.method} {request.path_qs}"
        return web.json_response({"reason": words[:300]}, status=404)

    def command(self, node: Node, command: str) -> tuple[int, str] | None:
        """Status and output of a command; None where nothing is written for it."""
        for one in self._commands:
            found = re2.fullmatch(f"(?s:{one.command})", command.strip())
            if found is None:
                continue
            known = _groups(found.groups())
            if _remembers(node, one.when, known):
                _keep(node, one.keep, known)
                return one.status, _filled(one.prints, node, known)
        return None

    async def _sent(self, request: web.Request) -> Mapping[str, str]:
        try:
            body = json.loads(await request.read() or b"{}")
        except ValueError:
            return {}
        members = body.items() if isinstance(body, dict) else ()
        return {
            f"body.{key}": value if isinstance(value, str) else json.dumps(value)
            for key, value in members
        }

    def _given(self, node: Node, number: int, one: WrittenAnswer) -> bool:
        """Whether it was given often enough; counts."""
        if not one.times:
            return False
        memory, key = node.memory(), f"given {number}"
        before = int(memory.get(key, "0"))
        memory[key] = str(before + 1)
        return before >= one.times

    async def _give(self, node: Node, one: WrittenAnswer, sent: Mapping[str, str]) -> web.Response:
        async def fill(text: str, other: Node | None) -> str:
            return _filled(text, other or node, sent)

        _keep(node, one.keep, sent)
        headers = {name: _filled(text, node, sent) for name, text in one.headers.items()}
        if one.text:
            return web.Response(
                text=_filled(one.text, node, sent), status=one.status, headers=headers
            )
        try:
            body = await json_template.filled(one.body, fill, self._nodes)
        except FormatError as error:
            return web.json_response({"reason": str(error)}, status=500)
        return web.json_response(body, status=one.status, headers=headers)


def _groups(found: Sequence[str | None]) -> dict[str, str]:
    return {f"<{number}>": text or "" for number, text in enumerate(found, 1)}


def _remembers(node: Node, wanted: Mapping[str, str], known: Mapping[str, str]) -> bool:
    memory = node.memory()
    return all(
        memory.get(_filled(name, node, known), "") == _filled(value, node, known)
        for name, value in wanted.items()
    )


def _keep(node: Node, kept: Mapping[str, str], sent: Mapping[str, str]) -> None:
    memory = node.memory()
    for name, text in kept.items():
        memory[_filled(name, node, sent)[:200]] = _filled(text, node, sent)[:4096]


def _filled(text: str, node: Node, sent: Mapping[str, str]) -> str:
    """Texts in braces are what the node was given, what it remembers or was sent;
    others stay as they are.
    """
    memory = node.memory()
    for group in (name for name in sent if name.startswith("<")):
        text = text.replace(group, sent[group])

    def value(name: str) -> str | None:
        if name in sent:
            return sent[name]
        if name in NAMES:
            return node.get(KNOWN.get(name, name))
        return memory.get(name)

    out, rest = "", text
    while "{" in rest:
        before, _, rest = rest.partition("{")
        name, closed, after = rest.partition("}")
        found = value(name) if closed else None
        out += before + ("{" if found is None else found)
        rest = rest if found is None else after
    return out + rest
