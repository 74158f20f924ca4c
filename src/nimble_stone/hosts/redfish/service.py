"""A Redfish service (DSP0266) as it is in the wild: sessions that end or are all taken, entity tags
that are demanded, actions that answer with a task, pauses while power changes, long collections.

Links are followed only on the service itself, only so many, and every answer is bounded.
"""

from __future__ import annotations

import asyncio
import contextlib
from base64 import b64encode
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from nimble_stone.core.errors import (
    LoginRefused,
    RemoteFailed,
    RemoteTimeout,
    StoneError,
    Unreachable,
)
from nimble_stone.hosts.redfish.answers import at, message_ids, on_service, said
from nimble_stone.reach.https import JsonAnswer

ROOT = "/redfish/v1/"
MOST = 64
BUSY_S = 180.0
"""How long a service may say that it is busy (503), or a task may take, seconds."""
LONGEST_PAUSE_S = 30.0
ENDED_WELL = frozenset({"Completed"})
ENDED_BADLY = frozenset({"Exception", "Killed", "Cancelled", "Interrupted"})


class Peer(Protocol):
    """Whoever asks the service: one request, one answer."""

    async def ask(
        self,
        method: str,
        path: str,
        *,
        body: dict[str, Any] | None = None,
        headers: dict[str, str] | None = None,
    ) -> JsonAnswer: ...


@dataclass
class Service:
    """One service, logged in for as long as `session` lasts. `pause` waits so many seconds."""

    name: str
    peer: Peer
    user: str
    password: str = field(repr=False)
    pause: Callable[[float], Awaitable[None]] = asyncio.sleep
    home: dict[str, Any] = field(default_factory=dict)
    """The service root, from the moment a session is open."""
    _headers: dict[str, str] = field(default_factory=dict, repr=False)
    _session: str = ""
    _sessions: str = f"{ROOT}SessionService/Sessions"

    @contextlib.asynccontextmanager
    async def session(self) -> AsyncIterator[Service]:
        """Log in, and give the session back at the end: services have few of them. Raises
        RemoteError.
        """
        self.home = await self.root()
        await self._log_in(self.home)
        try:
            yield self
        finally:
            # the service forgets the session by itself; what was done counts
            with contextlib.suppress(StoneError):
                await self._log_out()

    async def root(self) -> dict[str, Any]:
        """The service root, which needs no login. Raises RemoteFailed when it is none."""
        answer = await self.peer.ask("GET", ROOT)
        if answer.status == 503:
            raise self._away("its controller is restarting", f"GET {ROOT}")
        if answer.status != 200 or "RedfishVersion" not in answer.data:
            raise RemoteFailed(
                f"{self.name}: what answers there is no Redfish service (status {answer.status})",
                target=self.name,
                operation=f"GET {ROOT}",
                hint="See whether the address is that of its controller.",
            )
        return answer.data

    def _away(self, words: str, operation: str) -> Unreachable:
        """A service that answers 503 without saying until when."""
        return Unreachable(
            f"{self.name}: {words} (status 503)",
            target=self.name,
            operation=operation,
            hint="Try again in 1 minute.",
        )

    async def _log_in(self, root: Mapping[str, Any]) -> None:
        named = at(root, "Links", "Sessions", "@odata.id")
        if isinstance(named, str) and on_service(named):
            self._sessions = named
        answer = await self._unless_busy(
            "POST", self._sessions, {"UserName": self.user, "Password": self.password}, {}
        )
        token = answer.headers.get("x-auth-token", "")
        if answer.status in (200, 201) and token:
            self._headers = {"X-Auth-Token": token}
            location = answer.headers.get("location", "") or str(answer.data.get("@odata.id", ""))
            self._session = _path(location)
            return
        if answer.status in (404, 405, 501) or _all_taken(answer):
            answer = await self._log_in_each_time(root)
            if answer.status == 200:
                return
        if answer.status == 503:
            raise self._away("its controller takes no login now", "login")
        if answer.status in (400, 401, 403):
            raise LoginRefused(
                f"{self.name} rejected the login for “{self.user}”",
                target=self.name,
                operation="login",
                hint="Correct the credential in the keyring.",
            )
        raise RemoteFailed(
            f"{self.name}: logging in is answered with status {answer.status}",
            target=self.name,
            operation="login",
            hint="The controller may be restarting. Try again in 1 minute.",
        )

    async def _log_in_each_time(self, root: Mapping[str, Any]) -> JsonAnswer:
        """Where there are no sessions, or none is left, every request carries the login (DSP0266,
        HTTP Basic authentication).
        """
        login = b64encode(f"{self.user}:{self.password}".encode()).decode()
        self._headers = {"Authorization": f"Basic {login}"}
        systems = at(root, "Systems", "@odata.id")
        path = systems if isinstance(systems, str) and on_service(systems) else f"{ROOT}Systems"
        return await self._unless_busy("GET", path, None, {})

    async def _log_out(self) -> None:
        if self._session:
            await self.peer.ask("DELETE", self._session, headers=self._headers)
            self._session = ""

    async def ask(self, method: str, path: str, body: dict[str, Any] | None = None) -> JsonAnswer:
        """One request, carried through: a busy service is asked again when it says so, a session
        that ran out is opened again, an entity tag that is demanded is fetched, a task is followed
        to its end. The last answer, whatever its status. Raises RemoteError.
        """
        if not on_service(path):
            raise RemoteFailed(
                f"{self.name} leads on to “{path[:80]}”, which is not on the controller",
                target=self.name,
                operation=method,
                hint="Report it to the controller's maker.",
            )
        extra: dict[str, str] = {}
        again = 3
        while True:
            answer = await self._unless_busy(method, path, body, extra)
            if answer.status == 401 and "X-Auth-Token" in self._headers and again:
                # the session ran out
                self._session, self._headers = "", {}
                await self._log_in(self.home)
            elif answer.status in (412, 428) and method != "GET" and again:
                extra = await self._tag(path)
            else:
                break
            again -= 1
        return await self._finished(answer, f"{method} {path}") if answer.status == 202 else answer

    async def _unless_busy(
        self, method: str, path: str, body: dict[str, Any] | None, extra: dict[str, str]
    ) -> JsonAnswer:
        """An answer other than “not now” (503), which is waited for as long as it says."""
        waited = 0.0
        while True:
            answer = await self.peer.ask(
                method, path, body=body, headers={**self._headers, **extra}
            )
            if answer.status != 503 or _all_taken(answer) or "retry-after" not in answer.headers:
                return answer
            if waited >= BUSY_S:
                raise RemoteTimeout(
                    f"{self.name} is busy for {BUSY_S:g} s ({said(answer) or 'status 503'})",
                    target=self.name,
                    operation=f"{method} {path}",
                    hint="Restart its controller if this stays so.",
                )
            waited += await self._rest(answer)

    async def _rest(self, answer: JsonAnswer) -> float:
        """Wait as long as an answer says; how long that was."""
        text = answer.headers.get("retry-after", "")
        seconds = min(LONGEST_PAUSE_S, float(text)) if text.isdecimal() else 1.0
        seconds = max(0.2, seconds)
        await self.pause(seconds)
        return seconds

    async def _tag(self, path: str) -> dict[str, str]:
        """The entity tag of a resource, as a condition (DSP0266, ETags)."""
        answer = await self._unless_busy("GET", path, None, {})
        tag = answer.headers.get("etag", "") or str(answer.data.get("@odata.etag", ""))
        return {"If-Match": tag or "*"}

    async def _finished(self, answer: JsonAnswer, what: str) -> JsonAnswer:
        """The answer to which a task comes (DSP0266, asynchronous operations)."""
        place = _path(answer.headers.get("location", "")) or str(answer.data.get("@odata.id", ""))
        if not on_service(place):
            # accepted without a task: what comes of it is seen by reading
            return answer
        waited = 0.0
        while True:
            waited += await self._rest(answer)
            answer = await self._unless_busy("GET", place, None, {})
            state = str(answer.data.get("TaskState", ""))
            if state in ENDED_BADLY or answer.status >= 400:
                raise RemoteFailed(
                    f"{self.name}: {what} ended with {state or f'status {answer.status}'}:"
                    f" {said(answer) or _messages(answer) or 'no reason given'}",
                    target=self.name,
                    operation=what,
                    hint="See its controller's own page.",
                )
            if answer.status != 202 and (not state or state in ENDED_WELL):
                return answer
            if waited >= BUSY_S:
                raise RemoteTimeout(
                    f"{self.name}: {what} is accepted, but its task is not done after {BUSY_S:g} s"
                    f" ({state or 'no state'})",
                    target=self.name,
                    operation=what,
                    hint="See its controller's own page.",
                )

    async def get(self, path: str) -> dict[str, Any] | None:
        """A resource, None when there is none. Raises RemoteFailed for other answers."""
        answer = await self.ask("GET", path)
        if answer.status in (404, 405, 501):
            return None
        if answer.status == 503:
            raise self._away("its controller is away", f"GET {path}")
        if answer.status != 200:
            raise RemoteFailed(
                f"{self.name}: GET {path} is answered with status {answer.status}",
                target=self.name,
                operation=f"GET {path}",
                hint=said(answer) or "Read it again in a minute.",
            )
        return answer.data

    async def change(self, method: str, path: str, body: dict[str, Any], what: str) -> JsonAnswer:
        """A request that changes something; `what` names it for people. Raises RemoteFailed in the
        service's own words.
        """
        answer = await self.ask(method, path, body)
        if answer.status not in (200, 201, 202, 204):
            raise self.refused(answer, what)
        return answer

    def refused(self, answer: JsonAnswer, what: str) -> RemoteFailed:
        """That something was not done, in the service's own words."""
        return RemoteFailed(
            f"{self.name}: {what} is answered with status {answer.status}:"
            f" {said(answer) or 'no reason given'}",
            target=self.name,
            operation=what,
            hint="See its controller's own page.",
        )

    async def linked(self, data: Mapping[str, Any] | None, member: str) -> dict[str, Any] | None:
        """The resource behind a link."""
        link = data.get(member) if data else None
        path = link.get("@odata.id") if isinstance(link, dict) else None
        return await self.get(path) if isinstance(path, str) else None

    async def members(self, data: Mapping[str, Any] | None) -> list[dict[str, Any]]:
        """The members of a collection, page after page (DSP0266, Members@odata.nextLink), read one
        after the other: controllers are small. At most 64.
        """
        found: list[dict[str, Any]] = []
        pages = 0
        while data is not None and len(found) < MOST and pages < MOST:
            pages += 1
            links = data.get("Members")
            for item in links if isinstance(links, list) else []:
                path = item.get("@odata.id") if isinstance(item, dict) else None
                if not isinstance(path, str) or len(found) == MOST:
                    continue
                one = await self.get(path)
                if one is not None:
                    found.append(one)
            following = data.get("Members@odata.nextLink")
            data = await self.get(following) if isinstance(following, str) else None
        return found


def _all_taken(answer: JsonAnswer) -> bool:
    """Whether no session is left (Base registry, SessionLimitExceeded)."""
    return any("SessionLimitExceeded" in ident for ident in message_ids(answer))


def _path(location: str) -> str:
    """The path of a Location, which may be absolute; '' when it is none of the service."""
    place = (
        location
        if location.startswith("/")
        else "/" + location.split("://", 1)[-1].partition("/")[2]
    )
    return place if on_service(place) else ""


def _messages(answer: JsonAnswer) -> str:
    """What a task says of itself."""
    listed = answer.data.get("Messages")
    words = [
        str(item.get("Message", ""))
        for item in (listed if isinstance(listed, list) else [])
        if isinstance(item, dict)
    ]
    return " ".join(word for word in words if word)[:300]
