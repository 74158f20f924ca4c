"""Talking to a server from the command line."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nimble_stone.core.errors import Denied, InputError, StoneError, Unreachable

if TYPE_CHECKING:
    import httpx


def data_folder() -> Path:
    """The data folder: NIMBLE_STONE_DATA, else the usual place."""
    return Path(os.environ.get("NIMBLE_STONE_DATA") or Path.home() / ".local/share/nimble-stone")


def write_profile(data: Path, url: str, key: str) -> None:
    """Let the command line of this user find the server (file mode 0600)."""
    path = data / "client.json"
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as file:
        json.dump({"url": url, "key": key}, file)


class Client:
    """A signed-in session. Server and key come from NIMBLE_STONE_URL and NIMBLE_STONE_KEY, or from the data folder's profile."""

    def __init__(self, url: str = "", key: str = "") -> None:
        import httpx
        profile: dict[str, str] = {}
        path = data_folder() / "client.json"
        if path.exists():
            profile = json.loads(path.read_text())
        url = url or os.environ.get("NIMBLE_STONE_URL") or profile.get("url", "http://127.0.0.1:8440")
        key = key or os.environ.get("NIMBLE_STONE_KEY") or profile.get("key", "")
        if not key:
            raise Denied("no access key is known", hint="Set NIMBLE_STONE_KEY to the key that the server printed when it first started.")
        self.url = url
        self._http = httpx.Client(base_url=url, timeout=httpx.Timeout(120, connect=5), trust_env=False)
        answer = self.call("POST", "/api/session", {"key": key})
        self._http.headers["X-CSRF-Token"] = answer["csrf"]

    def call(self, method: str, path: str, body: Any = None, **more: Any) -> Any:
        """The JSON answer. Raises StoneError in the server's words."""
        import httpx
        try:
            answer = self._http.request(method, path, json=body, **more)
        except httpx.HTTPError as error:
            raise _unreachable(self.url, error) from error
        return _checked(answer)

    def text(self, path: str) -> str:
        """A text answer."""
        answer = self._http.get(path)
        _checked(answer, parse=False)
        return answer.text

    def upload(self, path: Path, seen: Any) -> Any:
        """Take a package in. `seen` is told bytes sent and total."""
        import httpx
        total = path.stat().st_size

        def pieces() -> Iterator[bytes]:
            sent = 0
            with path.open("rb") as file:
                while piece := file.read(1 << 20):
                    yield piece
                    sent += len(piece)
                    seen(sent, total)
        try:
            answer = self._http.post("/api/packages", content=pieces(), params={"name": path.name}, headers={"Content-Length": str(total)}, timeout=None)
        except httpx.HTTPError as error:
            raise _unreachable(self.url, error) from error
        return _checked(answer)

    def events(self, run: str, after: int = 0) -> Iterator[dict[str, Any]]:
        """Journal events of a run, live; connects again after a break and goes on where it was."""
        import httpx
        while True:
            try:
                with self._http.stream("GET", f"/api/runs/{run}/events", headers={"Last-Event-ID": str(after)}, timeout=httpx.Timeout(60, connect=5)) as answer:
                    kind = ""
                    for line in answer.iter_lines():
                        if line.startswith("event: "):
                            kind = line.removeprefix("event: ")
                        elif line.startswith("data: ") and kind == "journal":
                            event = json.loads(line.removeprefix("data: "))
                            after = event["id"]
                            yield event
            except httpx.ConnectError as error:
                raise _unreachable(self.url, error) from error
            except httpx.HTTPError:
                continue


def _unreachable(url: str, error: httpx.HTTPError) -> Unreachable:
    return Unreachable(f"the server at {url} does not answer: {error}", target=url, hint="Start it with `nimble-stone serve`.")


def _checked(answer: httpx.Response, *, parse: bool = True) -> Any:
    if answer.status_code < 400:
        return answer.json() if parse else None
    answer.read()
    try:
        body = answer.json()
    except ValueError:
        raise StoneError(f"the server answers with status {answer.status_code}") from None
    kind = InputError if answer.status_code == 422 else Denied if answer.status_code == 401 else StoneError
    raise kind(str(body.get("detail", "")), code=str(body.get("code", "error")), hint=str(body.get("hint", "")))
