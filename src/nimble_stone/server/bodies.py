"""How much of a request is read: a limit per route, held before and while reading.

JSON is parsed on the event loop, so besides its bytes its values are counted first (at the speed
of a search): a list of a million numbers is refused before anything is built of it.
"""

from __future__ import annotations

import asyncio
import contextlib
import re
from dataclasses import dataclass

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from nimble_stone.server.problems import problem

KIB, MIB = 1 << 10, 1 << 20
DROP_BYTES, DROP_S = 64 * MIB, 5.0
_TEXTS = re.compile(rb'"[^"\\]*+(?:\\.[^"\\]*+)*+"', re.DOTALL)
_MARKS = (b",", b":", b"[", b"{")


@dataclass(frozen=True)
class Limit:
    """Most bytes of a body, and most values where it is JSON. `bytes` 0: a stream with bounds of
    its own.
    """

    bytes: int = 64 * KIB
    values: int = 8_000


USUAL = Limit()
STREAM = Limit(0)
TEXT = Limit(3 * MIB, 2_000)
ROUTES: tuple[tuple[str, re.Pattern[str], Limit], ...] = tuple(
    (method, re.compile(path), limit)
    for method, path, limit in (
        ("POST", r"/api/session", Limit(4 * KIB, 20)),
        ("POST", r"/api/packages", STREAM),
        ("PATCH", r"/api/take-ins/files/[^/]+", STREAM),
        ("POST", r"/api/take-ins", Limit(1 * MIB, 12_000)),
        ("POST", r"/api/plans(/check|/answers)?", TEXT),
        ("PUT", r"/api/plans/[^/]+/file", TEXT),
        ("PATCH", r"/api/plans/[^/]+", Limit(4 * MIB, 50_000)),
        ("POST", r"/api/plans/[^/]+/try", Limit(4 * MIB, 50_000)),
        ("POST", r"/api/plans/[^/]+/pair", Limit(256 * KIB, 50)),
        ("POST", r"/api/plans/[^/]+/sheet", Limit(26 * MIB, 100)),
        ("POST", r"/api/plans/table", Limit(26 * MIB, 2_000)),
        ("PUT", r"/api/values/[^/]+", TEXT),
        ("PUT", r"/api/kits", TEXT),
        ("POST", r"/api/kits/check", TEXT),
        ("POST", r"/api/values/[^/]+/touches", TEXT),
        ("PUT", r"/api/pools", Limit(1 * MIB, 200)),
        ("POST", r"/api/estate", Limit(4 * MIB, 60_000)),
        ("POST", r"/api/estate/list", Limit(5 * MIB, 20)),
        ("POST", r"/api/estate/(look|hosts|machines)", Limit(2 * MIB, 40_000)),
        ("POST", r"/api/estate/groundwork(/preview)?", Limit(1 * MIB, 20_000)),
        ("POST", r"/api/trust", Limit(256 * KIB, 20)),
    )
)


def limit_of(method: str, path: str) -> Limit:
    """What a route takes."""
    for known, pattern, limit in ROUTES:
        if known == method and pattern.fullmatch(path):
            return limit
    return USUAL


def holds_more(body: bytes, values: int) -> bool:
    """Whether a JSON text holds more than so many values, by the marks outside its strings. Cost:
    O(bytes), at the
    speed of a search; it stops where there are too many strings."""
    most = 2 * values + 2
    bare, strings = _TEXTS.subn(b"", body, count=most)
    return strings >= most or sum(bare.count(mark) for mark in _MARKS) > values


class BodyLimits:
    """ASGI middleware that reads bodies up to their route's limit and hands them on whole; streams
    pass through.
    """

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer 413 for what is larger than the limit."""
        limit = limit_of(scope["method"], scope["path"]) if scope["type"] == "http" else STREAM
        if not limit.bytes or (
            scope["type"] == "http" and scope["method"] in ("GET", "HEAD", "OPTIONS")
        ):
            await self._app(scope, receive, send)
            return
        announced = next(
            (value for name, value in scope["headers"] if name == b"content-length"), b""
        )
        if announced.isdigit() and len(announced) < 20 and int(announced) > limit.bytes:
            await _let_it_end(scope, receive)
            await _too_large(limit)(scope, receive, send)
            return
        body = bytearray()
        while True:
            message = await receive()
            if message["type"] == "http.disconnect":
                return
            body += message.get("body", b"")
            if len(body) > limit.bytes:
                await _let_it_end(scope, receive)
                await _too_large(limit)(scope, receive, send)
                return
            if not message.get("more_body", False):
                break
        # A large text takes a tenth of a second to count and as long again to parse: others get
        # their turn in between.
        if await asyncio.to_thread(holds_more, bytes(body), limit.values):
            await problem(
                413,
                "body-values",
                "Request too large",
                f"The request holds more than {limit.values} values.",
                "Send less at a time.",
            )(scope, receive, send)
            return
        whole: list[Message] = [{"type": "http.request", "body": bytes(body), "more_body": False}]

        async def replay() -> Message:
            return whole.pop() if whole else await receive()

        await self._app(scope, replay, send)


async def _let_it_end(scope: Scope, receive: Receive) -> None:
    """Drop what a client is still sending, within bounds: one that is cut off while it sends never
    reads why.
    """
    if any(name == b"expect" for name, _ in scope["headers"]):
        return  # it waits for leave before it sends
    dropped = 0
    with contextlib.suppress(TimeoutError):
        async with asyncio.timeout(DROP_S):
            while dropped < DROP_BYTES:
                message = await receive()
                dropped += len(message.get("body", b""))
                if message["type"] == "http.disconnect" or not message.get("more_body", False):
                    return


def _too_large(limit: Limit) -> ASGIApp:
    size = f"{limit.bytes // MIB} MiB" if limit.bytes >= MIB else f"{limit.bytes // KIB} KiB"
    return problem(
        413,
        "body-too-large",
        "Request too large",
        f"This address takes at most {size}.",
        "Send less at a time.",
        headers={"Connection": "close"},
    )
