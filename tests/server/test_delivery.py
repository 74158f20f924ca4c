"""The page's own files: packed where the browser takes it, kept for ever where the name says so."""

from __future__ import annotations

import gzip
import re
from pathlib import Path

import httpx
import pytest

from nimble_stone.server.app import STATIC
from nimble_stone.server.delivery import accepted
from tests.support.processes import ServerProcess

FIRST_LOAD = 110_000
"""Bytes that opening a page may cost, packed, fonts included."""


def linked(text: str) -> set[str]:
    """Names of the files below /assets that a file asks for at once."""
    found = re.findall(r"/?assets/([\w.-]+\.(?:js|css|woff2))", text)
    return set(found) | set(re.findall(r"from\s*[\"']\./([\w.-]+\.js)[\"']", text))


def test_the_server_sends_the_packed_copy_that_the_browser_takes(server: ServerProcess) -> None:
    page = httpx.get(server.url).text
    script = next(name for name in linked(page) if name.endswith(".js"))
    plain = httpx.get(f"{server.url}/assets/{script}", headers={"Accept-Encoding": "identity"})
    assert "content-encoding" not in plain.headers
    for encoding in ("gzip", "br"):
        with httpx.stream(
            "GET", f"{server.url}/assets/{script}", headers={"Accept-Encoding": encoding}
        ) as answer:
            raw = b"".join(answer.iter_raw())
        assert answer.headers["content-encoding"] == encoding
        assert answer.headers["vary"] == "Accept-Encoding"
        assert "immutable" in answer.headers["cache-control"]
        assert answer.headers["content-type"].startswith("text/javascript")
        assert len(raw) < len(plain.content) / 2
        if encoding == "gzip":
            assert gzip.decompress(raw) == plain.content
    assert httpx.get(server.url).headers["cache-control"] == "no-cache"
    assert httpx.get(f"{server.url}/assets/nothing.js").status_code == 404


@pytest.mark.parametrize(
    ("header", "found"),
    [
        ("", [""]),
        ("gzip, br", ["gzip", "br"]),
        ("br;q=0, gzip;q=0.5", ["gzip"]),
        ("br;q=0.000", []),
    ],
)
def test_encodings_that_are_refused_are_not_taken(header: str, found: list[str]) -> None:
    assert accepted(header) == found


def asked_for(script: str) -> set[str]:
    """Scripts and styles that a script cannot do without: those it imports, and theirs."""
    assets = STATIC / "assets"
    found, left = {script}, [script]
    while left:
        text = (assets / left.pop()).read_text()
        for name in re.findall(r"(?:from|import)\s*[\"']\./([\w.-]+\.js)[\"']", text):
            if name not in found:
                found.add(name)
                left.append(name)
    names = {without_hash(name) for name in found}
    styles = {path.name for path in assets.glob("*.css") if without_hash(path.name) in names}
    return found | styles


def without_hash(name: str) -> str:
    """A file's name before its 8 characters of hash, which may have dashes among them."""
    return re.sub(r"-[\w-]{8}\.\w+$", "", name)


@pytest.mark.parametrize(
    "chunks",
    [
        ["Plans"],
        ["Packages"],
        ["Keyring"],
        ["Estate"],
        ["Rollout", "PlanPage"],
        ["Rollout", "RunPage"],
        ["Rollout", "AcceptancePage"],
        ["Overview"],
        ["Runs"],
    ],
    ids="+".join,
)
def test_the_first_load_of_a_page_is_small(chunks: list[str]) -> None:
    """The frame, the page's own files and all that they cannot do without, and the fonts."""
    assets = STATIC / "assets"
    wanted = linked((STATIC / "index.html").read_text())
    for chunk in chunks:
        (script,) = [path.name for path in assets.glob(f"{chunk}-*.js")]
        wanted |= asked_for(script)
    wanted |= {path.name for path in assets.glob("*-latin-*.woff2")}
    sizes = {name: packed_size(assets / name) for name in wanted}
    assert sum(sizes.values()) <= FIRST_LOAD, sorted(sizes.items(), key=lambda item: -item[1])


def packed_size(path: Path) -> int:
    copy = path.with_name(path.name + ".br")
    return (copy if copy.exists() else path).stat().st_size
