"""Answer files: a kit's template, filled in with escaping for the format that the installer reads.

`@{name}` stands for a value. Everything else is the installer's own syntax and stays as it is:
braces, dollars and percent signs mean nothing here.
"""

from __future__ import annotations

import io
import json
import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any, Literal

from lxml import etree
from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError

from nimble_stone.core import shell_words
from nimble_stone.core.errors import FormatError

Format = Literal["xml", "yaml", "json", "shell", "lines"]
MAX_TEXT = 64 << 10
PLACE = re.compile(r"@\{([A-Za-z0-9_.-]{1,80})\}")
PROBE = "p<&>\"'`$(id) \\ : # %"
"""A value that breaks whatever does not escape it."""


def names(text: str) -> list[str]:
    """What a template asks for, in order, each once."""
    return list(dict.fromkeys(PLACE.findall(text)))


def filled(text: str, form: Format, values: Mapping[str, str]) -> str:
    """The template with its values. Raises FormatError for a value that the format cannot hold, and
    KeyError for a name without a value.
    """
    parts, at = [], 0
    for found in PLACE.finditer(text):
        parts += [text[at : found.start()], _escaped(form, found[1], values[found[1]])]
        at = found.end()
    return "".join([*parts, text[at:]])


def _escaped(form: Format, name: str, value: str) -> str:
    bad = next((c for c in value if ord(c) < 32 and c not in "\n\t"), "")
    if bad or (form == "lines" and ("\n" in value or "\t" in value)):
        what = "control characters" if bad else "line breaks or tabs"
        raise FormatError(
            f"the value of {name} holds {what}, which the answer file cannot hold",
            code="answer-value",
            hint="Change the value.",
        )
    return ESCAPES[form](value)


def _xml(value: str) -> str:
    """For text and for attributes in either kind of quotes (XML 1.0, 2.4)."""
    for char, entity in (
        ("&", "&amp;"),
        ("<", "&lt;"),
        (">", "&gt;"),
        ('"', "&quot;"),
        ("'", "&apos;"),
        ("\n", "&#10;"),
        ("\t", "&#9;"),
    ):
        value = value.replace(char, entity)
    return value


def _json(value: str) -> str:
    """For the inside of a JSON string (RFC 8259, 7), which a double-quoted YAML scalar takes
    too.
    """
    return json.dumps(value, ensure_ascii=False)[1:-1]


ESCAPES: Mapping[Format, Callable[[str], str]] = {
    "xml": _xml,
    "json": _json,
    "yaml": _json,
    "shell": shell_words.word,
    "lines": str,
}


# --- looking at a template before it is used ---


def check(text: str, form: Format) -> None:
    """Whether values come through whole, whatever they hold. Raises FormatError for a template that
    does not follow its format, or that has a value where the format cannot quote it.
    """
    if "@{" in PLACE.sub("", text):
        raise FormatError("“@{” begins a name that is not closed, or has other characters")
    if form in ("xml", "json", "yaml"):
        _check_tree(text, form, names(text))
    elif form == "shell":
        _check_shell(text)


def _check_tree(text: str, form: Format, asked: list[str]) -> None:
    """Fill it with values that would break out, read it, and look for them."""
    probes = {name: f"{PROBE}{number}" for number, name in enumerate(asked)}
    try:
        found = "\n".join(_strings(_read(filled(text, form, probes), form)))
    except (ValueError, YAMLError, etree.XMLSyntaxError) as error:
        first = str(error).strip().splitlines()[0] if str(error).strip() else "it cannot be read"
        where = " Put each @{name} inside double quotes." if form in ("json", "yaml") else ""
        raise FormatError(f"it is no {form.upper()} once filled in: {first}.{where}") from error
    for name in asked:
        if probes[name] not in found:
            raise FormatError(
                f"@{{{name}}} does not come through whole",
                hint="Put it inside double quotes." if form != "xml" else "Do not put it in CDATA.",
            )


def _read(text: str, form: Format) -> Any:
    if form == "json":
        return json.loads(text)
    if form == "yaml":
        return YAML(typ="safe", pure=True).load(io.StringIO(text))
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False)
    return etree.fromstring(text.encode(), parser)


def _strings(value: Any) -> Iterator[str]:
    """All texts in what was read."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for key, one in value.items():
            yield from _strings(key)
            yield from _strings(one)
    elif isinstance(value, list):
        for one in value:
            yield from _strings(one)
    elif isinstance(value, etree._Element):
        for node in value.iter():
            yield from (node.text or "", node.tail or "", *map(str, node.attrib.values()))


def _check_shell(text: str) -> None:
    """Values stand where a shell takes a word; they are quoted for it."""
    braced = PLACE.sub(lambda found: f"{{{found[1]}}}", text)
    if why := shell_words.fault_of(braced):
        raise FormatError(why.replace("“{", "“@{"))
