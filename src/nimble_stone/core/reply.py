"""An answer of a product's interface, and what is read from it: members of JSON by JSONPath (RFC
9535), of XML by XPath, headers, cookies, and text by patterns in linear time. Pure.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

import jsonpath_rfc9535 as jsonpath
import re2
from lxml import etree

from nimble_stone.core import pattern
from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import xml_safe

MOST_TEXT = 4096
"""Characters of one value that are looked at."""
MOST_VALUES = 1000
MOST_LIST = 65_536
"""Characters of a list of values: 1,000 names of nodes."""
LONGEST, DESCENTS = 300, 2
_TEMPLATE = re.compile(r"(?<!\\[pPx])\{([A-Za-z][A-Za-z0-9_.-]*)\}")
_PATTERN = "pattern:"
"""Behind `count:`: how often a pattern is found."""
_SLOW = re2.compile(r"\b(match|search)\s*\(")
WAYS = ("header", "cookie", "pattern", "xpath", "count", "text", "ms")


@dataclass(frozen=True)
class Reply:
    """Status, headers (names in lower case), cookies that were set, and the body."""

    status: int
    body: bytes = b""
    headers: Mapping[str, str] = field(default_factory=dict)
    cookies: Mapping[str, str] = field(default_factory=dict)
    seconds: float = 0.0
    files: Mapping[str, bytes] = field(default_factory=dict)
    """Files that were fetched with it, by SSH."""

    @property
    def text(self) -> str:
        """The body as text; what is no UTF-8 is replaced."""
        return self.body.decode("utf-8", "replace")

    def json(self) -> Any:
        """The body as JSON, None when it is none."""
        try:
            return json.loads(self.body)
        except (ValueError, RecursionError):
            return None


def split(what: str) -> tuple[str, str]:
    """Way and expression of what is to be read: “header:X-Token”, “$.state”, or a member's name."""
    way, colon, rest = what.partition(":")
    if colon and way in WAYS:
        return way, rest
    return ("json", what) if what.startswith("$") else ("member", what)


def names(what: str) -> list[str]:
    """The names in braces in what is to be read, in their order."""
    return _TEMPLATE.findall(what)


def with_values(what: str, values: Mapping[str, str]) -> str:
    """What is to be read, with the value of each name as the very text, whatever it holds: in a
    JSONPath and an XPath it stands between quotes. Raises KeyError for a name without a value,
    FormatError for one that an XPath cannot hold (XPath 1.0 has no escapes).
    """
    way, text = split(what)
    if way == "count" and text.startswith(_PATTERN):
        way = "pattern"

    def one(found: re.Match[str]) -> str:
        value = values[found[1]]
        if way in ("json", "count"):
            # RFC 9535 section 2.3.1.1: which quote may be escaped depends on the quotes around
            said = json.dumps(value)[1:-1]
            return said.replace('\\"', "\\u0022").replace("'", "\\u0027")
        if way == "pattern":
            return str(re2.escape(value))
        if way == "xpath" and {"'", '"'} & set(value):
            raise FormatError(
                f"“{value[:60]}” has quotes, so nothing can be read by it", code="reading"
            )
        return value

    return _TEMPLATE.sub(one, what)


def fault_of(what: str) -> str:
    """Why nothing can be read by that, '' when it can."""
    way, text = split(what)
    if way == "count" and text.startswith(_PATTERN):
        way, text = "pattern", text.removeprefix(_PATTERN)
    if len(text) > LONGEST:
        return f"it is longer than {LONGEST} characters"
    if way in ("json", "count") and (text.count("..") > DESCENTS or _SLOW.search(text)):
        # an answer that somebody made for it would keep the server busy
        return f"use at most {DESCENTS} descents (..), and a pattern instead of match and search"
    try:
        if way == "json" or (way == "count" and text):
            jsonpath.compile(text)
        elif way == "pattern":
            if wrong := pattern.fault_of(text):
                return wrong
            if re2.compile(text).groups > 1:
                return "the pattern has more than one group"
        elif way == "xpath":
            etree.XPath(text)
    except (jsonpath.JSONPathError, etree.XPathSyntaxError, RecursionError) as error:
        return str(error).splitlines()[0][:200] or type(error).__name__
    return "" if text or way in ("text", "ms") else "it is empty"


def read(reply: Reply, what: str) -> str | None:
    """A value as text, None where the answer has none. Several values are joined by commas.
    Cost: O(size of the answer). Raises FormatError for what is no expression.
    """
    if wrong := fault_of(what):
        raise FormatError(f"“{what}” cannot be read: {wrong}", code="reading")
    way, text = split(what)
    if way == "header":
        return reply.headers.get(text.lower())
    if way == "cookie":
        return reply.cookies.get(text)
    if way == "ms":
        return f"{reply.seconds * 1000:.1f}"
    if way == "text":
        return reply.text.strip()[:MOST_TEXT]
    if way == "pattern":
        return _by_pattern(reply, text)
    if way == "count" and text.startswith(_PATTERN):
        return str(_times(reply, text.removeprefix(_PATTERN)))
    if way == "xpath":
        return _by_xpath(reply, text)
    return _by_json(reply, way, text)


def _by_pattern(reply: Reply, text: str) -> str | None:
    found = re2.search(text, reply.text)
    if found is None:
        return None
    return str(found.group(1) if re2.compile(text).groups else found.group(0))[:MOST_TEXT]


def _times(reply: Reply, text: str) -> int:
    """How often a pattern is found, 1,000 times at most."""
    return sum(1 for _ in islice(re2.finditer(text, reply.text), MOST_VALUES))


def _by_xpath(reply: Reply, text: str) -> str | None:
    try:
        root = xml_safe.parse(reply.body, "the answer")
        found = root.xpath(text)
    except (FormatError, etree.XPathError):
        return None
    if not isinstance(found, list):
        return said(found)
    texts = [one if isinstance(one, str) else xml_safe.text(one) for one in found[:MOST_VALUES]]
    return ", ".join(texts)[:MOST_LIST] if texts else None


def _by_json(reply: Reply, way: str, text: str) -> str | None:
    data = reply.json()
    if way == "member":
        return said(data.get(text)) if isinstance(data, dict) and text in data else None
    if data is None:
        return None
    try:
        values = jsonpath.find(text, data).values()
    except (jsonpath.JSONPathError, RecursionError):
        return None
    if way == "count":
        return str(len(values))
    if not values:
        return None
    return ", ".join(said(one) for one in values[:MOST_VALUES])[:MOST_LIST]


def said(value: Any) -> str:
    """A value of JSON or XPath as text: true and false, numbers as they are written, '' null."""
    if value is None:
        return ""
    if isinstance(value, str):
        return value[:MOST_TEXT]
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return json.dumps(value, ensure_ascii=False)[:MOST_TEXT]
