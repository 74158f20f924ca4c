"""Questions by UDP: a text, a name by DNS (RFC 1035), the time by NTP (RFC 5905). One deadline;
what is lost is asked again.
"""

from __future__ import annotations

import asyncio
import json
import secrets
import struct
import time
from collections.abc import Callable
from typing import Any, Protocol

import dns.asyncquery
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode

from nimble_stone.core.errors import RemoteFailed, RemoteTimeout
from nimble_stone.core.redaction import shortened
from nimble_stone.core.reply import Reply
from nimble_stone.reach.policy import DialPolicy
from nimble_stone.reach.refusal import unreachable

AGAIN_S, NAME_AGAIN_S = 1.0, 3.0
"""Seconds after which a question is sent again; a name server may have to ask others first."""
PORTS = {"dns": 53, "ntp": 123}
"""Where such servers usually listen."""
SINCE_1900 = 2_208_988_800
"""Seconds from the beginning of NTP's time to 1970."""
PACKET = struct.Struct("!BBbb11I")
"""Leap, version and mode; stratum; poll; precision; then eleven words (RFC 5905 section 7.3)."""
CLIENT, SERVER = 0x23, 4
"""Version 4 and mode 3; the mode of an answer."""


class _Question(Protocol):
    """What is asked, and whether a datagram answers it."""

    def data(self) -> bytes: ...

    def fits(self, answer: bytes) -> bool: ...


class _Answer(asyncio.DatagramProtocol):
    """The first datagram that `fits`; or why there is none."""

    def __init__(self, fits: Callable[[bytes], bool]) -> None:
        self._fits = fits
        self.come: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()

    def datagram_received(self, data: bytes, addr: tuple[str | Any, int]) -> None:
        """Of the one that was asked: the socket is connected."""
        if not self.come.done() and self._fits(data):
            self.come.set_result(data)

    def error_received(self, exc: Exception) -> None:
        """Nobody listens there, or no way leads there."""
        if not self.come.done():
            self.come.set_exception(exc)


class _Text:
    """A text, the same each time; whatever comes back answers it."""

    def __init__(self, text: str) -> None:
        self._data = text.encode()

    def data(self) -> bytes:
        """What is sent."""
        return self._data

    def fits(self, answer: bytes) -> bool:
        """Anything."""
        return True


class _Time:
    """What time it is; a new question each time, so that an answer tells which one it is to."""

    def __init__(self) -> None:
        self.sent, self.began, self._cookie = 0.0, 0.0, (0, 0)

    def data(self) -> bytes:
        """What is sent says nothing of this machine's clock: the answer repeats a number."""
        self._cookie = (secrets.randbits(32), secrets.randbits(32))
        self.sent, self.began = time.time(), time.monotonic()
        return PACKET.pack(CLIENT, 0, 0, 0, *([0] * 9), *self._cookie)

    def fits(self, answer: bytes) -> bool:
        """An answer to the latest question (RFC 5905 section 8)."""
        if len(answer) < PACKET.size:
            return False
        fields = PACKET.unpack(answer[: PACKET.size])
        return fields[0] & 7 == SERVER and fields[9:11] == self._cookie


async def ask_datagram(
    policy: DialPolicy, address: str, port: int, text: str, *, limit_s: float = 15.0
) -> Reply:
    """The first datagram that comes back; its status is 0. Raises Unreachable, RemoteTimeout."""
    what, began = f"{shortened(text, 80)} to {address}:{port} by UDP", time.monotonic()
    body = await _exchange(policy, address, port, _Text(text), what, limit_s)
    return Reply(0, body, seconds=time.monotonic() - began)


async def ask_time(policy: DialPolicy, address: str, port: int, *, limit_s: float = 15.0) -> Reply:
    """How far a time server is from this machine's clock, as JSON. Raises Unreachable,
    RemoteTimeout, RemoteFailed (it refuses).
    """
    what, asked = f"the time of {address}:{port} by NTP", _Time()
    data = await _exchange(policy, address, port, asked, what, limit_s)
    took = time.monotonic() - asked.began
    fields = PACKET.unpack(data[: PACKET.size])
    code = data[12:16].decode("ascii", "replace").strip("\0")
    if fields[1] == 0 and code.isalpha():
        # a kiss of death (RFC 5905 section 7.4)
        raise RemoteFailed(f"{what}: it refuses ({code})", target=address, operation=what)
    came, gone = _seconds(fields[11], fields[12]), _seconds(fields[13], fields[14])
    offset = ((came - asked.sent) + (gone - (asked.sent + took))) / 2
    told = {
        "offset_ms": round(offset * 1000, 3),
        "delay_ms": round(max(0.0, took - (gone - came)) * 1000, 3),
        "stratum": fields[1],
        "synchronised": fields[0] >> 6 != 3 and fields[1] < 16,
    }
    return Reply(0, json.dumps(told).encode(), seconds=took)


def _seconds(whole: int, part: int) -> float:
    """A timestamp as seconds since 1970; from 2036 on they begin again (RFC 5905 section 6)."""
    era = 1 << 32 if whole < SINCE_1900 else 0
    return whole + era - SINCE_1900 + part / (1 << 32)


async def ask_name(
    policy: DialPolicy, address: str, port: int, name: str, kind: str, *, limit_s: float = 15.0
) -> Reply:
    """What a name server says of a name, as JSON. Raises Unreachable, RemoteTimeout,
    RemoteFailed (it is no name, or what comes back is no answer).
    """
    what, began = f"{kind} {shortened(name, 80)} of {address}:{port} by DNS", time.monotonic()
    try:
        asked = dns.message.make_query(dns.name.from_text(name), kind)
    except (dns.exception.DNSException, UnicodeError) as error:
        raise RemoteFailed(
            f"“{shortened(name, 80)}” is no name that DNS knows: {error}",
            target=address,
            operation=what,
            hint="Correct the kit's text, or the value that it stands for.",
        ) from error
    place, end = policy.real(address, port), time.monotonic() + limit_s
    try:
        answer = await _answer_of(asked, place, end)
    except dns.exception.Timeout as error:
        raise _late(what, address, limit_s) from error
    except dns.exception.DNSException as error:
        raise RemoteFailed(f"{what}: {error}", target=address, operation=what) from error
    except OSError as error:
        raise unreachable(address, port, what, error, " by UDP") from error
    found = [(one.to_text(), rrset.ttl) for rrset in answer.answer for one in rrset]
    told = {
        "status": dns.rcode.to_text(answer.rcode()),
        "answers": [text for text, _ in found],
        "ttl": min((ttl for _, ttl in found), default=0),
        "authoritative": bool(answer.flags & dns.flags.AA),
    }
    return Reply(0, json.dumps(told).encode(), seconds=time.monotonic() - began)


async def _answer_of(
    asked: dns.message.Message, place: tuple[str, int], end: float
) -> dns.message.Message:
    """By UDP, by TCP where the answer does not fit; asked again while there is time."""
    host, port = place
    while True:
        left = end - time.monotonic()
        try:
            answer, _ = await dns.asyncquery.udp_with_fallback(
                asked, host, min(left, NAME_AGAIN_S), port, ignore_unexpected=True
            )
        except dns.exception.Timeout:
            if end - time.monotonic() <= 0:
                raise
        else:
            return answer


async def _exchange(
    policy: DialPolicy,
    address: str,
    port: int,
    asked: _Question,
    what: str,
    limit_s: float,
) -> bytes:
    host, real_port = policy.real(address, port)
    loop = asyncio.get_running_loop()
    try:
        async with asyncio.timeout(limit_s):
            transport, answer = await loop.create_datagram_endpoint(
                lambda: _Answer(asked.fits), remote_addr=(host, real_port)
            )
            try:
                while True:
                    transport.sendto(asked.data())
                    done, _ = await asyncio.wait({answer.come}, timeout=AGAIN_S)
                    if done:
                        return answer.come.result()
            finally:
                transport.close()
    except TimeoutError as error:
        raise _late(what, address, limit_s) from error
    except OSError as error:
        raise unreachable(address, port, what, error, " by UDP") from error


def _late(what: str, address: str, limit_s: float) -> RemoteTimeout:
    return RemoteTimeout(
        f"{what}: no answer within {limit_s:g} s",
        target=address,
        operation=what,
        hint="UDP does not tell what is lost: check that the service is up and a way leads there.",
    )
