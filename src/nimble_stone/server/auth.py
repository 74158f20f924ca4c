"""Signing in with the access key: a session cookie for reading, a CSRF token for changing."""

from __future__ import annotations

import hashlib
import hmac
import secrets
from collections.abc import Awaitable, Callable

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from fastapi import FastAPI, Request, Response

from nimble_stone.core.errors import Denied
from nimble_stone.engine.world import World
from nimble_stone.server.problems import problem
from nimble_stone.store import records

COOKIE = "nimble-stone-session"
LASTS_S = 14 * 24 * 3600
TRIES, WINDOW_S = 10, 60.0
_OPEN = {("POST", "/api/session"), ("GET", "/api/health")}
_hasher = PasswordHasher()


def digest(token: str) -> str:
    """What of a session token is kept."""
    return hashlib.sha256(token.encode()).hexdigest()


def new_key() -> str:
    """A fresh access key: easy to copy, hard to guess (120 bits)."""
    alphabet = "abcdefghjkmnpqrstuvwxyz23456789"
    return "-".join("".join(secrets.choice(alphabet) for _ in range(5)) for _ in range(5))


async def set_key(world: World, key: str) -> None:
    """Keep the Argon2 hash of a new access key; the key itself is nowhere."""
    await world.store.write(records.put_meta, "access-key", _hasher.hash(key))


async def sign_in(world: World, key: str, tries: list[float]) -> tuple[str, str]:
    """(session token, CSRF token) for the right key. Raises Denied, also when there were too many tries."""
    now = world.clock()
    tries[:] = [at for at in tries if now - at < WINDOW_S]
    if len(tries) >= TRIES:
        raise Denied("too many tries; wait a minute", code="too-many-tries")
    known = await world.store.read(records.get_meta, "access-key")
    try:
        _hasher.verify(known or "", key)
    except (VerificationError, InvalidHashError) as error:
        tries.append(now)
        raise Denied("this is not the access key", code="wrong-key",
                     hint="It was printed when the server first started; `nimble-stone key` makes a new one.") from error
    token, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
    await world.store.write(records.put_session, digest(token), csrf, now + LASTS_S, now)
    return token, csrf


async def csrf_of(request: Request) -> str | None:
    """The CSRF token of the request's session, None when it has none."""
    token = request.cookies.get(COOKIE)
    world: World = request.app.state.world
    return await world.store.read(records.get_session, digest(token), world.clock()) if token else None


def install(app: FastAPI) -> None:
    """Guard everything below /api."""
    app.state.tries = []

    @app.middleware("http")
    async def guard(request: Request, call_next: Callable[[Request], Awaitable[Response]]) -> Response:
        path = request.url.path
        if path.startswith("/api") and (request.method, path) not in _OPEN:
            csrf = await csrf_of(request)
            if csrf is None:
                return problem(401, "denied", "Not signed in", "Sign in with the access key.")
            if request.method not in ("GET", "HEAD") and not hmac.compare_digest(request.headers.get("X-CSRF-Token", ""), csrf):
                return problem(403, "csrf", "Not from this page", "The request does not carry this session's token.", "Load the page again.")
        answer = await call_next(request)
        answer.headers["X-Content-Type-Options"] = "nosniff"
        answer.headers["Referrer-Policy"] = "no-referrer"
        answer.headers["X-Frame-Options"] = "DENY"
        answer.headers.setdefault("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:")
        return answer
