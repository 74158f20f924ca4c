"""Which keys a file's format knows at a place, so that a mistyped one can be told with the
nearest.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from pydantic import BaseModel


@lru_cache(maxsize=64)
def _schema(model: type[BaseModel]) -> dict[str, Any]:
    return model.model_json_schema(by_alias=True)


def keys_at(model: type[BaseModel], path: tuple[int | str, ...]) -> list[str]:
    """Keys of the mapping at a path; none where any key may stand. Cost: O(path × alternatives)."""
    whole = _schema(model)
    places = _alternatives(whole, whole)
    for part in path:
        places = [below for place in places for below in _alternatives(_below(place, part), whole)]
    return sorted({key for place in places for key in place.get("properties", {})})


def _below(place: dict[str, Any], part: int | str) -> dict[str, Any]:
    found = place.get("items") if isinstance(part, int) else place.get("properties", {}).get(part)
    if not isinstance(found, dict):
        found = place.get("additionalProperties")
    return found if isinstance(found, dict) else {}


def _alternatives(place: dict[str, Any], whole: dict[str, Any]) -> list[dict[str, Any]]:
    """The schemas a place may follow, references followed."""
    if "$ref" in place:
        return _alternatives(
            whole.get("$defs", {}).get(str(place["$ref"]).rpartition("/")[2], {}), whole
        )
    choices = [*place.get("anyOf", ()), *place.get("oneOf", ()), *place.get("allOf", ())]
    return [one for choice in choices for one in _alternatives(choice, whole)] or [place]
