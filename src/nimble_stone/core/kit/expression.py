"""The kit's small expression language: numbers, words, comparisons, and a handful of functions over
named inputs.

    expression := words of: numbers (12, 0.5), 'text', names (gauges, disk.readings), + - * / %,
    comparisons (= != < <= > >=),
                  and / or / not, ( ), min(…) max(…) ceil(x) floor(x) round(x) if(condition, then,
                  else)

There are no loops, no assignments and no attributes: an expression reads its named inputs and
nothing else, and is evaluated in time
proportional to its length, which is limited. Pure.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from nimble_stone.core.errors import FormatError

Value = float | str | bool
MAX_LENGTH, MAX_DEPTH, MAX_NUMBER = 400, 24, 1e15
_TOKEN = re.compile(
    r"\s*(?:(?P<number>\d+(?:\.\d+)?)"
    r"|(?P<name>[A-Za-z_][A-Za-z0-9_-]*(?:\.[A-Za-z0-9_-]+)*)|(?P<text>'[^']*')"
    r"|(?P<sign><=|>=|!=|[-+*/%()=<>,]))"
)
_BINDING = {
    "or": 1,
    "and": 2,
    "=": 4,
    "!=": 4,
    "<": 4,
    "<=": 4,
    ">": 4,
    ">=": 4,
    "+": 5,
    "-": 5,
    "*": 6,
    "/": 6,
    "%": 6,
}
_ARITY: dict[str, tuple[int, int]] = {
    "min": (1, 8),
    "max": (1, 8),
    "ceil": (1, 1),
    "floor": (1, 1),
    "round": (1, 1),
    "if": (3, 3),
}


@dataclass(frozen=True)
class Term:
    """A part of a parsed expression. `kind` says what `of` is: a value, a name, or the operator or
    function over `parts`.
    """

    kind: Literal["value", "name", "call"]
    of: Value
    parts: tuple[Term, ...] = ()


@dataclass(frozen=True)
class Expression:
    """A parsed expression and the names it reads."""

    text: str
    term: Term
    names: frozenset[str]

    def value(self, inputs: Mapping[str, Value]) -> Value:
        """What it comes to. Raises FormatError for a name without a value, a division by nothing,
        or words where numbers belong.
        """
        return _value(self.term, inputs, self.text)

    def number(self, inputs: Mapping[str, Value]) -> float:
        """Its value as a number. Raises FormatError."""
        return _number(self.value(inputs), self.text)

    def holds(self, inputs: Mapping[str, Value]) -> bool:
        """Whether it is true: a truth, a number other than zero, a word that is not empty. Raises
        FormatError.
        """
        return bool(self.value(inputs))


def asked(condition: Expression, inputs: Mapping[str, Value]) -> bool:
    """Whether a condition holds; one that cannot be worked out yet (it compares what has not been
    answered) counts as holding, so that it is seen.
    """
    try:
        return condition.holds(inputs)
    except FormatError:
        return True


def parse(text: str) -> Expression:
    """Raises FormatError that names the place."""
    if len(text) > MAX_LENGTH:
        raise FormatError(
            f"an expression may have {MAX_LENGTH} characters, this one has {len(text)}",
            place=text[:40],
            code="expression",
        )
    parser = _Parser(text)
    term = parser.read(0, 0)
    if parser.at < len(parser.tokens):
        raise parser.wrong(f"“{parser.tokens[parser.at][1]}” was not expected here")
    return Expression(text, term, frozenset(parser.names))


class _Parser:
    def __init__(self, text: str) -> None:
        self.text, self.at, self.names = text, 0, set[str]()
        self.tokens: list[tuple[str, str, int]] = []
        position = 0
        while text[position:].strip():
            found = _TOKEN.match(text, position)
            if found is None or found.lastgroup is None:
                raise FormatError(
                    f"“{text[position:].strip()[:12]}” is not a value for an expression",
                    place=f"{text}, character {position + 1}",
                    code="expression",
                )
            self.tokens.append(
                (found.lastgroup, found.group(found.lastgroup), found.start(found.lastgroup))
            )
            position = found.end()

    def wrong(self, why: str) -> FormatError:
        where = self.tokens[self.at][2] + 1 if self.at < len(self.tokens) else len(self.text) + 1
        return FormatError(why, place=f"{self.text}, character {where}", code="expression")

    def peek(self) -> str:
        return (
            self.tokens[self.at][1]
            if self.at < len(self.tokens) and self.tokens[self.at][0] != "text"
            else ""
        )

    def take(self, sign: str) -> None:
        if self.peek() != sign:
            raise self.wrong(f"“{sign}” is missing")
        self.at += 1

    def read(self, binding: int, depth: int) -> Term:
        """Operator precedence, after Pratt: what binds tighter than `binding` is taken up."""
        if depth > MAX_DEPTH:
            raise self.wrong(f"it is nested more than {MAX_DEPTH} deep")
        left = self.first(depth)
        while (power := _BINDING.get(self.peek(), 0)) > binding:
            sign = self.peek()
            self.at += 1
            left = Term("call", sign, (left, self.read(power, depth + 1)))
            if _deep(left) > MAX_DEPTH * 8:
                raise self.wrong("it has too many parts")
        return left

    def first(self, depth: int) -> Term:
        if self.at >= len(self.tokens):
            raise self.wrong("it ends too early")
        kind, text, _ = self.tokens[self.at]
        self.at += 1
        if kind == "number":
            return Term("value", float(text))
        if kind == "text":
            return Term("value", text[1:-1])
        if text == "(":
            inner = self.read(0, depth + 1)
            self.take(")")
            return inner
        if text == "-":
            return Term("call", "negative", (self.read(6, depth + 1),))
        if text == "not":
            return Term("call", "not", (self.read(3, depth + 1),))
        if text in ("true", "false"):
            return Term("value", text == "true")
        if kind == "name" and self.peek() == "(":
            return self.call(text, depth)
        if kind == "name" and text not in _BINDING:
            self.names.add(text)
            return Term("name", text)
        self.at -= 1
        raise self.wrong(f"“{text}” was not expected here")

    def call(self, name: str, depth: int) -> Term:
        if name not in _ARITY:
            self.at -= 1
            raise self.wrong(f"there is no function “{name}”; there are {', '.join(_ARITY)}")
        self.take("(")
        parts = [self.read(0, depth + 1)]
        while self.peek() == ",":
            self.at += 1
            parts.append(self.read(0, depth + 1))
        least, most = _ARITY[name]
        if not least <= len(parts) <= most:
            raise self.wrong(
                f"{name} takes {least if least == most else f'{least} to {most}'} values, here are"
                f" {len(parts)}"
            )
        self.take(")")
        return Term("call", name, tuple(parts))


def _deep(term: Term) -> int:
    deep = 0
    while term.kind == "call" and term.parts:
        term, deep = term.parts[0], deep + 1
    return deep


def _number(value: Value, text: str) -> float:
    if isinstance(value, str):
        try:
            number = float(value)
        except ValueError:
            raise FormatError(
                f"“{value[:30]}” is not a number", place=text, code="expression"
            ) from None
    else:
        number = float(value)
    if not (math.isfinite(number) and abs(number) <= MAX_NUMBER):
        raise FormatError("a number is too large", place=text, code="expression")
    return number


_NUMERIC: dict[str, Callable[..., float]] = {
    "+": lambda a, b: a + b,
    "-": lambda a, b: a - b,
    "*": lambda a, b: a * b,
    "negative": lambda a: -a,
    "min": min,
    "max": max,
    "ceil": lambda a: float(math.ceil(round(a, 9))),
    "floor": lambda a: float(math.floor(round(a, 9))),
    "round": lambda a: float(math.floor(a + 0.5)),
}
_ORDER: dict[str, Callable[[float, float], bool]] = {
    "<": lambda a, b: a < b,
    "<=": lambda a, b: a <= b,
    ">": lambda a, b: a > b,
    ">=": lambda a, b: a >= b,
}


def _value(term: Term, inputs: Mapping[str, Value], text: str) -> Value:
    if term.kind == "value":
        return term.of
    word = str(term.of)
    if term.kind == "name":
        if word not in inputs:
            raise FormatError(f"“{word}” has no value here", place=text, code="expression")
        return inputs[word]
    if word in ("and", "or"):
        left = bool(_value(term.parts[0], inputs, text))
        return left if left == (word == "or") else bool(_value(term.parts[1], inputs, text))
    if word == "if":
        _, then, otherwise = term.parts
        chosen = then if _value(term.parts[0], inputs, text) else otherwise
        return _value(chosen, inputs, text)
    values = [_value(part, inputs, text) for part in term.parts]
    if word == "not":
        return not values[0]
    if word in ("=", "!="):
        return _same(values[0], values[1]) == (word == "=")
    return _reckoned(word, [_number(value, text) for value in values], text)


def _reckoned(word: str, numbers: Sequence[float], text: str) -> Value:
    """What an operator makes of numbers. Raises FormatError for a division by nothing."""
    if word in _ORDER:
        return _ORDER[word](*numbers)
    if word in ("/", "%"):
        if not numbers[1]:
            raise FormatError("division by zero", place=text, code="expression")
        return numbers[0] / numbers[1] if word == "/" else numbers[0] % numbers[1]
    return _number(_NUMERIC[word](*numbers), text)


def _same(left: Value, right: Value) -> bool:
    """Equal as numbers where both are, else as words."""
    try:
        return float(left) == float(right)
    except ValueError:
        return str(left).lower() == str(right).lower()
