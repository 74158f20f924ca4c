"""Sealing: only the right key and the right name open an entry."""

from __future__ import annotations

import html
import json
import shlex
from collections.abc import Callable
from pathlib import Path
from urllib.parse import quote, urlencode
from xml.sax.saxutils import escape

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from nimble_stone.core.errors import StoneError
from nimble_stone.core.redaction import BLANK, shortened
from nimble_stone.keyring import Vault
from nimble_stone.ports.ports import Ports


@given(st.text(max_size=200), st.text(max_size=40))
def test_what_was_sealed_is_opened_and_never_looks_like_itself(value: str, name: str) -> None:
    vault = Vault(b"k" * 32)
    sealed = vault.seal(name, value)
    assert vault.open(name, sealed) == value
    assert len(value.encode()) < 4 or value.encode() not in sealed
    assert vault.seal(name, value) != sealed


def test_another_name_another_key_or_an_altered_entry_is_refused() -> None:
    sealed = Vault(b"k" * 32).seal("a", "secret")
    for vault, name, data in (
        (Vault(b"k" * 32), "b", sealed),
        (Vault(b"x" * 32), "a", sealed),
        (Vault(b"k" * 32), "a", sealed[:-1] + b"\0"),
    ):
        with pytest.raises(StoneError):
            vault.open(name, data)


def test_the_key_file_is_made_once_for_its_owner_only(tmp_path: Path) -> None:
    path = tmp_path / "keyring.key"
    sealed = Vault.at(path).seal("a", "secret")
    assert path.stat().st_mode & 0o077 == 0
    assert Vault.at(path).open("a", sealed) == "secret"
    path.write_bytes(b"short")
    with pytest.raises(StoneError):
        Vault.at(path)


def quoted_twice(value: str) -> str:
    """For a shell that is started by a shell."""
    return shlex.quote(f"echo {shlex.quote(value)}")


WAYS: dict[str, Callable[[str], str]] = {
    "plain": str,
    "JSON": lambda value: json.dumps({"a": value}),
    "JSON with signs as they are": lambda value: json.dumps({"a": value}, ensure_ascii=False),
    "Python": lambda value: str({"a": value}),
    "XML": escape,
    "an XML attribute": lambda value: escape(value, {'"': "&quot;", "'": "&apos;"}),
    "HTML": html.escape,
    "a path": lambda value: quote(value, safe=""),
    "a query or a form": lambda value: urlencode({"a": value}),
    "a shell's word": shlex.quote,
    "a shell's word for another shell": quoted_twice,
}


@given(st.text(st.sampled_from("aä1 '\"\\<>&$+%/;\n"), max_size=24))
@example("p<&>\"'ä\\7")
@example('it\'s \\ "deep" $HOME `here`')
def test_blanking_finds_a_secret_as_everybody_writes_it(middle: str) -> None:
    secret = f"kq{middle}zx"
    ports = Ports(None, Vault(b"k" * 32), None, Path())  # type: ignore[arg-type]
    ports.hide(secret)
    for name, way in WAYS.items():
        told = ports.blank(f"command {way(secret)} end")
        assert told.count(BLANK) == 1, f"{name}: {told}"
        assert "kq" not in told, name
        assert "zx" not in told, name
    assert ports.blank("nothing here") == "nothing here"


@pytest.mark.parametrize("others", [0, 400])
@given(most=st.integers(5, 60))
def test_of_a_secret_that_was_cut_nothing_is_left(others: int, most: int) -> None:
    secret = "it's a long & winding channel"
    ports = Ports(None, Vault(b"k" * 32), None, Path())  # type: ignore[arg-type]
    ports.hide(secret)
    for number in range(others):
        ports.hide(f"{number:04d} of many others")
    for way in WAYS.values():
        text = shortened(f"say {way(secret)} to all that listen", most)
        told = ports.blank(f"gannet does not carry out “{text}” (status 1)")
        assert secret[:5] not in told, told
        assert quote(secret[:6], safe="") not in told, told
