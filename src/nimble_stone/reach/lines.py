"""A line of text by TCP and what comes back: the interface of many small servers. Bounded answers,
one deadline.
"""

from __future__ import annotations

import asyncio
import time

from nimble_stone.core.errors import RemoteFailed, RemoteTimeout
from nimble_stone.core.redaction import shortened
from nimble_stone.core.reply import Reply
from nimble_stone.reach.policy import DialPolicy
from nimble_stone.reach.refusal import unreachable

MAX_ANSWER = 4 << 20


async def ask_line(
    policy: DialPolicy, address: str, port: int, line: str, until: str, *, limit_s: float = 15.0
) -> Reply:
    """What comes until the other side ends the connection, or says the line `until`; its status is
    0. Raises Unreachable, RemoteTimeout, RemoteFailed (answer too large).
    """
    host, real_port = policy.real(address, port)
    what, began = f"{shortened(line, 80)} to {address}:{port}", time.monotonic()
    try:
        async with asyncio.timeout(limit_s):
            reader, writer = await asyncio.open_connection(host, real_port)
            try:
                writer.write(f"{line}\n".encode())
                await writer.drain()
                body = await _read(reader, until.encode(), what, address)
            finally:
                writer.close()
    except TimeoutError as error:
        raise RemoteTimeout(
            f"{what}: no answer within {limit_s:g} s", target=address, operation=what
        ) from error
    except OSError as error:
        raise unreachable(address, port, what, error) from error
    return Reply(0, body, seconds=time.monotonic() - began)


async def _read(reader: asyncio.StreamReader, until: bytes, what: str, address: str) -> bytes:
    body = bytearray()
    while piece := await reader.read(1 << 16):
        body += piece
        if len(body) > MAX_ANSWER:
            raise RemoteFailed(
                f"{what} is answered with more than {MAX_ANSWER >> 20} MiB",
                target=address,
                operation=what,
            )
        # only the end is looked at: an answer of many pieces is not read again for each
        if until and until in [one.strip() for one in bytes(body[-len(until) - 4 :]).splitlines()]:
            break
    return bytes(body)
