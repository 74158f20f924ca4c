"""Questions by UDP, asked of Debian's own servers: ISC's bind and chronyd."""

from __future__ import annotations

import asyncio
import socket
import threading
from collections.abc import Callable, Coroutine, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

import pytest

from nimble_stone.core.errors import RemoteFailed, RemoteTimeout, StoneError, Unreachable
from nimble_stone.core.reply import Reply, read
from nimble_stone.reach import datagrams
from nimble_stone.reach.policy import DialPolicy
from tests.hosts.controllers import free_port
from tests.support.named import Named, nsupdate
from tests.support.processes import wait_for
from tests.support.timed import Timed

HERE, POLICY = "127.0.0.1", DialPolicy()
T = TypeVar("T")


def now(work: Coroutine[Any, Any, T]) -> T:
    return asyncio.run(work)


def said(reply: Reply, *what: str) -> list[str | None]:
    return [read(reply, one) for one in what]


@pytest.fixture(scope="module")
def named(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Named]:
    found = Named(tmp_path_factory.mktemp("named"))
    long = "x" * 250
    trouble = nsupdate(
        found,
        "zone kelda.holm.example",
        "update add a.kelda.holm.example 77 A 10.44.20.21",
        "update add a.kelda.holm.example 77 A 10.44.20.22",
        *(f'update add long.kelda.holm.example 60 TXT "{n}{long}"' for n in range(9)),
    )
    assert trouble == ""
    yield found
    found.close()


def test_a_name_server_is_asked(named: Named) -> None:
    def ask(name: str, kind: str = "A") -> Reply:
        return now(datagrams.ask_name(POLICY, HERE, named.port, name, kind, limit_s=5))

    known = ask("a.kelda.holm.example")
    assert said(known, "status", "count:$.answers[*]", "ttl", "authoritative") == [
        "NOERROR",
        "2",
        "77",
        "true",
    ]
    assert sorted(known.json()["answers"]) == ["10.44.20.21", "10.44.20.22"]
    assert said(ask("b.kelda.holm.example"), "status", "count:$.answers[*]") == ["NXDOMAIN", "0"]
    assert said(ask("kelda.holm.example", "SOA"), "$.answers[0]")[0] is not None
    # what does not fit into a datagram is fetched by TCP (RFC 7766)
    assert said(ask("long.kelda.holm.example", "TXT"), "count:$.answers[*]") == ["9"]
    # of others it knows nothing, and says so
    assert said(ask("elsewhere.example"), "status") == ["REFUSED"]
    for name in ("a..b", "x" * 70):
        with pytest.raises(RemoteFailed, match="is no name that DNS knows"):
            ask(name)


def test_a_time_server_is_asked(tmp_path: Path) -> None:
    port = free_port()
    server = Timed(tmp_path / "good", HERE, port)
    try:
        found = _once_it_listens(lambda: datagrams.ask_time(POLICY, HERE, port, limit_s=3))
        # it shares this machine's clock
        assert abs(float(read(found, "offset_ms") or "nan")) < 500
        assert 0 <= float(read(found, "delay_ms") or "nan") < 3000
        assert said(found, "stratum", "synchronised") == ["8", "true"]
    finally:
        server.close()
    lost = Timed(tmp_path / "lost", HERE, port, stratum=0)
    try:
        found = _once_it_listens(lambda: datagrams.ask_time(POLICY, HERE, port, limit_s=3))
        assert said(found, "synchronised") == ["false"]
    finally:
        lost.close()


def _once_it_listens(ask: Callable[[], Coroutine[Any, Any, Reply]]) -> Reply:
    def answered() -> Reply | None:
        try:
            return now(ask())
        except Unreachable:
            return None

    found = wait_for(answered, 20, "the server")
    assert isinstance(found, Reply)
    return found


@contextmanager
def server(answers: Callable[[int, bytes], list[bytes]]) -> Iterator[int]:
    """A UDP server of the tests: what it answers to the n-th datagram. Its port."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind((HERE, 0))
        sock.settimeout(0.2)
        end = threading.Event()

        def serve() -> None:
            number = 0
            while not end.is_set():
                try:
                    data, whom = sock.recvfrom(65535)
                except TimeoutError:
                    continue
                number += 1
                for answer in answers(number, data):
                    sock.sendto(answer, whom)

        thread = threading.Thread(target=serve)
        thread.start()
        try:
            yield sock.getsockname()[1]
        finally:
            end.set()
            thread.join()


def losing(port: int) -> Callable[[int, bytes], list[bytes]]:
    """A way to a server that loses the first datagram."""

    def through(number: int, data: bytes) -> list[bytes]:
        if number == 1:
            return []
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as way:
            way.settimeout(5)
            way.connect((HERE, port))
            way.send(data)
            return [way.recv(65535)]

    return through


def test_what_is_lost_is_asked_again_and_is_not_counted_as_time(
    tmp_path: Path, named: Named
) -> None:
    """The second question is another one: its answer says nothing of the first one's way."""
    port = free_port()
    clock = Timed(tmp_path / "clock", HERE, port)
    try:
        _once_it_listens(lambda: datagrams.ask_time(POLICY, HERE, port, limit_s=3))
        with server(losing(port)) as way:
            found = now(datagrams.ask_time(POLICY, HERE, way, limit_s=20))
    finally:
        clock.close()
    # a question that waited for a second would be off by half of it
    assert abs(float(read(found, "offset_ms") or "nan")) < 400
    assert float(read(found, "delay_ms") or "nan") < 900
    with server(losing(named.port)) as way:
        name = "a.kelda.holm.example"
        found = now(datagrams.ask_name(POLICY, HERE, way, name, "A", limit_s=20))
    assert said(found, "count:$.answers[*]") == ["2"]


def test_a_text_is_sent_again_when_it_is_lost() -> None:
    got: list[bytes] = []

    def third(number: int, data: bytes) -> list[bytes]:
        got.append(data)
        return [b"SIP/2.0 200 OK\r\nServer: Bell\r\n"] if number == 2 else []

    with server(third) as port:
        text = "OPTIONS sip:bell SIP/2.0\r\n\r\n"
        found = now(datagrams.ask_datagram(POLICY, HERE, port, text, limit_s=20))
    assert said(found, "pattern:SIP/2.0 ([0-9]+)", "pattern:Server: (\\w+)") == ["200", "Bell"]
    assert got[0] == got[1] == text.encode()


def test_silence_nobody_and_a_forbidden_address_are_told_apart() -> None:
    with server(lambda *_: []) as port:
        with pytest.raises(RemoteTimeout, match=r"no answer within 0\.5 s"):
            now(datagrams.ask_datagram(POLICY, HERE, port, "x", limit_s=0.5))
        with pytest.raises(RemoteTimeout, match="the time of .* by NTP: no answer"):
            now(datagrams.ask_time(POLICY, HERE, port, limit_s=0.5))
    with pytest.raises(Unreachable, match="no service listens on this port"):
        now(datagrams.ask_datagram(POLICY, HERE, free_port(), "x", limit_s=5))
    with pytest.raises(StoneError, match="outside the allowed networks"):
        now(datagrams.ask_time(POLICY, "192.0.2.1", 123, limit_s=1))


@pytest.mark.parametrize("odd", [b"", b"x", b"\x24" * 47, b"\x24" * 48, b"\xff" * 500])
def test_what_is_no_answer_to_the_question_is_not_taken_for_the_time(odd: bytes) -> None:
    """Whoever does not know the question cannot answer it: its number is in the answer."""
    with server(lambda *_: [odd]) as port, pytest.raises(RemoteTimeout):
        now(datagrams.ask_time(POLICY, HERE, port, limit_s=0.5))
