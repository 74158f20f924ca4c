"""Rules for typed secrets. The verdict is words; the secret goes no further."""

from __future__ import annotations

import re

from nimble_stone.core.kit.model import Rule


def classes_of(value: str) -> int:
    """How many of the four classes occur: lower case, upper case, digits, other signs."""
    return sum((any(c.islower() for c in value), any(c.isupper() for c in value), any(c.isdigit() for c in value),
                any(not c.isalnum() for c in value)))


def violations(value: str, rule: Rule) -> list[str]:
    """What a value lacks, in words that follow “it …”. Empty when it will do. The value itself is never quoted."""
    found = []
    if len(value) < rule.min_length:
        found.append(f"is {len(value)} characters long, at least {rule.min_length} are needed")
    if len(value) > rule.max_length:
        found.append(f"is {len(value)} characters long, at most {rule.max_length} are allowed")
    if classes_of(value) < rule.classes:
        found.append(f"mixes {classes_of(value)} of lower case, upper case, digits and signs; {rule.classes} are needed")
    if rule.pattern and len(value) <= 4096 and not re.fullmatch(rule.pattern, value):
        found.append(f"does not have the form {rule.pattern}")
    if rule.choices and value not in rule.choices:
        found.append(f"is none of {', '.join(rule.choices)}")
    return found
