"""Fetching large files by HTTP, by range where the server can."""

from __future__ import annotations

import asyncio
import contextlib
import re
import socket
import ssl
from collections.abc import AsyncIterator
from dataclasses import dataclass
from functools import cache
from ipaddress import IPv4Address
from urllib.parse import urljoin, urlsplit

import httpx

from nimble_stone.core.errors import InputError, RemoteFailed, RemoteTimeout, Unreachable
from nimble_stone.core.weburl import login_of, shown
from nimble_stone.reach.policy import DialPolicy

MAX_REDIRECTS = 5
STALL_S = 30.0


def _reason(error: httpx.HTTPError) -> str:
    return (
        "connection refused"
        if "refused" in str(error).lower() or "attempts failed" in str(error)
        else str(error)[:160] or type(error).__name__
    )


@dataclass(frozen=True)
class Fetched:
    """A file under way: where its bytes begin, its whole size in bytes (None when the server does
    not say), and the bytes.
    """

    offset: int
    total: int | None
    pieces: AsyncIterator[bytes]


async def locate(policy: DialPolicy, url: str) -> tuple[str, int]:
    """The address and port a URL leads to. Raises InputError when the policy forbids every one of
    them, Unreachable for an unknown name.
    """
    parts = urlsplit(url)
    try:
        port = parts.port or (443 if parts.scheme == "https" else 80)
    except ValueError as error:
        raise InputError("the address has an impossible port", code="url") from error
    host = parts.hostname or ""
    try:
        found = await asyncio.get_running_loop().getaddrinfo(
            host, port, family=socket.AF_INET, type=socket.SOCK_STREAM
        )
    except (OSError, UnicodeError) as error:
        raise Unreachable(
            f"the name “{host[:100]}” is not known",
            target=host,
            operation="look up",
            hint="See whether the address is right.",
        ) from error
    refused: InputError | None = None
    for address in dict.fromkeys(str(entry[4][0]) for entry in found):
        try:
            return policy.fetchable(address, port, is_own)
        except InputError as error:
            refused = error
    raise refused or InputError(f"“{host}” has no IPv4 address", code="dial-address")


def is_own(address: str) -> bool:
    """Whether an IPv4 address is this machine's: loopback, link-local, unspecified, or one that a
    socket can be bound to.
    """
    known = IPv4Address(address)
    if known.is_loopback or known.is_link_local or known.is_unspecified or known.is_multicast:
        return True
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        try:
            probe.bind((address, 0))
        except OSError:
            return False
    return True


@cache
def _system_trust() -> ssl.SSLContext:
    """The authorities this system trusts."""
    return ssl.create_default_context()


@contextlib.asynccontextmanager
async def fetch(policy: DialPolicy, url: str, offset: int = 0) -> AsyncIterator[Fetched]:
    """Get a file from byte `offset` on, or from its start where the server cannot. Redirects are
    followed, each under the policy.

    Raises: Unreachable, RemoteTimeout (worth another try), RemoteFailed (an answer that says no),
    InputError.
    """
    timeout = httpx.Timeout(STALL_S, connect=policy.connect_seconds)
    first, login = urlsplit(url), login_of(url)
    trusted = await asyncio.to_thread(_system_trust)
    try:
        async with httpx.AsyncClient(timeout=timeout, trust_env=False, verify=trusted) as client:
            for _ in range(MAX_REDIRECTS + 1):
                parts = urlsplit(url)
                address, port = await locate(policy, url)
                headers = {
                    "Host": parts.netloc.rpartition("@")[2],
                    "Accept-Encoding": "identity",
                } | ({"Range": f"bytes={offset}-"} if offset else {})
                target = parts._replace(netloc=f"{address}:{port}", fragment="").geturl()
                # A login goes to the server it was given for and to no other that a redirection
                # names.
                same = (parts.scheme, parts.hostname, parts.port) == (
                    first.scheme,
                    first.hostname,
                    first.port,
                )
                auth = login if same else None
                async with client.stream(
                    "GET",
                    target,
                    headers=headers,
                    auth=auth,
                    extensions={"sni_hostname": parts.hostname},
                ) as answer:
                    if (
                        answer.status_code in (301, 302, 303, 307, 308)
                        and "Location" in answer.headers
                    ):
                        url = urljoin(url, answer.headers["Location"])
                        if urlsplit(url).scheme not in ("http", "https"):
                            raise RemoteFailed(
                                f"{parts.hostname} redirects to an address that is not valid",
                                target=shown(url),
                                operation="fetch",
                            )
                        continue
                    yield _begun(answer, url, offset)
                    return
            raise RemoteFailed(
                f"more than {MAX_REDIRECTS} redirections", target=shown(url), operation="fetch"
            )
    except httpx.TimeoutException as error:
        raise RemoteTimeout(
            f"{urlsplit(url).hostname} sent nothing for {STALL_S:g} s",
            target=shown(url),
            operation="fetch",
        ) from error
    except httpx.HTTPError as error:
        raise Unreachable(
            f"{urlsplit(url).hostname}: {_reason(error)}",
            target=shown(url),
            operation="fetch",
            hint="See whether the address is right.",
        ) from error


def _begun(answer: httpx.Response, url: str, offset: int) -> Fetched:
    if answer.status_code == 206:
        match = re.fullmatch(
            r"bytes (\d{1,18})-\d{1,18}/(\d{1,18}|\*)",
            answer.headers.get("Content-Range", "").strip(),
        )
        if match and int(match[1]) == offset:
            return Fetched(offset, int(match[2]) if match[2] != "*" else None, answer.aiter_raw())
        raise RemoteFailed(
            "the web server answers with another part of the file than was asked for",
            target=shown(url),
            operation="fetch",
        )
    if answer.status_code == 416 and offset:
        return Fetched(0, None, _nothing())
    if answer.status_code != 200:
        raise RemoteFailed(
            f"the web server answers with status {answer.status_code}",
            target=shown(url),
            operation="fetch",
            code="url-status",
            hint="Check that the file exists, and whether it needs a login.",
        )
    length = answer.headers.get("Content-Length", "")
    return Fetched(
        0, int(length) if length.isdigit() and len(length) < 16 else None, answer.aiter_raw()
    )


async def _nothing() -> AsyncIterator[bytes]:
    return
    yield b""
