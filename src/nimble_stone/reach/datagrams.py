"""Questions by UDP: a text, a name by DNS (RFC 1035), the time by NTP (RFC 5905). One deadline;
what is lost is asked again.
"""

from __future__ import annotations

import asyncio
import json
import os
import secrets
import struct
import time
from collections.abc import Callable
from typing import Any

import dns.asyncquery
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode

from nimble_stone.core.errors import RemoteError, RemoteFailed, RemoteTimeout, Unreachable
from nimble_stone.core.redaction import shortened
from nimble_stone.core.reply import Reply
from nimble_stone.reach.policy import DialPolicy

AGAIN_S = 1.0
"""Seconds after which a question is sent again."""
PORTS = {"dns": 53, "ntp": 123}
"""Where such servers usually listen."""
SINCE_1900 = 2_208_988_800
"""Seconds from the beginning of NTP's time to 1970."""
PACKET = struct.Struct("!BBbb11I")
"""Leap, version and mode; stratum; poll; precision; then eleven words (RFC 5905 section 7.3)."""
CLIENT, SERVER = 0x23, 4
"""Version 4 and mode 3; the mode of an answer."""


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


async def ask_datagram(
    policy: DialPolicy, address: str, port: int, text: str, *, limit_s: float = 15.0
) -> Reply:
    """The first datagram that comes back; its status is 0. Raises Unreachable, RemoteTimeout."""
    what, began = f"{shortened(text, 80)} to {address}:{port} by UDP", time.monotonic()
    body = await _exchange(policy, address, port, text.encode(), lambda _: True, what, limit_s)
    return Reply(0, body, seconds=time.monotonic() - began)


async def ask_time(policy: DialPolicy, address: str, port: int, *, limit_s: float = 15.0) -> Reply:
    """How far a time server is from this machine's clock, as JSON. Raises Unreachable,
    RemoteTimeout, RemoteFailed (it is not in step, or refuses).
    """
    what, cookie = f"the time of {address}:{port} by NTP", secrets.randbits(64)
    high, low = cookie >> 32, cookie & 0xFFFFFFFF
    # what is sent says nothing of this machine's clock: the answer repeats it
    asked = PACKET.pack(CLIENT, 0, 0, 0, *([0] * 9), high, low)

    def fits(data: bytes) -> bool:
        """An answer to this very question (RFC 5905 section 8)."""
        if len(data) < PACKET.size:
            return False
        fields = PACKET.unpack(data[: PACKET.size])
        return fields[0] & 7 == SERVER and fields[9:11] == (high, low)

    sent, began = time.time(), time.monotonic()
    data = await _exchange(policy, address, port, asked, fits, what, limit_s)
    took = time.monotonic() - began
    fields = PACKET.unpack(data[: PACKET.size])
    code = data[12:16].decode("ascii", "replace").strip("\0")
    if fields[1] == 0 and code.isalpha():
        # a kiss of death (RFC 5905 section 7.4)
        raise RemoteFailed(f"{what}: it refuses ({code})", target=address, operation=what)
    came, gone = _seconds(fields[11], fields[12]), _seconds(fields[13], fields[14])
    offset = ((came - sent) + (gone - (sent + took))) / 2
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
    host, real_port = policy.real(address, port)
    try:
        answer, _ = await dns.asyncquery.udp_with_fallback(
            asked, host, timeout=limit_s, port=real_port
        )
    except dns.exception.Timeout as error:
        raise _late(what, address, limit_s) from error
    except dns.exception.DNSException as error:
        raise RemoteFailed(f"{what}: {error}", target=address, operation=what) from error
    except OSError as error:
        raise _away(what, address, port, error) from error
    found = [(one.to_text(), rrset.ttl) for rrset in answer.answer for one in rrset]
    told = {
        "status": dns.rcode.to_text(answer.rcode()),
        "answers": [text for text, _ in found],
        "ttl": min((ttl for _, ttl in found), default=0),
        "authoritative": bool(answer.flags & dns.flags.AA),
    }
    return Reply(0, json.dumps(told).encode(), seconds=time.monotonic() - began)


async def _exchange(
    policy: DialPolicy,
    address: str,
    port: int,
    data: bytes,
    fits: Callable[[bytes], bool],
    what: str,
    limit_s: float,
) -> bytes:
    host, real_port = policy.real(address, port)
    loop = asyncio.get_running_loop()
    try:
        async with asyncio.timeout(limit_s):
            transport, answer = await loop.create_datagram_endpoint(
                lambda: _Answer(fits), remote_addr=(host, real_port)
            )
            try:
                while True:
                    transport.sendto(data)
                    done, _ = await asyncio.wait({answer.come}, timeout=AGAIN_S)
                    if done:
                        return answer.come.result()
            finally:
                transport.close()
    except TimeoutError as error:
        raise _late(what, address, limit_s) from error
    except OSError as error:
        raise _away(what, address, port, error) from error


def _late(what: str, address: str, limit_s: float) -> RemoteError:
    return RemoteTimeout(
        f"{what}: no answer within {limit_s:g} s",
        target=address,
        operation=what,
        hint="UDP does not tell what is lost: check that the service is up and a way leads there.",
    )


def _away(what: str, address: str, port: int, error: OSError) -> RemoteError:
    refused = isinstance(error, ConnectionRefusedError)
    why = "no service listens on this port" if refused else os.strerror(error.errno or 0)
    return Unreachable(
        f"{address}:{port} cannot be reached by UDP: {why}",
        target=address,
        operation=what,
        hint="Check that it is up and the address is right.",
    )
