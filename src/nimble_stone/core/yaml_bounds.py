"""A YAML parser that stops while it reads: at so many values, at a depth, and when its time is up.

Building the document costs about a tenth of a millisecond a value, so a file of 1 MiB of commas
would take more than a minute. Bounds that are looked at afterwards come too late; here each event
of the parser is counted before anything is built of it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

from ruamel.yaml.events import CollectionEndEvent, CollectionStartEvent, NodeEvent
from ruamel.yaml.parser import RoundTripParser
from ruamel.yaml.scanner import RoundTripScanner

from nimble_stone.core.errors import FormatError

MAX_BYTES = 1 << 20
MAX_VALUES = 60_000
MAX_DEPTH = 24

Still = Callable[[], bool]
_still: ContextVar[Still] = ContextVar("still", default=lambda: True)


@contextmanager
def while_still(still: Still) -> Iterator[None]:
    """Files read inside stop with FormatError as soon as `still()` is false."""
    token = _still.set(still)
    try:
        yield
    finally:
        _still.reset(token)


def _look_at_time() -> None:
    if not _still.get()():
        raise FormatError(
            "the file takes too long to read",
            code="yaml-too-slow",
            hint="Split it, or simplify it.",
        )


def too_deep(line: int, column: int) -> FormatError:
    """What is said of brackets or indents beyond the bound; line and column count from 0."""
    return FormatError(
        f"the file is nested deeper than {MAX_DEPTH} levels",
        code="yaml-too-deep",
        place=f"line {line + 1}, column {column + 1}",
    )


class BoundedScanner(RoundTripScanner):
    """Bounds what is read ahead: brackets inside brackets, and lines of one long token."""

    _lines = 0

    def fetch_more_tokens(self) -> Any:
        """Read on. Raises FormatError at a bound."""
        if self.flow_level > MAX_DEPTH:
            raise too_deep(self.reader.line, self.reader.column)
        return super().fetch_more_tokens()

    def scan_line_break(self, *arguments: Any, **more: Any) -> Any:
        """Go on to the next line; the one call that every kind of long token makes again
        and again.
        """
        self._lines += 1
        if self._lines % 64 == 0:
            _look_at_time()
        return super().scan_line_break(*arguments, **more)


class BoundedParser(RoundTripParser):
    """Counts values and depth event by event."""

    def __init__(self, loader: Any) -> None:
        super().__init__(loader=loader)
        self._values = 0
        self._depth = 0

    def get_event(self) -> Any:
        """The next event. Raises FormatError at a bound, with its place."""
        event = super().get_event()
        if isinstance(event, NodeEvent):
            self._values += 1
            if self._values % 64 == 0:
                _look_at_time()
        if isinstance(event, CollectionStartEvent):
            self._depth += 1
        elif isinstance(event, CollectionEndEvent):
            self._depth -= 1
        if self._depth > MAX_DEPTH:
            raise too_deep(event.start_mark.line, event.start_mark.column)
        if self._values > MAX_VALUES:
            raise FormatError(
                f"the file has more than {MAX_VALUES} values",
                code="yaml-too-many",
                hint="Split it.",
                place=f"line {event.start_mark.line + 1}, column {event.start_mark.column + 1}",
            )
        return event
