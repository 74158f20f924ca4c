"""Product sections and their properties (DSP0243 §9.5): keys, types, qualifiers, defaults, and
whether a value fits.
"""

from __future__ import annotations

import re

from nimble_stone.core.package.model import Product, Question
from nimble_stone.core.package.reading import SPACES, Reading
from nimble_stone.core.package.xml_tree import Element

_BITS = {"uint8": 8, "uint16": 16, "uint32": 32, "uint64": 64}
_SIGNED = {"sint8": 8, "sint16": 16, "sint32": 32, "sint64": 64}
_OTHERS = {"string", "boolean", "real32", "real64", "char16", "datetime"}
_FIELD_TYPES = {
    "ip": "string",
    "password": "string",
    "int": "sint32",
    "integer": "sint32",
    "bool": "boolean",
    "text": "string",
}
_BOUND = re.compile(r"(M(?:in|ax)(?:Len|Value))\s*\(\s*(-?\d{1,20})\s*\)", re.IGNORECASE)
_MAP = re.compile(r"Value(?:Map|s)\s*[({]", re.IGNORECASE)
_VALUE_MAP = re.compile(r"ValueMap\s*[({]", re.IGNORECASE)
_QUOTED = re.compile(r'"([^"\\]*(?:\\.[^"\\]*)*)"')
_ESCAPED = re.compile(r"\\(.)")
MAX_PROPERTIES = 2_000


def _sections(system: Element) -> list[Element]:
    """Product sections of the standard's own namespaces; one with this name from elsewhere is
    another thing.
    """
    return [
        section
        for section in system.all("ProductSection")
        if section.space in SPACES or not section.space
    ]


def products(system: Element, reading: Reading) -> tuple[Product, ...]:
    """All product sections of a system or collection."""
    return tuple(
        Product(
            reading.child(s, "Product"),
            reading.child(s, "Vendor"),
            s.child_text("Version"),
            s.child_text("FullVersion"),
            s.child_text("ProductUrl"),
            s.child_text("VendorUrl"),
            s.attribute("class") or "",
            s.attribute("instance") or "",
        )
        for s in _sections(system)
    )


def questions(system: Element, reading: Reading, options: frozenset[str]) -> tuple[Question, ...]:
    """All properties of a system or collection, in the publisher's order and groups. Doubles are
    kept once and noticed.
    """
    found: dict[str, Question] = {}
    sections: set[tuple[str, str]] = set()
    for section in _sections(system):
        name = (section.attribute("class") or "", section.attribute("instance") or "")
        if name in sections:
            reading.notice(
                "caution",
                "ovf-product",
                f"two product sections share class “{name[0]}” and instance “{name[1]}”",
                section,
                "9.5",
            )
        sections.add(name)
        category = ""
        for child in section.children:
            if child.name == "Category":
                category = reading.say(child)
            elif child.name == "Property":
                question = _question(child, section, category, reading, options)
                if question is None:
                    continue
                if question.key in found:
                    reading.notice(
                        "blocker",
                        "ovf-property",
                        f"property “{question.key[:80]}” is there twice",
                        child,
                        "9.5",
                    )
                elif len(found) >= MAX_PROPERTIES:
                    reading.notice(
                        "blocker", "ovf-property", f"more than {MAX_PROPERTIES} properties", child
                    )
                    return tuple(found.values())
                else:
                    found[question.key] = question
    return tuple(found.values())


def _question(
    item: Element, section: Element, category: str, reading: Reading, options: frozenset[str]
) -> Question | None:
    own = item.attribute("key") or ""
    if not own:
        reading.notice("blocker", "ovf-property", "a property has no key", item, "9.5")
        return None
    if "." in own:
        reading.notice(
            "note", "ovf-property-key", f"the property key “{own[:60]}” holds a dot", item, "9.5"
        )
    key = ".".join(
        part for part in (section.attribute("class"), own, section.attribute("instance")) if part
    )
    kind = _kind(item, own, reading)
    low_len, high_len, low, high, choices = _qualifiers(item, reading)
    default = item.attribute("value")
    per_option: dict[str, str] = {}
    for value in item.all("Value"):
        option = value.attribute("configuration")
        if option is None:
            default = value.attribute("value") if default is None else default
        elif option not in options:
            reading.notice(
                "caution",
                "ovf-option",
                f"a value of “{own[:60]}” is for option “{option[:60]}”, which is not described",
                value,
                "9.5",
            )
        else:
            per_option[option] = value.attribute("value") or ""
    secret = reading.flag(item, "password") or (
        item.attribute("type") or ""
    ).strip().lower().startswith("password")
    label = reading.child(item, "Label")
    question = Question(
        key=key,
        label=label or own,
        labelled=bool(label),
        description=reading.child(item, "Description"),
        category=category,
        type=kind,
        default=default or "",
        given=default is not None,
        secret=secret,
        asked=reading.flag(item, "userConfigurable"),
        minimum=low_len if low_len is not None else low,
        maximum=high_len if high_len is not None else high,
        low=low,
        high=high,
        choices=choices,
        per_option=tuple(per_option.items()),
    )
    if secret and default:
        reading.notice(
            "caution",
            "ovf-password-default",
            f"the package brings a default password for “{key[:60]}”; everybody who has the package"
            " knows it",
            item,
            "9.5",
        )
    for text in dict.fromkeys([*(v for v in per_option.values()), default or ""]):
        if text and not secret and (why := misfit(question, text)):
            reading.notice(
                "caution",
                "ovf-default",
                f"the default “{text[:60]}” of “{key[:60]}” {why}",
                item,
                "9.5",
            )
    return question


def _kind(item: Element, own: str, reading: Reading) -> str:
    text = (item.attribute("type") or "").strip()
    plain = re.sub(r"\s*[(\[].*$", "", text).lower()
    kind = _FIELD_TYPES.get(plain, plain)
    if kind in _BITS or kind in _SIGNED or kind in _OTHERS:
        if kind != text:
            reading.notice(
                "caution",
                "ovf-property-type",
                f"the type “{text[:40]}” of “{own[:60]}” is not one of the standard's; it is read"
                f" as {kind}",
                item,
                "9.5",
            )
        return kind
    reading.notice(
        "caution",
        "ovf-property-type",
        (
            f"the type “{text[:40]}” of “{own[:60]}” is not one of the standard's; it is read as"
            " string"
            if text
            else f"property “{own[:60]}” has no type; it is read as string"
        ),
        item,
        "9.5",
    )
    return "string"


def _qualifiers(
    item: Element, reading: Reading
) -> tuple[int | None, int | None, int | None, int | None, tuple[str, ...]]:
    """(MinLen, MaxLen, MinValue, MaxValue, ValueMap), DSP0243 §9.5 table of qualifiers."""
    text = item.attribute("qualifiers") or ""
    bounds = {name.lower(): int(value) for name, value in _BOUND.findall(text)}
    choices, rest = _value_map(text)
    rest = _BOUND.sub("", rest).strip(" ,")
    if rest:
        reading.notice(
            "note", "ovf-qualifier", f"the qualifier “{rest[:60]}” is not used", item, "9.5"
        )
    for low, high in (("minlen", "maxlen"), ("minvalue", "maxvalue")):
        if low in bounds and high in bounds and bounds[low] > bounds[high]:
            reading.notice(
                "caution",
                "ovf-qualifier",
                f"the least ({bounds[low]}) is more than the most ({bounds[high]})",
                item,
                "9.5",
            )
    _type_limits(item.attribute("type") or "", bounds)
    choices = choices or _type_choices(item.attribute("type") or "")
    return (
        bounds.get("minlen"),
        bounds.get("maxlen"),
        bounds.get("minvalue"),
        bounds.get("maxvalue"),
        choices[:1000],
    )


def _type_limits(text: str, bounds: dict[str, int]) -> None:
    """Add what a type of the field's own form says: string(1..20), int(1..100). The standard's
    qualifiers win.
    """
    found = re.fullmatch(r"\s*(\w+)\s*\(\s*(-?\d{0,18})\s*\.\.\s*(-?\d{0,18})\s*\)\s*", text)
    if found is None:
        return
    unit = "len" if found[1].lower() in ("string", "password", "text") else "value"
    for word, number in (("min", found[2]), ("max", found[3])):
        if number.strip("-"):
            bounds.setdefault(word + unit, int(number))


def _type_choices(text: str) -> tuple[str, ...]:
    """The values of a type of the form string["a", "b"]."""
    found = re.fullmatch(r"\s*\w+\s*\[(.*)\]\s*", text, re.DOTALL)
    return tuple(_ESCAPED.sub(r"\1", value) for value in _QUOTED.findall(found[1])) if found else ()


def _value_map(text: str) -> tuple[tuple[str, ...], str]:
    """The quoted values of ValueMap{"a","b"}, and the qualifiers without it. Scanned by hand:
    values may hold any closing sign.
    """
    # Values are only the words for what ValueMap lists
    start = _VALUE_MAP.search(text) or _MAP.search(text)
    if not start:
        return (), text
    values, at = [], start.end()
    while at < len(text) and text[at] not in ")}":
        if text[at] == '"':
            quoted = _QUOTED.match(text, at)
            if quoted is None:
                break
            values.append(_ESCAPED.sub(r"\1", quoted[1]))
            at = quoted.end() - 1
        at += 1
    return tuple(values), text[: start.start()] + text[at + 1 :]


def misfit(question: Question, text: str) -> str:
    """Why `text` is no value for the question, '' when it is one. Lengths are in characters."""
    if question.choices and text not in question.choices:
        return f"is not one of {', '.join(question.choices[:8])}"
    kind = question.type
    if kind in _BITS or kind in _SIGNED:
        if not re.fullmatch(r"[+-]?\d{1,20}", text):
            return "is not a whole number"
        value = int(text)
        least, most = (
            (0, 2 ** _BITS[kind] - 1)
            if kind in _BITS
            else (-(2 ** (_SIGNED[kind] - 1)), 2 ** (_SIGNED[kind] - 1) - 1)
        )
        least, most = (
            max(least, question.low if question.low is not None else least),
            min(most, question.high if question.high is not None else most),
        )
        return "" if least <= value <= most else f"is not from {least} to {most}"
    if kind == "boolean":
        return "" if text.lower() in ("true", "false") else "is neither true nor false"
    if kind in ("real32", "real64"):
        return (
            ""
            if re.fullmatch(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d{1,3})?", text)
            else "is not a number"
        )
    if kind == "string":
        if question.minimum is not None and question.low is None and len(text) < question.minimum:
            return f"is shorter than {question.minimum} characters"
        if question.maximum is not None and question.high is None and len(text) > question.maximum:
            return f"is longer than {question.maximum} characters"
    return ""
