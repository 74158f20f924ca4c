"""A name server that takes signed dynamic updates (RFC 1035, 2136, 8945), for the lab: the zones of
the survey, kept in memory and in a file.
"""

from __future__ import annotations

import asyncio
import json
from collections.abc import Iterable
from pathlib import Path

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.opcode
import dns.rcode
import dns.rdataclass
import dns.rdatatype
import dns.rrset
import dns.tsigkeyring
import dns.update

ADDRESS, OTHER, PORT = "10.44.0.5", "10.45.0.5", 53
"""Where it listens: one address in each machine room."""
KEY, SECRET = "rollouts", "dGlkZS1nYXVnZS1rZWxkYS1uZXNzLTE0MC1ob2xt"
ZONES = (
    "kelda.holm.example.",
    "ness.holm.example.",
    "44.10.in-addr.arpa.",
    "45.10.in-addr.arpa.",
    "0.2.0.0.d.1.e.5.4.4.d.f.ip6.arpa.",
)
MOST = 65_535
"""Bytes of a message by TCP."""


class NameServer:
    """`records`: name and kind → texts. Close with `close`."""

    def __init__(self, file: Path) -> None:
        self._file = file
        self._ring = dns.tsigkeyring.from_text({KEY: SECRET})
        self._zones = [dns.name.from_text(zone) for zone in ZONES]
        self.records: dict[str, list[str]] = {}
        if file.exists():
            self.records = json.loads(file.read_text())
        self._servers: list[asyncio.Server] = []

    async def open(self, address: str, port: int) -> None:
        """Listen there, too."""
        self._servers.append(
            await asyncio.start_server(self._serve, address, port, reuse_address=True)
        )

    async def close(self) -> None:
        """Stop listening."""
        for server in self._servers:
            server.close()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            async with asyncio.timeout(10):
                size = int.from_bytes(await reader.readexactly(2), "big")
                answer = self.answer(await reader.readexactly(size))
                writer.write(len(answer).to_bytes(2, "big") + answer)
                await writer.drain()
        except (OSError, TimeoutError, asyncio.IncompleteReadError):
            pass
        finally:
            writer.close()

    def answer(self, wire: bytes) -> bytes:
        """The answer to a message."""
        try:
            asked = dns.message.from_wire(wire, keyring=self._ring)
        except dns.exception.DNSException:
            return self._refusal(wire)
        answer = dns.message.make_response(asked)
        if isinstance(asked, dns.update.UpdateMessage):
            answer.set_rcode(self._updated(asked))
        elif asked.opcode() == dns.opcode.QUERY and len(asked.question) == 1:
            self._look_up(asked.question[0], answer)
        else:
            answer.set_rcode(dns.rcode.NOTIMP)
        return answer.to_wire(max_size=MOST)

    def _refusal(self, wire: bytes) -> bytes:
        """To a message that is signed with another key, or is none."""
        try:
            asked = dns.message.from_wire(wire, keyring=False, ignore_trailing=True)
        except dns.exception.DNSException:
            return wire[:2] + b"\x80\x01" + bytes(8)  # FORMERR, RFC 1035 section 4.1.1
        answer = dns.message.Message(id=asked.id)
        answer.flags |= dns.flags.QR
        answer.set_rcode(dns.rcode.NOTAUTH)
        return answer.to_wire(max_size=MOST)

    def _zone(self, name: dns.name.Name) -> dns.name.Name | None:
        found = [zone for zone in self._zones if name.is_subdomain(zone)]
        return max(found, key=len, default=None)

    def _look_up(self, asked: dns.rrset.RRset, answer: dns.message.Message) -> None:
        zone = self._zone(asked.name)
        if zone is None:
            answer.set_rcode(dns.rcode.REFUSED)
            return
        answer.flags |= dns.flags.AA
        kind = dns.rdatatype.to_text(asked.rdtype)
        texts = self.records.get(_key(asked.name, kind), [])
        if kind == "SOA" and asked.name == zone:
            texts = [_soa(zone)]
        if texts:
            answer.answer.append(dns.rrset.from_text_list(asked.name, 300, "IN", kind, texts))
            return
        if not self._any(asked.name):
            answer.set_rcode(dns.rcode.NXDOMAIN)
        answer.authority.append(dns.rrset.from_text(zone, 300, "IN", "SOA", _soa(zone)))

    def _any(self, name: dns.name.Name) -> bool:
        return name in self._zones or any(
            key.startswith(f"{_key(name, '')}") for key in self.records
        )

    def _updated(self, asked: dns.update.UpdateMessage) -> dns.rcode.Rcode:
        """RFC 2136 section 3: prerequisites first, then all changes or none."""
        if not asked.had_tsig:
            return dns.rcode.REFUSED
        if not asked.zone or asked.zone[0].name not in self._zones:
            return dns.rcode.NOTAUTH
        for one in asked.prerequisite:
            there = self.records.get(_key(one.name, dns.rdatatype.to_text(one.rdtype)), [])
            if one.rdclass == dns.rdataclass.NONE and there:
                return dns.rcode.YXRRSET
            if one.rdclass == dns.rdataclass.ANY and not there:
                return dns.rcode.NXRRSET
            wanted = {data.to_text() for data in one}
            if one.rdclass == dns.rdataclass.IN and wanted != set(there):
                return dns.rcode.NXRRSET
        self._change(asked.update)
        return dns.rcode.NOERROR

    def _change(self, changes: Iterable[dns.rrset.RRset]) -> None:
        for one in changes:
            key = _key(one.name, dns.rdatatype.to_text(one.rdtype))
            texts = [data.to_text() for data in one]
            there = self.records.get(key, [])
            if one.deleting == dns.rdataclass.ANY:
                there = []
            elif one.deleting == dns.rdataclass.NONE:
                there = [text for text in there if text not in texts]
            else:
                there = list(dict.fromkeys((*there, *texts)))
            self.records[key] = there
            if not there:
                del self.records[key]
        self._file.write_text(json.dumps(self.records))


def _key(name: dns.name.Name, kind: str) -> str:
    return f"{name.to_text().lower()} {kind}"


def _soa(zone: dns.name.Name) -> str:
    return f"names.{zone} keeper.{zone} 1 3600 600 86400 300"
