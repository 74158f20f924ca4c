"""Name servers: what they hold, and dynamic updates (RFC 2136) signed with TSIG (RFC 8945).

Asked by TCP: an answer is at most 64 KiB, whatever the server says.
"""

from __future__ import annotations

import binascii
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import dns.asyncquery
import dns.exception
import dns.message
import dns.name
import dns.query
import dns.rcode
import dns.rdata
import dns.rdataclass
import dns.rdatatype
import dns.tsig
import dns.tsigkeyring
import dns.update

from nimble_stone.core.errors import (
    Conflict,
    InputError,
    LoginRefused,
    RemoteFailed,
    RemoteTimeout,
    Unreachable,
)
from nimble_stone.reach.policy import DialPolicy

LIMIT_S, UDP_S = 8.0, 2.0
PORT = 53
_CHANGED = {dns.rcode.YXRRSET, dns.rcode.NXRRSET, dns.rcode.YXDOMAIN, dns.rcode.NXDOMAIN}


@dataclass(frozen=True)
class NameServer:
    """A server that takes updates. `secret`: the key as base64, as tsig-keygen writes it."""

    address: str
    port: int
    key: str
    algorithm: str
    secret: str


@dataclass(frozen=True)
class Record:
    """One record: its full name, kind (A, AAAA, PTR, TXT) and text."""

    name: str
    kind: str
    text: str
    ttl: int = 300


@dataclass(frozen=True)
class Change:
    """A record to add, or to take out; taking out one that is not there is no error."""

    record: Record
    way: Literal["add", "remove"] = "add"


@dataclass(frozen=True)
class Condition:
    """What must be so for an update to be done: the record is there, or (without `text`) the name
    has none of that kind.
    """

    name: str
    kind: str
    text: str = ""


class NameDoor:
    """The door to one name server."""

    def __init__(self, policy: DialPolicy, server: NameServer) -> None:
        """Raises InputError for a key that is none, or an address that may not be dialled."""
        self._server = server
        self._where, self._port = policy.real(server.address, server.port)
        try:
            self._ring = dns.tsigkeyring.from_text({server.key: server.secret})
            self._algorithm = dns.name.from_text(server.algorithm)
        except (binascii.Error, dns.exception.DNSException, ValueError) as error:
            raise InputError(
                f"the key {server.key} of name server {server.address} is not in base64",
                code="names-key",
                hint="Copy the secret from the name server's configuration into the keyring.",
            ) from error

    async def zone_of(self, name: str) -> str:
        """The zone of the server that holds a name, without the dot at its end. Raises
        RemoteFailed where it has none, and what `_ask` does.
        """
        asked = dns.message.make_query(_full(name), "SOA")
        asked.use_tsig(self._ring, algorithm=self._algorithm)
        answer = await self._ask(asked, f"SOA {name}")
        for section in (answer.answer, answer.authority):
            for found in section:
                if found.rdtype == dns.rdatatype.SOA and _full(name).is_subdomain(found.name):
                    return found.name.to_text(omit_final_dot=True)
        raise RemoteFailed(
            f"name server {self._server.address} holds no zone for {name}",
            target=self._server.address,
            code="names-zone",
            hint="Choose the server that holds the zone, or let its keeper add it.",
        )

    async def read(self, name: str, kind: str) -> list[str]:
        """Texts of the records of a kind that a name has, [] none."""
        asked = dns.message.make_query(_full(name), kind)
        asked.use_tsig(self._ring, algorithm=self._algorithm)
        answer = await self._ask(asked, f"{kind} {name}")
        return sorted(
            _text(one)
            for found in answer.answer
            if found.rdtype == dns.rdatatype.from_text(kind) and found.name == _full(name)
            for one in found
        )

    async def update(
        self, zone: str, changes: Sequence[Change], conditions: Sequence[Condition] = ()
    ) -> None:
        """Change a zone, whole or not at all (RFC 2136 section 3). Raises Conflict where a
        condition does not hold, and what `_ask` does.
        """
        message = dns.update.UpdateMessage(
            _full(zone), keyring=self._ring, keyalgorithm=self._algorithm
        )
        for one in conditions:
            if one.text:
                message.present(_full(one.name), one.kind, _quoted(one.text, one.kind))
            else:
                message.absent(_full(one.name), one.kind)
        for change in changes:
            record = change.record
            text = _quoted(record.text, record.kind)
            if change.way == "add":
                message.add(_full(record.name), record.ttl, record.kind, text)
            else:
                message.delete(_full(record.name), record.kind, text)
        await self._ask(message, f"update of {zone}")

    async def _ask(self, message: dns.message.Message, what: str) -> dns.message.Message:
        """Raises Unreachable, RemoteTimeout, LoginRefused (the key), RemoteFailed, Conflict."""
        server, where = self._server, f"name server {self._server.address}"
        try:
            answer = await dns.asyncquery.tcp(
                message, self._where, timeout=LIMIT_S, port=self._port
            )
        except dns.exception.Timeout as error:
            raise RemoteTimeout(
                f"{where}: no answer to {what} within {LIMIT_S:g} s",
                target=server.address,
                operation=what,
            ) from error
        except (dns.tsig.PeerError, dns.tsig.BadSignature, dns.tsig.BadTime) as error:
            raise self._refused(what, str(error)) from error
        except dns.exception.FormError as error:
            # a server that does not know the key may refuse without signing what it says
            if "TSIG" not in str(error):
                raise self._odd(what, error) from error
            raise self._refused(what, "it does not know the key") from error
        except OSError as error:
            raise Unreachable(
                f"{where}: {error.strerror or error}", target=server.address, operation=what
            ) from error
        except (dns.exception.DNSException, EOFError) as error:
            raise self._odd(what, error) from error
        self._judge(message, answer, what)
        return answer

    def _judge(self, message: dns.message.Message, answer: dns.message.Message, what: str) -> None:
        """Raises what the answer's code says."""
        server, where = self._server, f"name server {self._server.address}"
        code, changes = answer.rcode(), isinstance(message, dns.update.UpdateMessage)
        if code == dns.rcode.NOERROR or (code == dns.rcode.NXDOMAIN and not changes):
            return
        if code in _CHANGED:
            raise Conflict(
                f"{where} did not do the {what}: its records have changed meanwhile",
                code="names-changed",
                hint="Retry; the records are read again.",
            )
        if code in (dns.rcode.REFUSED, dns.rcode.NOTAUTH):
            raise self._refused(what, dns.rcode.to_text(code))
        raise RemoteFailed(
            f"{where} answered {what} with {dns.rcode.to_text(code)}",
            target=server.address,
            operation=what,
        )

    def _odd(self, what: str, error: Exception) -> RemoteFailed:
        address, why = self._server.address, str(error)[:120] or type(error).__name__
        return RemoteFailed(
            f"name server {address} does not answer as a name server: {why}",
            target=address,
            operation=what,
        )

    def _refused(self, what: str, why: str) -> LoginRefused:
        return LoginRefused(
            f"name server {self._server.address} refuses {what} with key {self._server.key}: {why}",
            target=self._server.address,
            code="names-refused",
            hint="Correct the key, or let the server's keeper allow it for that zone.",
        )


async def look_up(policy: DialPolicy, address: str, name: str, kind: str) -> list[str]:
    """Texts of the records of a kind (A, AAAA, PTR) that a name server tells of a name, [] none: as
    any client asks it, which does not know it as the keeper of a zone. By TCP; by UDP where it
    takes no connection. Raises Unreachable, RemoteTimeout, RemoteFailed.
    """
    where, port = policy.real(address, PORT)
    asked = dns.message.make_query(_full(name), kind)
    what = f"{kind} {name}"
    try:
        try:
            answer = await dns.asyncquery.tcp(asked, where, timeout=LIMIT_S / 2, port=port)
        except (OSError, dns.exception.Timeout):
            answer = await dns.asyncquery.udp(asked, where, timeout=UDP_S, port=port)
    except dns.exception.Timeout as error:
        raise RemoteTimeout(
            f"name server {address}: no answer to {what}", target=address, operation=what
        ) from error
    except OSError as error:
        raise Unreachable(
            f"name server {address}: {error.strerror or error}", target=address, operation=what
        ) from error
    except (dns.exception.DNSException, EOFError) as error:
        raise RemoteFailed(
            f"name server {address} does not answer as a name server: {str(error)[:120]}",
            target=address,
            operation=what,
        ) from error
    code = answer.rcode()
    if code not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
        raise RemoteFailed(
            f"name server {address} answered {what} with {dns.rcode.to_text(code)}",
            target=address,
            operation=what,
        )
    wanted = dns.rdatatype.from_text(kind)
    # a name may lead to another one (RFC 1034 section 3.6.2): all that the answer has of the kind
    return sorted(_text(one) for found in answer.answer if found.rdtype == wanted for one in found)


def _full(name: str) -> dns.name.Name:
    return dns.name.from_text(name)


def _quoted(text: str, kind: str) -> str:
    if kind == "TXT":
        escaped = text.replace("\\", "\\\\").replace('"', '\\"')
        return f'"{escaped}"'
    return f"{text}." if kind == "PTR" else text


def _text(data: dns.rdata.Rdata) -> str:
    strings = getattr(data, "strings", None)
    if strings is not None:
        return b"".join(strings).decode("utf-8", "replace")
    return data.to_text().rstrip(".")
