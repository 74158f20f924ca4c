"""Lines of text by TCP: what comes until the end, or until a line that says so; and what never
comes.
"""

from __future__ import annotations

import asyncio

import pytest

from nimble_stone.core.errors import RemoteFailed, RemoteTimeout, Unreachable
from nimble_stone.reach import DialPolicy
from nimble_stone.reach.lines import MAX_ANSWER, ask_line

POLICY = DialPolicy()


async def _answers(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    """Memcached's manner for “stats”: an end that is said; others end the connection or do not."""
    line = (await reader.readline()).strip()
    if line == b"stats":
        for piece in (b"STAT up", b"time 4\r\nEN", b"D\r\n"):
            writer.write(piece)
            await writer.drain()
        await reader.read()
    elif line == b"much":
        writer.write(b"x" * (MAX_ANSWER + 1))
    elif line == b"silence":
        await reader.read()
    else:
        writer.write(b"said " + line)
    writer.close()


async def _said(line: str, until: str = "", limit_s: float = 5.0) -> str:
    server = await asyncio.start_server(_answers, "127.0.0.1", 0)
    port = server.sockets[0].getsockname()[1]
    try:
        return (await ask_line(POLICY, "127.0.0.1", port, line, until, limit_s=limit_s)).text
    finally:
        server.close()


async def test_an_answer_ends_with_its_connection_or_with_its_last_line() -> None:
    assert await _said("hello") == "said hello"
    assert await _said("stats", "END") == "STAT uptime 4\r\nEND\r\n"


async def test_answers_are_bounded_in_size_and_time() -> None:
    with pytest.raises(RemoteFailed, match="more than 4 MiB"):
        await _said("much")
    with pytest.raises(RemoteTimeout, match="no answer within 0.3 s"):
        await _said("silence", limit_s=0.3)


async def test_who_is_not_there_is_told_in_words() -> None:
    with pytest.raises(Unreachable, match="127.0.0.1:9 cannot be reached: no service listens"):
        await ask_line(POLICY, "127.0.0.1", 9, "hello", "")
