"""Filling in, for a step, what kits write in braces: columns, what was kept, secrets,
certificates.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping
from typing import Protocol

import bcrypt

from nimble_stone.core import reply, shell_words
from nimble_stone.core.errors import FormatError, NotFound
from nimble_stone.core.plan.cells import is_made_here
from nimble_stone.core.plan.filled import is_hash, value_of
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.reply import Reply
from nimble_stone.engine import certificates
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.ports.ports import Ports

MOST_HASHED = 72
"""Bytes of a password that bcrypt takes."""


class Filler(Protocol):
    """What filling in needs of a step."""

    @property
    def ports(self) -> Ports: ...

    @property
    def run(self) -> FrozenRun: ...

    @property
    def node(self) -> Node: ...


def kept_name(run: str, name: str, node: str = "") -> str:
    """Keyring entry of a value kept during a run; `node`: for this node alone."""
    return f"run/{run}/of/{node}/{name}" if node else f"run/{run}/{name}"


async def fill_command(c: Filler, template: str, known: Mapping[str, str] | None = None) -> str:
    """The same for a command that a shell reads: each value is quoted, whatever it holds."""
    given = known or {}
    values = {
        name: given[name] if name in given else await value(c, name)
        for name in dict.fromkeys(shell_words.names(template))
    }
    return shell_words.filled(template, values)


async def fill_reading(c: Filler, what: str, known: Mapping[str, str] | None = None) -> str:
    """What is to be read from an answer, filled in: each value stands for itself."""
    given = known or {}
    values = {
        name: given[name] if name in given else await value(c, name)
        for name in dict.fromkeys(reply.names(what))
    }
    return reply.with_values(what, values)


async def read(
    c: Filler, answer: Reply, what: str, known: Mapping[str, str] | None = None
) -> str | None:
    """What is read from an answer, None where it has none."""
    return reply.read(answer, await fill_reading(c, what, known))


async def fill(
    c: Filler,
    template: str,
    escape: Callable[[str], str] = str,
    *,
    known: Mapping[str, str] | None = None,
) -> str:
    """Fill what `value_of` knows, secrets, `{kept.name}` and `{certificate.ID}` with its parts, and
    what is `known` besides. What is filled in is never itself a template.
    """
    out, rest = "", template
    while "{" in rest:
        before, _, rest = rest.partition("{")
        key, _, rest = rest.partition("}")
        if not key:
            # an empty pair stands for itself
            out += before + "{}"
            continue
        own = known.get(key) if known else None
        out += before + escape(await value(c, key) if own is None else own)
    return out + rest


async def value(c: Filler, key: str) -> str:
    """What one name in braces stands for."""
    if key.startswith("kept."):
        return await _kept(c, key.removeprefix("kept."))
    if key.startswith("certificate."):
        return await _certificate(c, key)
    if is_hash(key):
        password = await value(c, key.removeprefix("hashed."))
        return await asyncio.to_thread(_hashed, password)
    sheet = c.run.sheet
    found = value_of(key, c.node, sheet)
    if found and any(column.id == key and column.kind == "secret" for column in sheet.columns):
        return await c.ports.open_for_plan(sheet.plan.name, found)
    return found


async def _kept(c: Filler, name: str) -> str:
    """What was kept for the node itself; where nothing was, for the run."""
    try:
        return await c.ports.open_secret(kept_name(c.run.id, name, c.node.id))
    except NotFound:
        return await c.ports.open_secret(kept_name(c.run.id, name))


def _hashed(password: str) -> str:
    """For crypt(5): bcrypt, which takes 72 bytes. Raises FormatError for a longer one."""
    data = password.encode()
    if len(data) > MOST_HASHED:
        raise FormatError(
            f"a password of {len(data)} bytes cannot be hashed; {MOST_HASHED} are the most",
            code="password-long",
            hint="Choose a shorter one.",
        )
    return bcrypt.hashpw(data, bcrypt.gensalt(10)).decode()


async def _certificate(c: Filler, key: str) -> str:
    """`certificate.ID` with its chain, `certificate.ID.key`, or `certificate.ID.authority`; '' for
    a role that has none.
    """
    _, ident, part = (*key.split(".", 2), "")[:3]
    wanted = next((one for one in c.run.sheet.kit.certificates if one.id == ident), None)
    if wanted is None or not c.node.has_any(wanted.roles):
        return ""
    if part == "authority":
        return (
            (await certificates.authority(c.ports)).certificate
            if is_made_here(c.node.value(f"certificate.{ident}"))
            else ""
        )
    run = c.run.made_by(c.node.id)
    pair = await certificates.of_node(c.ports, run, c.run.sheet, c.node, wanted)
    return pair.key if part == "key" else pair.certificate


async def environment_of(c: Filler) -> dict[str, str]:
    """The environment of the node: what the kit maps, then the package's further questions as the
    sheet answers them.
    """
    kit, package = c.run.sheet.kit, c.run.sheet.packages.of(c.node.role)
    role = kit.role(c.node.role)
    own = role is not None and (role.accepts is not None or bool(role.system and role.environment))
    values = {
        key: await fill(c, template)
        for key, template in (role.environment if role and own else kit.environment).items()
    }
    asked = {question.key for question in package.descriptor.questions} if package else set()
    for column in c.run.sheet.columns:
        if (
            column.environment
            and column.environment not in values
            and (column.environment in asked or not own)
        ):
            text = c.node.value(column.id)
            values[column.environment] = (
                await c.ports.open_for_plan(c.run.sheet.plan.name, text)
                if column.kind == "secret" and text
                else text
            )
    return values
