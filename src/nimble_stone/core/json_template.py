"""JSON with templates in it: texts are filled in, `@number` and `@flag` make other types of them,
and `@each` a list with one entry for each node of a role. Our own format. Pure.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterator
from typing import Any

from nimble_stone.core.errors import FormatError

NUMBER, FLAG, EACH, OF = "@number", "@flag", "@each", "@of"
DEEPEST, MOST = 12, 2000
Fill = Callable[[str, Any], Awaitable[str]]
"""Fill a text in for a node (None: the node that is asked)."""


def fault_of(data: Any, depth: int = 0) -> str:
    """Why this is no template, '' when it is one."""
    if depth > DEEPEST:
        return f"it is deeper than {DEEPEST} levels"
    if isinstance(data, list):
        inner = (fault_of(one, depth + 1) for one in data[:MOST])
        return next(filter(None, inner), "") if len(data) <= MOST else f"more than {MOST} entries"
    if not isinstance(data, dict):
        return ""
    odd = [key for key in data if key.startswith("@")]
    if odd and set(data) not in ({NUMBER}, {FLAG}, {EACH, OF}):
        return f"“{odd[0]}” stands where it means nothing"
    if NUMBER in data or FLAG in data:
        return "" if isinstance(next(iter(data.values())), str) else "a type is made of a text"
    if EACH in data and not isinstance(data[EACH], str):
        return "“@each” names a role, or “” for all nodes"
    return next(filter(None, (fault_of(one, depth + 1) for one in data.values())), "")


def texts(data: Any) -> Iterator[str]:
    """All texts in it."""
    if isinstance(data, str):
        yield data
    elif isinstance(data, list):
        for one in data:
            yield from texts(one)
    elif isinstance(data, dict):
        for key, one in data.items():
            if key != EACH:
                yield from texts(one)


async def filled(data: Any, fill: Fill, nodes: Callable[[str], list[Any]], at: Any = None) -> Any:
    """The JSON value. `nodes`: the nodes of a role. Raises FormatError for a text that does not
    make a number or a flag.
    """
    if isinstance(data, str):
        return await fill(data, at)
    if isinstance(data, list):
        return [await filled(one, fill, nodes, at) for one in data]
    if not isinstance(data, dict):
        return data
    if NUMBER in data:
        return _number(await fill(data[NUMBER], at))
    if FLAG in data:
        return _flag(await fill(data[FLAG], at))
    if EACH in data:
        return [await filled(data[OF], fill, nodes, node) for node in nodes(data[EACH])]
    return {key: await filled(one, fill, nodes, at) for key, one in data.items()}


def _number(text: str) -> int | float:
    try:
        return int(text) if text.lstrip("-").isdigit() else float(text)
    except ValueError as error:
        raise FormatError(f"“{text[:40]}” is not a number", code="template-number") from error


def _flag(text: str) -> bool:
    words = {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}
    if text.lower() not in words:
        raise FormatError(f"“{text[:40]}” is neither true nor false", code="template-flag")
    return words[text.lower()]
