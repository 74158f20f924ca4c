"""Rules for typed secrets. The verdict is words; the secret goes no further."""

from __future__ import annotations

import re
from collections.abc import Callable

from nimble_stone.core.errors import InputError
from nimble_stone.core.kit.settings import Rule


def classes_of(value: str) -> int:
    """How many of the four classes occur: lower case, upper case, digits, other signs."""
    return sum(
        (
            any(c.islower() for c in value),
            any(c.isupper() for c in value),
            any(c.isdigit() for c in value),
            any(not c.isalnum() for c in value),
        )
    )


KINDS = ("abcdefghijkmnopqrstuvwxyz", "ABCDEFGHJKLMNPQRSTUVWXYZ", "23456789", "-_.,:+=")
"""Characters of made secrets: none that is taken for another, none that shells or YAML mind."""


def made_by(rule: Rule | None, choose: Callable[[str], str], *, length: int = 20) -> str:
    """A secret that keeps a rule: long enough, with all four kinds. `choose` picks a character, and
    must be fit for secrets.

    Raises InputError when the rule wants a form that letters cannot be drawn for.
    """
    rule = rule or Rule()
    if rule.choices:
        raise InputError("a setting with fixed choices cannot be secret", code="secret-choices")
    whole = max(4, min(max(length, rule.min_length), rule.max_length))
    for _ in range(200):
        text = "".join(
            choose(KINDS[i]) if 0 < i < 4 else choose("".join(KINDS[:3])) for i in range(whole)
        )
        if not violations(text, rule):
            return text
    raise InputError("no secret of this form could be made", code="secret-form", hint="Type one.")


def violations(value: str, rule: Rule) -> list[str]:
    """What a value lacks, in words that follow “it …”. Empty when it will do. The value itself is
    never quoted.
    """
    found = []
    if len(value) < rule.min_length:
        found.append(f"is {len(value)} characters long, at least {rule.min_length} are needed")
    if len(value) > rule.max_length:
        found.append(f"is {len(value)} characters long, at most {rule.max_length} are allowed")
    if rule.classes and classes_of(value) < rule.classes:
        found.append(
            f"mixes {classes_of(value)} of lower case, upper case, digits and signs; {rule.classes}"
            " are needed"
        )
    if rule.pattern and len(value) <= 4096 and not re.fullmatch(rule.pattern, value):
        found.append(f"does not have the form {rule.pattern}")
    if rule.choices and value not in rule.choices:
        found.append(f"is not one of {', '.join(rule.choices)}")
    return found
