"""What a service answers, taken apart with care: members may be missing, of another type, or too
long.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from nimble_stone.reach.https import JsonAnswer


def at(data: Any, *path: str) -> Any:
    """The value at a path of members, None where one is missing."""
    for key in path:
        data = data.get(key) if isinstance(data, dict) else None
    return data


def text(data: Mapping[str, Any] | None, member: str) -> str:
    """A member as text of at most 200 characters, '' when it is missing."""
    value = data.get(member) if data else None
    return str(value).strip()[:200] if isinstance(value, str | int | float) else ""


def number(value: Any) -> float:
    """A value as a number that can be true, 0 otherwise."""
    fits = isinstance(value, int | float) and not isinstance(value, bool) and 0 <= value < 1e18
    return float(value) if fits else 0.0


def words(value: Any) -> tuple[str, ...]:
    """A list of words: at most 40, of at most 60 characters."""
    if not isinstance(value, list):
        return ()
    return tuple(str(word)[:60] for word in value[:40] if isinstance(word, str))


def on_service(path: str) -> bool:
    """Whether a path lies on the service itself."""
    return path.startswith("/redfish/") and "//" not in path and ".." not in path


def said(answer: JsonAnswer) -> str:
    """The service's own words (DSP0266, error responses)."""
    parts = [str(item.get("Message", "")) for item in _extended(answer)]
    told = " ".join(part for part in parts if part)
    return (told or str(at(answer.data, "error", "message") or ""))[:300]


def message_ids(answer: JsonAnswer) -> list[str]:
    """The ids of the messages of an error response."""
    found = [str(item.get("MessageId", ""))[:120] for item in _extended(answer)]
    return [*found, str(at(answer.data, "error", "code") or "")[:120]]


def _extended(answer: JsonAnswer) -> list[dict[str, Any]]:
    info = at(answer.data, "error", "@Message.ExtendedInfo")
    return [item for item in info if isinstance(item, dict)] if isinstance(info, list) else []
