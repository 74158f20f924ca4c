"""HTTP to nodes: bounded answers, one deadline, no redirects followed."""

from __future__ import annotations

import json
import time
from dataclasses import dataclass, field
from typing import Any

import httpx

from nimble_stone.core.errors import RemoteFailed, RemoteTimeout, Unreachable
from nimble_stone.reach.policy import DialPolicy

MAX_BODY = 1 << 20


@dataclass(frozen=True)
class HttpAnswer:
    """Status, body (at most 1 MiB) and seconds it took."""

    status: int
    body: bytes
    seconds: float
    headers: dict[str, str] = field(default_factory=dict)

    def json(self) -> dict[str, Any]:
        """The JSON object of the body, {} when it is none."""
        try:
            data = json.loads(self.body)
        except (ValueError, RecursionError):
            return {}
        return data if isinstance(data, dict) else {}


async def request(policy: DialPolicy, method: str, address: str, port: int, path: str, *, login: tuple[str, str] | None = None,
                  body: dict[str, str] | None = None, limit_s: float = 10.0) -> HttpAnswer:
    """One request to a planned address. Raises Unreachable, RemoteTimeout, RemoteFailed (answer too large)."""
    host, real_port = policy.real(address, port)
    what = f"{method} http://{address}:{port}{path}"
    began = time.monotonic()
    timeout = httpx.Timeout(limit_s, connect=min(limit_s, policy.connect_seconds))
    try:
        async with (httpx.AsyncClient(timeout=timeout, trust_env=False) as client,
                    client.stream(method, f"http://{host}:{real_port}{path}", auth=login, json=body,
                                  headers={"Host": f"{address}:{port}"}) as answer):
            data = b""
            async for piece in answer.aiter_bytes():
                data += piece
                if len(data) > MAX_BODY:
                    raise RemoteFailed(f"{what} is answered with more than 1 MiB", target=address, operation=what)
            return HttpAnswer(answer.status_code, data, time.monotonic() - began, dict(answer.headers))
    except httpx.TimeoutException as error:
        raise RemoteTimeout(f"{what}: no answer within {limit_s:g} s", target=address, operation=what) from error
    except httpx.HTTPError as error:
        raise Unreachable(f"{what}: {_reason(error)}", target=address, operation=what) from error


def _reason(error: httpx.HTTPError) -> str:
    return "connection refused" if "refused" in str(error).lower() or "attempts failed" in str(error) else str(error)[:160] or type(error).__name__
