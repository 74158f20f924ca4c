"""What every request passes: the name it was sent to, who sends it, and the headers of every
answer.
"""

from __future__ import annotations

import hmac
import ipaddress
import platform
from collections.abc import Iterable
from http.cookies import CookieError, SimpleCookie

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from nimble_stone.server.auth import COOKIE, Door
from nimble_stone.server.problems import problem

OPEN = {("POST", "/api/session"), ("GET", "/api/health")}
HEADERS = {
    b"x-content-type-options": b"nosniff",
    b"referrer-policy": b"no-referrer",
    b"x-frame-options": b"DENY",
    b"content-security-policy": (
        b"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src"
        b" 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    ),
}


def known_names(names: Iterable[str]) -> frozenset[str]:
    """Names under which this server may be addressed: those given, this machine's own, and the
    loopback's.
    """
    own = platform.node().lower()
    return frozenset({"localhost", own, *(name.strip().lower() for name in names)} - {""})


def host_is_known(value: str, names: frozenset[str]) -> bool:
    """Whether a Host header (RFC 9110, 7.2) names this server. An address is always believed: only
    names
    can be made to lead here by a foreign name server."""
    name = value.strip().lower()
    if name.startswith("["):
        name = name[1:].partition("]")[0]
    else:
        name = name.partition(":")[0]
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return name.rstrip(".") in names
    return True


class Guard:
    """ASGI middleware: refuses unknown host names, strangers and forged changes; marks every
    answer.
    """

    def __init__(self, app: ASGIApp, names: frozenset[str]) -> None:
        self._app = app
        self._names = names

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass a request on, or answer it with a problem document."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return

        async def marked(message: Message) -> None:
            if message["type"] == "http.response.start":
                message = {**message, "headers": _with_headers(message["headers"], scope["path"])}
            await send(message)

        refusal = await self._refusal(scope)
        await (refusal or self._app)(scope, receive, marked)

    async def _refusal(self, scope: Scope) -> ASGIApp | None:
        headers = {name: value.decode("latin-1") for name, value in scope["headers"]}
        if not host_is_known(headers.get(b"host", ""), self._names):
            return problem(
                421,
                "host-unknown",
                "Not this server",
                f"This server does not answer to the name “{headers.get(b'host', '')[:100]}”.",
                "Use its address, or start it with --name NAME.",
            )
        path, method = scope["path"], scope["method"]
        if not path.startswith("/api") or (method, path) in OPEN:
            return None
        door: Door = scope["app"].state.door
        caller = await door.caller(
            _cookie(headers.get(b"cookie", "")), _bearer(headers.get(b"authorization", ""))
        )
        if caller is None:
            return problem(401, "denied", "Not signed in", "Sign in with the access key.")
        sent = headers.get(b"x-csrf-token", "").encode("latin-1")
        if (
            method not in ("GET", "HEAD")
            and caller.csrf
            and not hmac.compare_digest(sent, caller.csrf.encode())
        ):
            return problem(
                403,
                "csrf",
                "Not from this page",
                "The request does not carry this session's token.",
                "Load the page again.",
            )
        scope.setdefault("state", {})["caller"] = caller
        return None


def _cookie(header: str) -> str:
    try:
        found = SimpleCookie(header).get(COOKIE)
    except CookieError:
        return ""
    return found.value if found else ""


def _bearer(header: str) -> str:
    kind, _, value = header.partition(" ")
    return value.strip() if kind.lower() == "bearer" else ""


def _with_headers(headers: Iterable[tuple[bytes, bytes]], path: str) -> list[tuple[bytes, bytes]]:
    present = {name.lower() for name, _ in headers}
    more = [(name, value) for name, value in HEADERS.items() if name not in present]
    if path.startswith("/api") and b"cache-control" not in present:
        more.append((b"cache-control", b"no-store"))
    return [*headers, *more]
