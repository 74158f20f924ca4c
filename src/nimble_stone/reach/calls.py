"""Requests to the interfaces of products: HTTP, and HTTPS with a certificate that is known by its
maker or by itself. Bounded answers, one deadline, no redirects.
"""

from __future__ import annotations

import ssl
import tempfile
import time
import zlib
from collections.abc import Mapping
from dataclasses import dataclass, field

import aiohttp

from nimble_stone.core.errors import (
    CertificateChanged,
    RemoteFailed,
    RemoteTimeout,
    Unreachable,
)
from nimble_stone.core.redaction import shortened
from nimble_stone.core.reply import Reply
from nimble_stone.reach.policy import DialPolicy

MAX_BODY = 4 << 20
_WINDOWS = {"gzip": 31, "x-gzip": 31, "deflate": 15}
"""Coding → zlib's window bits for it."""
_PEM = "-----BEGIN CERTIFICATE-----"


@dataclass(frozen=True)
class Place:
    """Where requests go. `trusted`: certificates (PEM) whose holder may answer as `name`, or a
    fingerprint (“SHA256 AA:BB…”) of the only certificate that may; '' for plain HTTP. `shown`: our
    own certificate and its key (PEM), for a server that wants one; '' none.
    """

    address: str
    port: int
    trusted: str = ""
    name: str = ""
    shown: str = field(default="", repr=False)

    @property
    def url(self) -> str:
        """For people: “https://10.44.20.11:443”."""
        return f"http{'s' if self.trusted else ''}://{self.address}:{self.port}"


@dataclass(frozen=True)
class Ask:
    """A request; `path` with its query, escaped."""

    method: str
    path: str
    headers: Mapping[str, str] = field(default_factory=dict)
    content: bytes = b""
    login: tuple[str, str] | None = field(default=None, repr=False)


def _checked(place: Place) -> ssl.SSLContext | aiohttp.Fingerprint:
    if _PEM in place.trusted:
        context = ssl.create_default_context(cadata=place.trusted)
        if place.shown:
            _show(context, place.shown)
        return context
    return aiohttp.Fingerprint(
        bytes.fromhex(place.trusted.removeprefix("SHA256 ").replace(":", ""))
    )


def _show(context: ssl.SSLContext, pair: str) -> None:
    """OpenSSL reads a certificate and its key from a file only: it is there as long as that takes,
    for this account alone.
    """
    with tempfile.NamedTemporaryFile("w", suffix=".pem") as file:
        file.write(pair)
        file.flush()
        context.load_cert_chain(file.name)


def session() -> aiohttp.ClientSession:
    """What requests are sent by: no cookies, each on a connection of its own, as many side by side
    as are asked for. It belongs to the running event loop; close it.
    """
    return aiohttp.ClientSession(
        connector=aiohttp.TCPConnector(force_close=True, limit=0),
        cookie_jar=aiohttp.DummyCookieJar(),
        auto_decompress=False,
    )


def _plain(body: bytes, coding: str, place: Place, what: str) -> bytes:
    """The body without its coding (RFC 9110 section 8.4), which nobody asked for but some send, at
    most as large as an answer may be. Raises RemoteFailed.
    """
    kind = coding.strip().lower()
    if kind in ("", "identity"):
        return body
    if kind not in _WINDOWS:
        raise RemoteFailed(
            f"{what} is answered in the coding “{coding[:40]}”, which is not read here",
            target=place.address,
            operation=what,
        )
    try:
        opened = zlib.decompressobj(_WINDOWS[kind])
        plain = opened.decompress(body, MAX_BODY)
    except zlib.error as error:
        raise RemoteFailed(
            f"{what} is answered in {kind} that cannot be read: {error}",
            target=place.address,
            operation=what,
        ) from error
    if opened.unconsumed_tail:
        raise RemoteFailed(
            f"{what} is answered with more than {MAX_BODY >> 20} MiB, packed",
            target=place.address,
            operation=what,
        )
    return plain


async def ask(
    by: aiohttp.ClientSession,
    policy: DialPolicy,
    place: Place,
    wanted: Ask,
    *,
    limit_s: float = 15.0,
) -> Reply:
    """The answer, whatever its status. Raises Unreachable, RemoteTimeout, CertificateChanged,
    RemoteFailed (answer too large).
    """
    host, port = policy.real(place.address, place.port)
    what = f"{wanted.method} {place.url}{wanted.path}"
    scheme = "https" if place.trusted else "http"
    timeout = aiohttp.ClientTimeout(total=limit_s, sock_connect=policy.connect_seconds)
    began = time.monotonic()
    try:
        async with by.request(
            wanted.method,
            f"{scheme}://{host}:{port}{wanted.path}",
            headers={
                "Host": f"{place.address}:{place.port}",
                "Accept-Encoding": "identity",
                **wanted.headers,
            },
            data=wanted.content or None,
            auth=aiohttp.BasicAuth(*wanted.login, encoding="utf-8") if wanted.login else None,
            ssl=_checked(place) if place.trusted else True,
            server_hostname=(place.name or place.address) if _PEM in place.trusted else None,
            allow_redirects=False,
            timeout=timeout,
        ) as answer:
            body = b""
            async for piece in answer.content.iter_chunked(1 << 16):
                body += piece
                if len(body) > MAX_BODY:
                    raise RemoteFailed(
                        f"{what} is answered with more than {MAX_BODY >> 20} MiB",
                        target=place.address,
                        operation=what,
                    )
            body = _plain(body, answer.headers.get("Content-Encoding", ""), place, what)
            cookies = {name: one.value for name, one in answer.cookies.items()}
            headers = {name.lower(): value for name, value in answer.headers.items()}
            return Reply(answer.status, body, headers, cookies, time.monotonic() - began)
    except TimeoutError as error:
        raise RemoteTimeout(
            f"{what}: no answer within {limit_s:g} s", target=place.address, operation=what
        ) from error
    except aiohttp.ServerFingerprintMismatch as error:
        raise CertificateChanged(
            f"{place.url} shows another certificate than before",
            target=place.address,
            operation=what,
            hint="Find out who replaced it, and put the former one back on the node.",
        ) from error
    except aiohttp.ClientConnectorCertificateError as error:
        raise CertificateChanged(
            f"{place.url} shows a certificate that is not trusted:"
            f" {str(error.certificate_error)[:160]}",
            target=place.address,
            operation=what,
            hint="Install a certificate of this plan's authority on it.",
        ) from error
    except (aiohttp.ClientError, OSError, ValueError) as error:
        words = getattr(error, "strerror", None) or str(error) or type(error).__name__
        raise Unreachable(
            f"{what}: {shortened(str(words), 200)}", target=place.address, operation=what
        ) from error
