"""Whom a server's certificate makes it: checked by a real handshake."""

from __future__ import annotations

import asyncio
import socket
import ssl
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

import pytest

from nimble_stone.core.errors import Unreachable
from nimble_stone.keyring import certificates as c
from nimble_stone.reach import DialPolicy
from nimble_stone.reach.calls import Ask, Place, ask, session
from nimble_stone.reach.https import trust
from tests.support.ssh_servers import listening

OURS, THEIRS = c.make_authority(time.time()), c.make_authority(time.time(), "Holm")


@asynccontextmanager
async def serving(pair: c.Pair | None, folder: Path) -> AsyncIterator[int]:
    context = None
    if pair:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        (folder / "pair.pem").write_text(pair.certificate + pair.key)
        context.load_cert_chain(folder / "pair.pem")
    server = await asyncio.start_server(
        lambda _, writer: writer.close(), "127.0.0.1", 0, ssl=context
    )
    async with server:
        yield server.sockets[0].getsockname()[1]


async def test_made_here_is_believed_by_name_only(tmp_path: Path) -> None:
    policy = DialPolicy()
    async with serving(c.issue(OURS, ["a.holm.example"], time.time()), tmp_path) as port:
        assert await trust(policy, "127.0.0.1", port, OURS.certificate, "a.holm.example") == ""
        assert "mismatch" in await trust(
            policy, "127.0.0.1", port, OURS.certificate, "b.holm.example"
        )
        assert (
            await trust(policy, "127.0.0.1", port, THEIRS.certificate, "a.holm.example")
        ).startswith("not trusted")


async def test_brought_must_be_that_very_one(tmp_path: Path) -> None:
    policy, mine, other = (
        DialPolicy(),
        c.issue(THEIRS, ["a.holm.example"], time.time()),
        c.issue(THEIRS, ["a.holm.example"], time.time()),
    )
    async with serving(mine, tmp_path) as port:
        assert (
            await trust(policy, "127.0.0.1", port, mine.certificate, "a.holm.example", exactly=True)
            == ""
        )
        assert (
            await trust(
                policy, "127.0.0.1", port, other.certificate, "a.holm.example", exactly=True
            )
            == "is another than the one that was brought"
        )


async def test_who_shows_no_certificate_is_not_believed(tmp_path: Path) -> None:
    async with serving(None, tmp_path) as port:
        with pytest.raises(Unreachable, match="shows no certificate"):
            await trust(DialPolicy(), "127.0.0.1", port, OURS.certificate, "a.holm.example")
    with pytest.raises(Unreachable):
        await trust(DialPolicy(), "127.0.0.1", port, OURS.certificate, "a.holm.example")


async def test_our_own_certificate_is_shown_to_who_wants_one(tmp_path: Path) -> None:
    """By OpenSSL's own server, which takes nobody without one of its authority."""
    now = time.time()
    server, ours, foreign = (
        c.issue(OURS, ["a.holm.example"], now),
        c.issue(OURS, ["b.holm.example"], now),
        c.issue(THEIRS, ["b.holm.example"], now),
    )
    (tmp_path / "pair.pem").write_text(server.certificate + server.key)
    (tmp_path / "authority.pem").write_text(OURS.certificate)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    process = await asyncio.create_subprocess_exec(
        *("openssl", "s_server", "-quiet", "-www", "-accept", f"127.0.0.1:{port}"),
        *("-cert", tmp_path / "pair.pem", "-CAfile", tmp_path / "authority.pem"),
        *("-Verify", "1", "-verify_return_error"),
        stderr=asyncio.subprocess.DEVNULL,
    )
    try:
        await listening(port)

        async def asked(pair: c.Pair | None) -> int:
            shown = pair.certificate + pair.key if pair else ""
            place = Place("127.0.0.1", port, OURS.certificate, "a.holm.example", shown)
            async with session() as by:
                found = await ask(by, DialPolicy(), place, Ask("GET", "/"), limit_s=10)
            return found.status

        assert await asked(ours) == 200
        for wrong in (None, foreign):
            with pytest.raises(Unreachable):
                await asked(wrong)
        assert await asked(ours) == 200
    finally:
        process.terminate()
        await process.wait()
