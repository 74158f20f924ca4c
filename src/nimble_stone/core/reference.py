"""A file format in words, made from its models: docs/kit-reference.md and docs/plan-reference.md.
Pure.
"""

from __future__ import annotations

import types
from typing import Annotated, Any, ForwardRef, Literal, Union, get_args, get_origin

from pydantic import BaseModel
from pydantic_core import PydanticUndefined

HEAD = "Generated from the models by `make openapi`; do not edit.\n"


def reference(root: type[BaseModel], title: str) -> str:
    """A table of keys for the root and each of its parts, in the order of first use."""
    parts, waiting = [f"# {title}\n", HEAD], [root]
    seen: set[type[BaseModel]] = set()
    while waiting:
        model = waiting.pop(0)
        if model in seen:
            continue
        seen.add(model)
        parts.append(_table(model, model is root))
        waiting += [
            found for field in model.model_fields.values() for found in _models(field.annotation)
        ]
    return "\n".join(parts)


def _table(model: type[BaseModel], is_root: bool) -> str:
    lines = [] if is_root else [f"## {model.__name__}\n"]
    lines += [
        " ".join((model.__doc__ or "").partition("\n\n")[0].split()) + "\n",
        "| key | type | default | meaning |",
        "| --- | --- | --- | --- |",
    ]
    for name, field in model.model_fields.items():
        default = (
            "required"
            if field.is_required()
            else _shown(field.get_default(call_default_factory=True))
        )
        limits = ", ".join(text for item in field.metadata for text in _limit(item))
        lines.append(
            f"| `{field.alias or name}` |"
            f" {_words(field.annotation)}{'; ' + limits if limits else ''} | {default} |"
            f" {(field.description or '').replace('|', '/')} |"
        )
    return "\n".join(lines) + "\n"


def _limit(item: Any) -> list[str]:
    words = {
        "ge": "at least {}",
        "le": "at most {}",
        "gt": "more than {}",
        "lt": "less than {}",
        "max_length": "length at most {}",
        "min_length": "length at least {}",
        "pattern": "pattern `{}`",
    }
    return [
        text.format(str(value).replace("|", "\\|"))
        for name, text in words.items()
        if (value := getattr(item, name, None)) is not None
    ]


def _shown(value: Any) -> str:
    if (
        value is PydanticUndefined
        or value is None
        or (value in ((), {}, "", False) and value is not False)
    ):
        return ""
    if isinstance(value, BaseModel):
        return ", ".join(
            f"{key} {item}"
            for key, item in value.model_dump().items()
            if item not in ("", (), {}, None)
        )
    return f"`{str(value).lower() if isinstance(value, bool) else value}`"


def _words(annotation: Any) -> str:
    origin, inside = get_origin(annotation), get_args(annotation)
    if origin is Annotated:
        return _words(inside[0])
    if origin is Literal:
        return " or ".join(f"`{value}`" for value in inside)
    if origin in (Union, types.UnionType):
        return " or ".join(dict.fromkeys(_words(item) for item in inside if item is not type(None)))
    if origin is tuple:
        return f"list of {_words(inside[0])}"
    if origin is dict:
        return f"mapping to {_words(inside[1])}"
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return f"[{annotation.__name__}](#{annotation.__name__.lower()})"
    if isinstance(annotation, ForwardRef):
        raise TypeError(f"{annotation!r} is not known yet: define it above what names it")
    return {str: "text", int: "whole number", float: "number", bool: "true or false"}.get(
        annotation, getattr(annotation, "__name__", "text")
    )


def _models(annotation: Any) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [found for item in get_args(annotation) for found in _models(item)]
