"""Reading and editing YAML files of ours: located errors, bounded size, comments kept."""

from __future__ import annotations

import io
import re
from collections.abc import Iterable
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError
from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap, CommentedSeq
from ruamel.yaml.error import MarkedYAMLError, YAMLError

from nimble_stone.core.errors import FormatError, InputError
from nimble_stone.core.known_keys import keys_at
from nimble_stone.core.units import nearest
from nimble_stone.core.yaml_bounds import (
    MAX_BYTES,
    MAX_DEPTH,
    MAX_VALUES,
    BoundedParser,
    BoundedScanner,
)

Scalar = str | int | float | bool | None
Model = TypeVar("Model", bound=BaseModel)
MAX_FAULTS = 50
EDITED = 8
_edited: dict[str, CommentedMap] = {}
"""Texts that were written a moment ago with the documents they were written from: the next edit
need not read them again.
"""


class Faults(InputError):
    """All problems of a file at once. `faults` holds (place, message)."""

    code = "file-faults"

    def __init__(self, what: str, faults: list[tuple[str, str]]) -> None:
        shown = "; ".join(
            f"{place}: {message}" if place else message for place, message in faults[:12]
        )
        super().__init__(
            f"{what} cannot be used: {shown}",
            hint="Fix these lines and try again. Nothing was saved.",
        )
        self.faults = faults[:MAX_FAULTS]


def _yaml() -> YAML:
    yaml = YAML(typ="rt")
    yaml.Scanner, yaml.Parser = BoundedScanner, BoundedParser
    yaml.preserve_quotes = True
    yaml.allow_duplicate_keys = False
    yaml.width = 160
    yaml.indent(mapping=2, sequence=4, offset=2)
    return yaml


def load(text: str, what: str) -> CommentedMap:
    """The mapping a file holds, with its comments. Raises FormatError with line and column."""
    if len(text.encode("utf-8", "replace")) > MAX_BYTES:
        raise FormatError(f"{what} is larger than 1 MiB", code="yaml-too-large")
    try:
        data = _yaml().load(text)
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        problem = error.problem or "not understood"
        if "'\\t'" in problem:
            problem = "a tab character; YAML is indented with spaces"
        raise FormatError(
            f"{what} is not YAML: {problem}",
            code="yaml-syntax",
            place=f"line {mark.line + 1}, column {mark.column + 1}" if mark else "",
        ) from error
    except (YAMLError, ValueError) as error:
        raise FormatError(f"{what} is not YAML: {str(error)[:200]}", code="yaml-syntax") from error
    except RecursionError as error:
        raise FormatError(f"{what} is nested too deep", code="yaml-too-deep") from error
    if not isinstance(data, CommentedMap):
        raise FormatError(
            f"{what} must be a mapping of keys to values", code="yaml-shape", place="line 1"
        )
    _bound(data, what)
    return data


def _bound(data: Any, what: str) -> None:
    stack, count = [(data, 1)], 0
    while stack:
        value, depth = stack.pop()
        count += 1
        if depth > MAX_DEPTH or count > MAX_VALUES:
            raise FormatError(f"{what} is nested or repeated too often", code="yaml-too-deep")
        if isinstance(value, dict):
            stack.extend((item, depth + 1) for item in value.values())
        elif isinstance(value, list):
            stack.extend((item, depth + 1) for item in value)


def plain(value: Any) -> Any:
    """The same data as plain Python values."""
    if isinstance(value, dict):
        return {str(key): plain(item) for key, item in value.items()}
    if isinstance(value, list):
        return [plain(item) for item in value]
    if isinstance(value, bool) or value is None:
        return value
    if isinstance(value, str):
        return str(value)
    if isinstance(value, int):
        return int(value)
    return float(value) if isinstance(value, float) else str(value)


def place_of(data: Any, path: tuple[int | str, ...]) -> str:
    """'line 7, column 3' of the value at `path`, or of the deepest part of it that exists."""
    line: tuple[int, int] | None = None
    for part in path:
        if isinstance(data, CommentedMap) and part in data:
            line, data = data.lc.key(part), data[part]
        elif isinstance(data, CommentedSeq) and isinstance(part, int) and part < len(data):
            line, data = data.lc.item(part), data[part]
        else:
            break
    return f"line {line[0] + 1}, column {line[1] + 1}" if line else ""


def read(text: str, model: type[Model], what: str) -> Model:
    """Parse and validate a file. Raises FormatError or Faults, each problem with its line."""
    known = _edited.get(text)
    data = load(text, what) if known is None else known
    try:
        return model.model_validate(plain(data))
    except ValidationError as error:
        # an edited document no longer knows its lines
        data = data if known is None else load(text, what)
        raise Faults(
            what, [_fault(data, model, item) for item in error.errors()[:MAX_FAULTS]]
        ) from error


def _fault(data: CommentedMap, model: type[BaseModel], item: Any) -> tuple[str, str]:
    path = tuple(part for part in item["loc"] if part != "[key]")
    name = ".".join(str(part) for part in path)
    if item["type"] == "extra_forbidden":
        near = nearest(str(path[-1]), keys_at(model, path[:-1])) if path else ""
        return place_of(data, path), f"“{name}” is not a key of this format" + (
            f"; did you mean “{near}”?" if near else ""
        )
    if item["type"] == "missing":
        return place_of(data, path[:-1]), f"“{name}” is missing"
    message = str(item["msg"]).removeprefix("Value error, ")
    # about the file as a whole: the first thing it names tells where
    if not path:
        quoted = re.search(r"“([^”]+)”", message)
        return (_place_of_word(data, quoted.group(1)) if quoted else ""), message
    return place_of(data, path), f"{name}: {message}" if name else message


def _place_of_word(data: Any, word: str) -> str:
    """'line 7, column 3' of the first value or item, or else key, that is this word; '' when there
    is none.
    """
    key = ""
    stack: list[Any] = [data]
    while stack:
        at = stack.pop(0)
        if isinstance(at, CommentedMap):
            for name, value in at.items():
                if str(value) == word:
                    line, column = at.lc.value(name)
                    return f"line {line + 1}, column {column + 1}"
                if str(name) == word and not key:
                    line, column = at.lc.key(name)
                    key = f"line {line + 1}, column {column + 1}"
            stack.extend(
                value for value in at.values() if isinstance(value, CommentedMap | CommentedSeq)
            )
        elif isinstance(at, CommentedSeq):
            for number, value in enumerate(at):
                if str(value) == word:
                    line, column = at.lc.item(number)
                    return f"line {line + 1}, column {column + 1}"
            stack.extend(value for value in at if isinstance(value, CommentedMap | CommentedSeq))
    return key


def write(data: dict[str, Any]) -> str:
    """A file of these values, without those mappings that are empty."""
    out = io.StringIO()
    _yaml().dump({key: value for key, value in data.items() if value != {}}, out)
    return out.getvalue()


def edit(text: str, path: tuple[str, ...], value: Scalar | dict[str, Any] | tuple[str, ...]) -> str:
    """The text with one value set, or removed when `value` is None; comments and order stay."""
    return edit_all(text, [(path, value)])


def edit_all(
    text: str,
    edits: Iterable[
        tuple[tuple[str, ...], Scalar | dict[str, Any] | tuple[str, ...] | tuple[BaseModel, ...]]
    ],
) -> str:
    """The text with all edits made, one after the other; the file is read and written once. Cost:
    O(text + edits).

    Empty mappings left behind by a removal are removed too. Raises InputError for a path that leads
    through a plain value.
    """
    data = _edited.pop(text, None) or load(text, "the file")
    changed, wanted = False, list(edits)
    for path, value in wanted:
        changed |= _set(data, path, value)
    if not changed:
        return text
    new = _in_place(text, *wanted[0]) if len(wanted) == 1 else None
    if new is None:
        out = io.StringIO()
        _yaml().dump(data, out)
        new = out.getvalue()
    _edited[new] = data
    # each call is atomic: files are read in more than one thread
    for old in list(_edited)[:-EDITED]:
        _edited.pop(old, None)
    return new


_WORD = re.compile(r"[A-Za-z][A-Za-z0-9_./-]*|[0-9]+(\.[0-9]+){3}")
_NO_TEXT = {"true", "false", "yes", "no", "on", "off", "null", "y", "n"}


def _in_place(text: str, path: tuple[str, ...], value: object) -> str | None:
    """The text with one plain word put in another's place, its line alone changed; None where that
    takes more than looking at lines.

    Writing a whole file again takes longer than everything else about an edit of a large plan. Only
    what is a word both before and after is done here:
    names, paths, IPv4 addresses, on a line of their own in block style.
    """
    if (
        not isinstance(value, str)
        or not _WORD.fullmatch(value)
        or value.lower() in _NO_TEXT
        or not 1 < len(path) <= 3
    ):
        return None
    lines = text.split("\n")
    first, last, indent = 0, len(lines), ""
    for part in path[:-1]:
        at = [n for n in range(first, last) if lines[n] == f"{indent}{part}:"]
        if len(at) != 1 or at[0] + 1 >= last:
            return None
        first = at[0] + 1
        below = re.match(r" *", lines[first])
        deeper = below.group() if below else ""
        if len(deeper) <= len(indent):
            return None
        end = next(
            (n for n in range(first, last) if lines[n].strip() and not lines[n].startswith(deeper)),
            last,
        )
        last, indent = end, deeper
    key = f"{indent}{path[-1]}: "
    at = [n for n in range(first, last) if lines[n].startswith(key) or lines[n] == key.rstrip()]
    old = lines[at[0]].removeprefix(key) if len(at) == 1 else ""
    if not _WORD.fullmatch(old) or old.lower() in _NO_TEXT:
        return None
    if any(re.search(r"[|>][-+0-9]*$|^\s*[-?&*]|\t", lines[n]) for n in range(first, last)):
        # a block of text, a list, an anchor: lines alone do not tell
        return None
    follows = next((line for line in lines[at[0] + 1 : last] if line.strip()), "")
    if follows.startswith(indent + " "):
        return None  # the value goes on there
    lines[at[0]] = key + value
    return "\n".join(lines)


def changes(old: str, new: str) -> list[tuple[tuple[str, ...], Any]]:
    """(path, new value or None) of every value that differs between two files. Cost: O(values)."""
    found: list[tuple[tuple[str, ...], Any]] = []

    def walk(a: Any, b: Any, path: tuple[str, ...]) -> None:
        if isinstance(a, dict | None) and isinstance(b, dict | None):
            a, b = a or {}, b or {}
            for key in [*a, *(key for key in b if key not in a)]:
                walk(a.get(key), b.get(key), (*path, str(key)))
        elif a != b:
            found.append((path, b))

    walk(plain(load(old, "the file")), plain(load(new, "the file")), ())
    return found


def changed_paths(old: str, new: str) -> list[tuple[str, ...]]:
    """Paths of values that differ between two files. Cost: O(values)."""
    return [path for path, _ in changes(old, new)]


def clashes(
    ours: Iterable[tuple[str, ...]], theirs: Iterable[tuple[str, ...]]
) -> list[tuple[str, ...]]:
    """Those of their paths that lead to, into or around one of ours."""
    own = list(ours)
    return [path for path in theirs if any(path[: len(one)] == one[: len(path)] for one in own)]


def taken_back(before: str, after: str, now: str) -> tuple[str, list[tuple[str, ...]]]:
    """The text as it is now without the change that led from `before` to `after`, and the paths at
    which it was changed again since (then the text is
    as it is now). What others changed elsewhere stays.
    """
    if now == after:
        return before, []
    back = changes(after, before)
    if again := clashes((path for path, _ in back), changed_paths(after, now)):
        return now, again
    return edit_all(now, back), []


def _set(data: CommentedMap, path: tuple[str, ...], value: Any) -> bool:
    if not path or len(path) > MAX_DEPTH:
        raise InputError("an edit needs a path", code="edit-path")
    if isinstance(value, tuple | list):
        listed = CommentedSeq(
            one.model_dump(mode="json") if isinstance(one, BaseModel) else one for one in value
        )
        listed.fa.set_flow_style()
        value = listed if listed else None
    parents: list[tuple[CommentedMap, str]] = []
    at = data
    for part in path[:-1]:
        if not isinstance(at.get(part), CommentedMap):
            if value is None:
                return False
            at[part] = CommentedMap()
        parents.append((at, part))
        at = at[part]
    if value is None:
        at.pop(path[-1], None)
        for parent, part in reversed(parents):
            if not parent[part]:
                parent.pop(part)
    else:
        at[path[-1]] = value
    return True
