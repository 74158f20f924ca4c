"""Who may come in: the access key opens a session, a token stands for the command line or a script.

Guessing is slowed by address and by monotonic time. A try counts from the moment it begins, so
asking in parallel passes no limit; hashing happens in threads, few at a time.
"""

from __future__ import annotations

import asyncio
import hashlib
import ipaddress
import secrets
from collections import OrderedDict, deque
from collections.abc import Callable
from dataclasses import dataclass, field

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from nimble_stone.app.application import Application
from nimble_stone.core.errors import Busy, Denied
from nimble_stone.store import access, records

COOKIE = "nimble-stone-session"
LASTS_S = 14 * 24 * 3600
TRIES, WINDOW_S = 10, 60.0
ADDRESSES = 4096
AT_ONCE, WAITING = 1, 40
TOUCH_S = 60.0
_hasher = PasswordHasher()


@dataclass(frozen=True)
class Caller:
    """Who asks. `csrf`: what changes of a session must carry; '' for a token, which no page sends
    by itself.
    """

    digest: str
    csrf: str = ""
    token: str = ""


@dataclass
class Tries:
    """Tries to sign in that have not been right, by address."""

    monotonic: Callable[[], float]
    _by_address: OrderedDict[str, deque[float]] = field(default_factory=OrderedDict)

    def begin(self, address: str) -> float:
        """Count a try from now on; what to give back if it was right. Raises Busy with the seconds
        to wait.
        """
        now = self.monotonic()
        kept = self._by_address.setdefault(network_of(address), deque())
        self._by_address.move_to_end(network_of(address))
        while len(self._by_address) > ADDRESSES:
            self._by_address.popitem(last=False)
        while kept and now - kept[0] >= WINDOW_S:
            kept.popleft()
        if len(kept) >= TRIES:
            wait = max(1, round(WINDOW_S - (now - kept[0]) + 0.5))
            raise Busy(
                f"Too many attempts from {address}. Try again in {wait} s.",
                code="too-many-tries",
                retry_after_s=wait,
            )
        kept.append(now)
        return now

    def was_right(self, address: str, begun: float) -> None:
        """Forget a try that was right."""
        kept = self._by_address.get(network_of(address), deque())
        if begun in kept:
            kept.remove(begun)


def network_of(address: str) -> str:
    """The address whose tries are counted together: an IPv4 address, or an IPv6 network of
    64 bits.
    """
    try:
        known = ipaddress.ip_address(address)
    except ValueError:
        return address
    return str(ipaddress.ip_network((known, 64), strict=False)) if known.version == 6 else address


class Door:
    """Signing in, and recognizing who has."""

    def __init__(self, app: Application) -> None:
        self._app = app
        self.tries = Tries(app.monotonic)
        self._hashing = asyncio.Semaphore(AT_ONCE)
        self._waiting = 0
        self._touched: dict[str, float] = {}

    async def sign_in(self, key: str, address: str) -> tuple[str, str]:
        """(session token, CSRF token) for the right key. Raises Denied, Busy."""
        begun = self.tries.begin(address)
        known = await self._app.store.read(records.get_meta, "access-key") or ""
        if not await self._right(known, key):
            raise Denied(
                "Wrong access key.",
                code="wrong-key",
                hint=(
                    "Use the key printed at first server start, or create a new one: nimble-stone"
                    " key."
                ),
            )
        self.tries.was_right(address, begun)
        token, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
        now = self._app.clock()
        await self._app.store.write(access.put_session, digest(token), csrf, now + LASTS_S, now)
        return token, csrf

    async def _right(self, known: str, key: str) -> bool:
        if self._waiting >= WAITING:
            raise Busy(
                "Too many people are signing in at this moment. Try again in 2 s.",
                code="sign-in-busy",
                retry_after_s=2,
            )
        self._waiting += 1
        try:
            async with self._hashing:
                return await asyncio.to_thread(matches, known, key)
        finally:
            self._waiting -= 1

    async def caller(self, cookie: str, bearer: str) -> Caller | None:
        """Who a request comes from: a token where it bears one, else a session. None for a
        stranger.
        """
        if bearer:
            return await self._by_token(digest(bearer))
        if not cookie:
            return None
        csrf = await self._app.store.read(access.get_session, digest(cookie), self._app.clock())
        return Caller(digest(cookie), csrf) if csrf is not None else None

    async def _by_token(self, sha256: str) -> Caller | None:
        row = await self._app.store.read(access.find_token, sha256)
        if row is None:
            return None
        now = self._app.monotonic()
        if now - self._touched.get(row.id, -TOUCH_S) >= TOUCH_S:
            self._touched[row.id] = now
            await self._app.store.write(access.touch_token, row.id, self._app.clock())
        return Caller(sha256, token=row.id)

    async def still(self, caller: Caller) -> bool:
        """Whether a caller's session or token has not ended meanwhile."""
        if caller.token:
            return await self._app.store.read(access.find_token, caller.digest) is not None
        return (
            await self._app.store.read(access.get_session, caller.digest, self._app.clock())
            is not None
        )


def matches(known: str, key: str) -> bool:
    """Whether a key has this Argon2 hash. Takes about a tenth of a second: call it in a thread."""
    try:
        return _hasher.verify(known, key)
    except (VerificationError, InvalidHashError):
        return False


def digest(token: str) -> str:
    """What of a session's or script's token is kept."""
    return hashlib.sha256(token.encode()).hexdigest()


def new_key() -> str:
    """A fresh access key: easy to copy, hard to guess (120 bits)."""
    alphabet = "abcdefghjkmnpqrstuvwxyz23456789"
    return "-".join("".join(secrets.choice(alphabet) for _ in range(5)) for _ in range(5))


async def set_key(app: Application, key: str) -> None:
    """Keep the Argon2 hash of a new access key; the key itself is nowhere. Every session and token
    ends.
    """
    await app.store.write(access.rotate, await asyncio.to_thread(_hasher.hash, key))


async def make_token(app: Application, name: str) -> tuple[str, str]:
    """(id, token) of a new token; the token is shown once and kept nowhere."""
    ident, token = secrets.token_hex(4), "ns_" + secrets.token_urlsafe(32)
    await app.store.write(access.add_token, ident, name, digest(token), app.clock())
    return ident, token
