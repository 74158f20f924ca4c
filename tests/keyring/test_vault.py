"""Sealing: only the right key and the right name open an entry."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core.errors import StoneError
from nimble_stone.keyring import Vault
from nimble_stone.ports.ports import BLANK, Ports


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


def test_blanking_finds_a_secret_in_every_dress() -> None:
    ports = Ports(None, Vault(b"k" * 32), None, Path())  # type: ignore[arg-type]
    secret = "p<&>\"'ä\\7"
    ports._note(secret)
    import json
    from xml.sax.saxutils import escape

    for text in (secret, json.dumps({"a": secret}), str({"a": secret}), escape(secret)):
        assert BLANK in ports.blank(f"command {text} end"), text
    assert ports.blank("nothing here") == "nothing here"
