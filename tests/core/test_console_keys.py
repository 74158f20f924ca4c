"""SSH host keys on a serial console, as Debian's cloud-init writes them."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from nimble_stone.core.console_keys import BEGIN, END, KINDS, fingerprint


def made(folder: Path, kind: str) -> tuple[str, str]:
    """A key by OpenSSH, and its fingerprint by ssh-keygen."""
    file = folder / kind
    bits = {"ecdsa": ["-b", "256"], "rsa": ["-b", "2048"]}.get(kind, [])
    line = ["ssh-keygen", "-q", "-t", kind, *bits, "-N", "", "-f", str(file)]
    subprocess.run(line, check=True)
    told = subprocess.run(
        ["ssh-keygen", "-lf", f"{file}.pub"], check=True, capture_output=True, text=True
    )
    return (folder / f"{kind}.pub").read_text(), told.stdout.split()[1]


@pytest.mark.parametrize("kinds", [("ed25519",), ("ecdsa", "ed25519"), ("ecdsa", "ed25519", "rsa")])
def test_the_key_that_a_server_shows_first_is_taken(tmp_path: Path, kinds: tuple[str, ...]) -> None:
    keys = {kind: made(tmp_path, kind) for kind in kinds}
    block = "".join(public for public, _ in keys.values())
    console = f"[   12.3] booting\r\n{BEGIN}\r\n{block}{END}\r\n[   13.0] done"
    first = "rsa" if "rsa" in kinds else "ed25519"
    assert fingerprint(console) == keys[first][1]
    # a block that is not whole yet tells nothing; the latest one counts
    assert fingerprint(console.partition(END)[0]) == ""
    (tmp_path / "again").mkdir()
    other, theirs = made(tmp_path / "again", "ed25519")
    assert fingerprint(f"{console}\n{BEGIN}\n{other}{END}") == theirs


def test_what_is_no_key_is_passed_over() -> None:
    for text in ("", BEGIN, f"{BEGIN}\nssh-ed25519 !!!\nssh-dss AAAA\n{END}", f"{BEGIN}\n{END}"):
        assert fingerprint(text) == ""
    assert KINDS[0] == "ssh-rsa"
