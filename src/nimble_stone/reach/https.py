"""HTTPS to management controllers: their certificates are self-made as a rule, so the very
certificate is pinned, not its maker.

A request is sent only after the handshake has shown the pinned certificate; passwords never reach
anybody else.
"""

from __future__ import annotations

import asyncio
import hashlib
import json
import ssl
import time
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import aiohttp
from cryptography import x509
from cryptography.hazmat.primitives import serialization

from nimble_stone.core.errors import (
    CertificateChanged,
    FormatError,
    RemoteFailed,
    RemoteTimeout,
    Unreachable,
)
from nimble_stone.reach.policy import DialPolicy

MAX_BODY = 1 << 20


@dataclass(frozen=True)
class Certificate:
    """What a server showed. `odd` says in words what a browser would complain of beside its maker,
    '' nothing.
    """

    fingerprint: str
    subject: str
    odd: str


@dataclass(frozen=True)
class JsonAnswer:
    """Status, the JSON object of the body ({} when it is none) and the headers, names in lower
    case.
    """

    status: int
    data: dict[str, Any]
    headers: dict[str, str] = field(default_factory=dict)


def fingerprint_of(der: bytes) -> str:
    """SHA-256 of a certificate, as people compare it."""
    digest = hashlib.sha256(der).hexdigest().upper()
    return "SHA256 " + ":".join(digest[n : n + 2] for n in range(0, 64, 2))


def describe(der: bytes, address: str, now: float) -> Certificate:
    """A certificate in words. Raises FormatError when it is none."""
    try:
        found = x509.load_der_x509_certificate(der)
        names: set[str] = set()
        try:
            alternative = found.extensions.get_extension_for_class(
                x509.SubjectAlternativeName
            ).value
            names = {
                *(str(name) for name in alternative.get_values_for_type(x509.IPAddress)),
                *alternative.get_values_for_type(x509.DNSName),
            }
        except x509.ExtensionNotFound:
            pass
        common = [
            str(item.value)
            for item in found.subject.get_attributes_for_oid(x509.NameOID.COMMON_NAME)
        ]
    except (ValueError, TypeError) as error:
        raise FormatError(
            f"{address} shows a certificate that cannot be read: {error}",
            hint="Install a valid certificate.",
        ) from error
    moment = datetime.fromtimestamp(now, UTC)
    odd = []
    if found.not_valid_after_utc < moment:
        odd.append(f"expired on {found.not_valid_after_utc:%Y-%m-%d}")
    if found.not_valid_before_utc > moment:
        odd.append(f"is valid only from {found.not_valid_before_utc:%Y-%m-%d}")
    if names and address not in names:
        odd.append(f"is issued to {', '.join(sorted(names)[:3])}")
    return Certificate(fingerprint_of(der), ", ".join(common)[:120], " and ".join(odd))


async def certificate(policy: DialPolicy, address: str, port: int, now: float) -> Certificate:
    """The certificate a server shows; nothing is sent to it. Raises Unreachable, InputError,
    FormatError.
    """
    host, real_port = policy.real(address, port)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    try:
        async with asyncio.timeout(policy.connect_seconds * 2):
            _, writer = await asyncio.open_connection(host, real_port, ssl=context)
            der = writer.get_extra_info("ssl_object").getpeercert(binary_form=True)
            writer.close()
    except TimeoutError as error:
        raise Unreachable(
            f"{address}:{port} does not answer within {policy.connect_seconds * 2:g} s",
            target=address,
            operation="connect",
        ) from error
    except (OSError, ssl.SSLError) as error:
        reason = (
            "no service listens on this port"
            if isinstance(error, ConnectionRefusedError)
            else f"it does not speak TLS ({type(error).__name__})"
        )
        raise Unreachable(
            f"{address}:{port} cannot be reached: {reason}", target=address, operation="connect"
        ) from error
    if not der:
        raise Unreachable(
            f"{address}:{port} shows no certificate", target=address, operation="connect"
        )
    return describe(der, address, now)


async def trust(
    policy: DialPolicy, address: str, port: int, trusted: str, name: str, *, exactly: bool = False
) -> str:
    """Connect and check that the server's certificate is valid for `name` and signed by a
    certificate of `trusted` (PEM); with `exactly` it must be the
    first of them itself, and its name is left to whoever brought it. Answers with what is wrong in
    words that continue the certificate's name, '' nothing.
    Raises Unreachable, InputError.
    """
    host, real_port = policy.real(address, port)
    context = ssl.create_default_context(cadata=trusted)
    if exactly:
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    try:
        async with asyncio.timeout(policy.connect_seconds * 2):
            _, writer = await asyncio.open_connection(
                host, real_port, ssl=context, server_hostname=name
            )
            der = writer.get_extra_info("ssl_object").getpeercert(binary_form=True)
            writer.close()
    except ssl.SSLCertVerificationError as error:
        return f"not trusted: {error.verify_message[:160]}"
    except (OSError, TimeoutError, ssl.SSLError) as error:
        raise Unreachable(
            f"{address}:{port} shows no certificate ({type(error).__name__})",
            target=address,
            operation="connect",
        ) from error
    if exactly and der != x509.load_pem_x509_certificates(trusted.encode())[0].public_bytes(
        serialization.Encoding.DER
    ):
        return "is another than the one that was brought"
    return ""


class HttpsPeer:
    """A server whose certificate is known by its fingerprint. Use as an async context manager."""

    def __init__(
        self,
        policy: DialPolicy,
        address: str,
        port: int,
        fingerprint: str,
        *,
        limit_s: float = 30.0,
    ) -> None:
        self._address, self._port, self._limit_s = address, port, limit_s
        self._host, self._real_port = policy.real(address, port)
        self._pin = aiohttp.Fingerprint(
            bytes.fromhex(fingerprint.removeprefix("SHA256 ").replace(":", ""))
        )
        self._timeout = aiohttp.ClientTimeout(total=limit_s, sock_connect=policy.connect_seconds)
        self._session: aiohttp.ClientSession | None = None
        self.seconds = 0.0

    async def __aenter__(self) -> HttpsPeer:
        self._session = aiohttp.ClientSession(
            timeout=self._timeout,
            connector=aiohttp.TCPConnector(limit=4),
            cookie_jar=aiohttp.DummyCookieJar(),
        )
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._session is not None:
            await self._session.close()

    async def ask(
        self,
        method: str,
        path: str,
        *,
        body: dict[str, Any] | None = None,
        headers: dict[str, str] | None = None,
    ) -> JsonAnswer:
        """One request. Raises Unreachable, RemoteTimeout, CertificateChanged, RemoteFailed (answer
        too large or no JSON).
        """
        assert self._session is not None
        what = f"{method} https://{self._address}:{self._port}{path}"
        began = time.monotonic()
        try:
            async with self._session.request(
                method,
                f"https://{self._host}:{self._real_port}{path}",
                json=body,
                ssl=self._pin,
                allow_redirects=False,
                headers={
                    "Host": self._address,
                    "Accept": "application/json",
                    "OData-Version": "4.0",
                    **(headers or {}),
                },
            ) as answer:
                data = b""
                async for piece in answer.content.iter_chunked(1 << 16):
                    data += piece
                    if len(data) > MAX_BODY:
                        raise RemoteFailed(
                            f"{what} is answered with more than 1 MiB",
                            target=self._address,
                            operation=what,
                        )
                status, fields = (
                    answer.status,
                    {key.lower(): value for key, value in answer.headers.items()},
                )
        except aiohttp.ServerFingerprintMismatch as error:
            raise CertificateChanged(
                f"{self._address} presents a different certificate than the pinned one. The"
                " controller got a new one, or the connection is intercepted",
                target=self._address,
                operation="connect",
                hint=(
                    "Compare the fingerprint on the controller itself; forget the old one only if"
                    " the new one is right."
                ),
            ) from error
        except TimeoutError as error:
            raise RemoteTimeout(
                f"{what}: no answer within {self._limit_s:g} s",
                target=self._address,
                operation=what,
                hint="The controller may be restarting. Refresh in 1 minute.",
            ) from error
        except (aiohttp.ClientError, OSError, ssl.SSLError, ValueError) as error:
            raise Unreachable(
                f"{what}: {str(error)[:160] or type(error).__name__}".replace(
                    f"{self._host}:{self._real_port}", f"{self._address}:{self._port}"
                ),
                target=self._address,
                operation=what,
                hint="See whether the controller is up.",
            ) from error
        self.seconds += time.monotonic() - began
        return JsonAnswer(status, _object(data), fields)


def _object(data: bytes) -> dict[str, Any]:
    try:
        found = json.loads(data or b"{}")
    except (ValueError, RecursionError):
        return {}
    return found if isinstance(found, dict) else {}
