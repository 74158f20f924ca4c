"""Texts are plain: words that were given up stay away (docs/glossary.md has those of today)."""

from __future__ import annotations

import re

import pytest

from tests.support import texts
from tests.support.texts import ROOT, Text

OLD = re.compile(
    r"\b(guests?|groundwork|bedrock|proofs?|prov(e|ed|es|ing)|taken? in|takes in|took in|take-ins?"
    r"|tak(e|es|en|ing) back|took back|begun|under way|anew|mend(s|ed)?|evene(r|st)"
    r"|as likely as not|nine times in ten|of (its|their) own|not reached|dialled|made out to"
    r"|bears?|going on|goes on|come in|came in|coming in|not now|config medi(um|a)|knobs?"
    r"|watermark|turn comes|awaited|stand-ins?|carr(y|ies|ied) over|assignment|gives? up"
    r"|may fall|lately|beside|nobody|somebody|stands? (on|there|in|twice|beside)|(is|are) none"
    r"|leads? (out|nowhere)|laid|the world)\b",
    re.IGNORECASE,
)
KEPT = (
    "groundwork/",  # an address of the API
    '"groundwork"',
    "'proving'",
    ".bedrock",
    ".proofs",
    ".watermark",
    "proof.",
    "/machines/",
    "guest agent",
    "guest:NAME",  # as the lab is told
    "/api/take-ins/",  # addresses, and a lock's name
    "take-in/…",
    "/prove",
)


def is_old(text: Text) -> bool:
    words = text.words
    for kept in KEPT:
        words = words.replace(kept, "")
    # what is code and not read: templates' insides
    words = re.sub(r"\$\{[^}]*\}|\{[^}]*\}", "…", words)
    return OLD.search(words) is not None


def test_no_text_has_a_word_that_was_given_up() -> None:
    found = [
        f"{text.file}:{text.line}: {text.words[:120]}"
        for text in texts.every_text()
        if is_old(text)
    ]
    assert found == []


@pytest.mark.parametrize("words", ["3 guests stand", "Take back what is left", "it is awaited"])
def test_the_test_sees_them(words: str) -> None:
    assert is_old(Text("x", 1, words))


def test_texts_are_found_in_every_kind_of_file() -> None:
    found = list(texts.every_text())
    assert len(found) > 3000
    for ending in (".svelte", ".ts", ".py", ".yaml"):
        assert any(text.file.endswith(ending) for text in found)
    told = {text.words for text in found}
    assert "No hosts yet." in told  # between tags
    assert "Filter by typing" in told  # in an attribute
    assert any(words.startswith("VM … exists on …") for words in told)  # filled in


def test_no_doc_has_a_word_that_was_given_up() -> None:
    found = []
    for path in (ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))):
        # without code, addresses, and the journal's entries, which have names of their own
        text = re.sub(
            r"```.*?```|`[^`\n]*`|\]\([^)]*\)|\*begun\*|^    .*?$",
            lambda match: "\n" * match[0].count("\n"),
            path.read_text(),
            flags=re.DOTALL | re.MULTILINE,
        )
        found += [
            f"{path.name}:{number}: {line[:120]}"
            for number, line in enumerate(text.splitlines(), 1)
            if is_old(Text(path.name, number, line))
        ]
    assert found == []


def test_the_page_of_the_glossary_has_the_words_of_today() -> None:
    text = (ROOT / "docs/glossary.md").read_text()
    for word in ("acceptance check", "host preparation", "import", "roll back"):
        assert word in text
