"""Name servers: the same for Debian's bind and for the lab's stand-in, asked and changed by us and
by ISC's own clients.
"""

from __future__ import annotations

import asyncio
import socket
from collections.abc import AsyncIterator
from dataclasses import replace
from ipaddress import IPv4Network
from pathlib import Path

import pytest
import pytest_asyncio

from nimble_stone.core.errors import (
    Conflict,
    InputError,
    LoginRefused,
    RemoteFailed,
    RemoteTimeout,
    Unreachable,
)
from nimble_stone.lab import name_server
from nimble_stone.reach.names import Change, Condition, NameDoor, NameServer, Record, look_up
from nimble_stone.reach.policy import DialPolicy, Mapping
from tests.hosts.controllers import free_port
from tests.support.named import LabNames, Named, dig, nsupdate

NAME, BACK = "gauge-1.kelda.holm.example", "11.20.44.10.in-addr.arpa"
A, PTR = Record(NAME, "A", "10.44.20.11"), Record(BACK, "PTR", NAME)
TXT = Record(f"_mark.{NAME}", "TXT", 'run=r1 node="a\\b"')


@pytest_asyncio.fixture(params=["bind", "lab"])
async def served(request: pytest.FixtureRequest, tmp_path: Path) -> AsyncIterator[Named | LabNames]:
    if request.param == "bind":
        real = await asyncio.to_thread(Named, tmp_path)
        yield real
        await asyncio.to_thread(real.close)
        return
    lab, port = name_server.NameServer(tmp_path / "names.json"), free_port()
    await lab.open("127.0.0.1", port)
    yield LabNames("127.0.0.1", port)
    await lab.close()


def door(
    served: Named | LabNames, key: str = name_server.KEY, secret: str = name_server.SECRET
) -> NameDoor:
    return NameDoor(
        DialPolicy(), NameServer(served.address, served.port, key, "hmac-sha256", secret)
    )


def asked_at(served: Named | LabNames) -> DialPolicy:
    """A policy by which port 53 of the server's address is the server's."""
    here = IPv4Network(f"{served.address}/32")
    return DialPolicy(mapped=(Mapping(planned=here, real=here),), low_ports=served.port - 53)


async def dug(served: Named | LabNames, name: str, kind: str) -> list[str]:
    return await asyncio.to_thread(dig, served, name, kind)


async def test_any_client_is_told_both_ways(served: Named | LabNames) -> None:
    ours, policy = door(served), asked_at(served)
    assert await look_up(policy, served.address, NAME, "A") == []
    zone, back = await ours.zone_of(NAME), await ours.zone_of(BACK)
    await ours.update(zone, [Change(A), Change(replace(A, text="10.44.20.12"))])
    await ours.update(back, [Change(PTR)])
    assert await look_up(policy, served.address, NAME, "A") == ["10.44.20.11", "10.44.20.12"]
    assert await look_up(policy, served.address, BACK, "PTR") == [NAME]
    assert await look_up(policy, served.address, NAME, "AAAA") == []


class Datagrams(asyncio.DatagramProtocol):
    """Hands datagrams on to a port, and its answers back; takes no connection."""

    def __init__(self, to: int) -> None:
        self._to = to

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.back = transport

    def datagram_received(self, data: bytes, source: tuple[str, int]) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as on:
            on.settimeout(5)
            on.sendto(data, ("127.0.0.1", self._to))
            self.back.sendto(on.recv(4096), source)  # type: ignore[attr-defined]


async def test_a_server_that_takes_no_connection_is_asked_by_datagrams(tmp_path: Path) -> None:
    real = await asyncio.to_thread(Named, tmp_path)
    ours = door(real)
    await ours.update(await ours.zone_of(NAME), [Change(A)])
    loop = asyncio.get_running_loop()
    relay, _ = await loop.create_datagram_endpoint(
        lambda: Datagrams(real.port), local_addr=("127.0.0.1", 0)
    )
    port = relay.get_extra_info("sockname")[1]
    policy = asked_at(LabNames("127.0.0.1", port))
    assert await look_up(policy, "127.0.0.1", NAME, "A") == ["10.44.20.11"]
    relay.close()
    await asyncio.to_thread(real.close)


async def test_a_name_that_leads_to_another_is_followed_by_its_server(tmp_path: Path) -> None:
    real = await asyncio.to_thread(Named, tmp_path)
    ours, policy = door(real), asked_at(real)
    await ours.update(await ours.zone_of(NAME), [Change(A)])
    alias = f"update add gate.kelda.holm.example 60 CNAME {NAME}."
    assert await asyncio.to_thread(nsupdate, real, alias) == ""
    assert await look_up(policy, real.address, "gate.kelda.holm.example", "A") == ["10.44.20.11"]
    with pytest.raises(RemoteFailed, match="REFUSED"):
        await look_up(policy, real.address, "elsewhere.example", "A")
    await asyncio.to_thread(real.close)
    with pytest.raises(RemoteTimeout, match="name server 127.0.0.1: no answer to A"):
        await look_up(policy, real.address, NAME, "A")


async def test_records_come_and_go_and_others_see_them(served: Named | LabNames) -> None:
    ours = door(served)
    zone = await ours.zone_of(NAME)
    assert zone == "kelda.holm.example"
    assert await ours.zone_of(BACK) == "44.10.in-addr.arpa"
    assert await ours.read(NAME, "A") == []
    await ours.update(zone, [Change(A), Change(TXT)], [Condition(NAME, "A")])
    await ours.update("44.10.in-addr.arpa", [Change(PTR)])
    assert await ours.read(NAME, "A") == ["10.44.20.11"]
    assert await ours.read(TXT.name, "TXT") == [TXT.text]
    assert await ours.read(BACK, "PTR") == [NAME]
    assert await dug(served, NAME, "A") == ["10.44.20.11"]
    assert await dug(served, BACK, "PTR") == [f"{NAME}."]
    # once more is the same once more
    await ours.update(zone, [Change(A)])
    assert await dug(served, NAME, "A") == ["10.44.20.11"]
    await ours.update(
        zone, [Change(A, "remove"), Change(TXT, "remove")], [Condition(TXT.name, "TXT", TXT.text)]
    )
    assert await dug(served, NAME, "A") == []
    assert await ours.read(TXT.name, "TXT") == []


async def test_what_others_made_is_seen_and_a_condition_keeps_it(
    served: Named | LabNames,
) -> None:
    ours = door(served)
    said = await asyncio.to_thread(nsupdate, served, f"update add {NAME} 60 A 10.44.20.99")
    assert said == ""
    with pytest.raises(Conflict) as conflict:
        await ours.update("kelda.holm.example", [Change(A)], [Condition(NAME, "A")])
    assert conflict.value.code == "names-changed"
    with pytest.raises(Conflict):
        await ours.update("kelda.holm.example", [Change(A)], [Condition(TXT.name, "TXT", TXT.text)])
    assert await ours.read(NAME, "A") == ["10.44.20.99"]
    # what is not there as we say it stays
    await ours.update("kelda.holm.example", [Change(A, "remove")])
    assert await dug(served, NAME, "A") == ["10.44.20.99"]
    said = await asyncio.to_thread(nsupdate, served, f"update delete {NAME} A")
    assert said == ""
    assert await ours.read(NAME, "A") == []


async def test_a_wrong_key_and_a_zone_that_is_elsewhere_are_told(
    served: Named | LabNames,
) -> None:
    wrong = door(served, secret="d3JvbmcgYXMgaXQgY2FuIGJlIGhlcmU=")
    with pytest.raises(LoginRefused, match="refuses SOA") as refused:
        await wrong.zone_of(NAME)
    assert refused.value.code == "names-refused"
    stranger = door(served, key="stranger")
    with pytest.raises(LoginRefused):
        await stranger.update("kelda.holm.example", [Change(A)])
    with pytest.raises((RemoteFailed, LoginRefused)):
        await door(served).zone_of("gauge-1.elsewhere.example")
    assert await dug(served, NAME, "A") == []
    with pytest.raises(InputError, match="base64"):
        door(served, secret="not base64 at all!")


async def test_nothing_listens_or_something_else_does() -> None:
    port = free_port()
    with pytest.raises(Unreachable):
        await door(LabNames("127.0.0.1", port)).zone_of(NAME)

    async def web(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.write(b"HTTP/1.1 400 Bad Request\r\n\r\n")
        writer.close()

    server = await asyncio.start_server(web, "127.0.0.1", port)
    with pytest.raises(RemoteFailed, match="does not answer as a name server"):
        await door(LabNames("127.0.0.1", port)).zone_of(NAME)
    server.close()
