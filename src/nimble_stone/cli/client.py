"""Talking to a server from the command line."""

from __future__ import annotations

import json
import os
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nimble_stone.core.errors import Denied, InputError, StoneError, Unreachable

UPLOAD_TRIES = 8
if TYPE_CHECKING:
    import httpx


def data_folder() -> Path:
    """The data folder: NIMBLE_STONE_DATA, else the usual place."""
    return Path(os.environ.get("NIMBLE_STONE_DATA") or Path.home() / ".local/share/nimble-stone")


def write_profile(data: Path, url: str, token: str) -> None:
    """Let the command line of this user find the server (file mode 0600)."""
    path = data / "client.json"
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as file:
        json.dump({"url": url, "token": token}, file)


LONG_S = 3600.0
"""For what asks many hosts or nodes, seconds."""


class Client:
    """A signed-in session. What is not given comes from NIMBLE_STONE_URL, NIMBLE_STONE_TOKEN and
    NIMBLE_STONE_KEY, or
    from the data folder's profile, which holds a token. Only a key opens a session."""

    def __init__(self, url: str = "", key: str = "", token: str = "") -> None:
        import httpx

        profile: dict[str, str] = {}
        path = data_folder() / "client.json"
        if path.exists():
            profile = json.loads(path.read_text())
        url = (
            url or os.environ.get("NIMBLE_STONE_URL") or profile.get("url", "http://127.0.0.1:8440")
        )
        if not key:
            token = token or os.environ.get("NIMBLE_STONE_TOKEN", "")
        if not token:
            key = key or os.environ.get("NIMBLE_STONE_KEY", "")
        if not token and not key:
            token, key = profile.get("token", ""), profile.get("key", "")
        if not token and not key:
            raise Denied(
                "No token or access key is known.",
                hint=(
                    "Set NIMBLE_STONE_TOKEN, or NIMBLE_STONE_KEY to the key printed at first server"
                    " start."
                ),
            )
        self.url = url
        self._http = httpx.Client(
            base_url=url, timeout=httpx.Timeout(120, connect=5), trust_env=False
        )
        if token:
            self._http.headers["Authorization"] = f"Bearer {token}"
            return
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

    def long(self, path: str, body: Any = None) -> Any:
        """The JSON answer to a POST for which many hosts or nodes are asked: 300 of them take
        minutes.
        """
        return self.call("POST", path, body, timeout=LONG_S)

    def patient(self, path: str, body: Any = None) -> Any:
        """The JSON answer to a POST that reads hosts; after 3 s standard error says which of them
        it waits for.
        """
        from concurrent.futures import ThreadPoolExecutor, wait

        told = ""
        with ThreadPoolExecutor(1) as beside:
            asked = beside.submit(self.long, path, body)
            while not wait([asked], timeout=1.0).done:
                silent = [
                    one["host"]
                    for one in self.call("GET", "/api/estate/reading")
                    if one["seconds"] >= 3
                ]
                words = (
                    "Waiting for"
                    f" {', '.join(silent[:5])}{' and others' if len(silent) > 5 else ''} …"
                )
                if silent and words != told:
                    told = words
                    sys.stderr.write(words + "\n")
            return asked.result()

    def text(self, path: str) -> str:
        """A text answer."""
        answer = self._http.get(path)
        _checked(answer, parse=False)
        return answer.text

    def data(self, path: str) -> bytes:
        """The bytes of an answer."""
        answer = self._http.get(path)
        _checked(answer, parse=False)
        return answer.content

    def upload(self, paths: Path | list[Path], seen: Any) -> Any:
        """Take the files of one package in, going on with an upload that was broken off earlier.
        `seen` is told bytes sent and total.
        """
        paths = [paths] if isinstance(paths, Path) else paths
        files = [
            (
                (
                    path.relative_to(paths[0].parent).as_posix()
                    if path.is_relative_to(paths[0].parent)
                    else path.name
                ),
                path.stat().st_size,
            )
            for path in paths
        ]
        if empty := next((name for name, size in files if not size), ""):
            raise InputError(f"“{empty}” is empty", code="upload-length")
        total = sum(size for _, size in files)
        row = next(
            (
                t
                for t in self.call("GET", "/api/take-ins")
                if t["source"] == "upload"
                and t["state"] == "receiving"
                and t["total"] == total
                and t["files"] == [name for name, _ in files]
            ),
            None,
        ) or self.call("POST", "/api/take-ins", {"files": files})
        sent = 0
        for number, path in enumerate(paths):
            sent += self._send(
                f"/api/take-ins/files/{row['id']}.{number}",
                path,
                lambda at, base=sent: seen(base + at, total),
            )
        while row["state"] in ("receiving", "verifying"):
            time.sleep(0.15)
            row = self.call("GET", f"/api/take-ins/{row['id']}")
        if row["state"] != "done":
            raise InputError(
                row["message"] or "it was stopped",
                code=row["code"] or "take-in-ended",
                hint=row["hint"],
            )
        return self.call("GET", f"/api/packages/{row['package']}")

    def _send(self, place: str, path: Path, seen: Any) -> int:
        """One file by the tus protocol: from wherever the server stands, again after each break.
        The file's size.
        """
        import httpx

        size, tries = path.stat().st_size, 0
        while True:
            try:
                head = self._http.head(place, headers={"Tus-Resumable": "1.0.0"})
                if head.status_code in (404, 410):
                    # it has ended; the take-in itself says how
                    return size
                offset = int(head.headers["Upload-Offset"])
                if offset == size:
                    return size
                answer = self._http.patch(
                    place,
                    content=_pieces(path, offset, seen),
                    timeout=None,
                    headers={
                        "Tus-Resumable": "1.0.0",
                        "Upload-Offset": str(offset),
                        "Content-Type": "application/offset+octet-stream",
                        "Content-Length": str(size - offset),
                    },
                )
                if answer.status_code not in (204, 409):
                    if answer.status_code == 410:
                        return size
                    _checked(answer)
                tries = 0
            except httpx.HTTPError as error:
                tries += 1
                if tries > UPLOAD_TRIES:
                    raise _unreachable(self.url, error) from error
                time.sleep(min(10.0, 0.2 * 2**tries))

    def events(self, run: str, after: int = 0) -> Iterator[dict[str, Any]]:
        """Journal events of a run, live; connects again after a break and goes on where it was."""
        import httpx

        while True:
            try:
                with self._http.stream(
                    "GET",
                    f"/api/runs/{run}/events",
                    headers={"Last-Event-ID": str(after)},
                    timeout=httpx.Timeout(60, connect=5),
                ) as answer:
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


def _pieces(path: Path, offset: int, seen: Any) -> Iterator[bytes]:
    with path.open("rb") as file:
        file.seek(offset)
        while piece := file.read(1 << 20):
            yield piece
            offset += len(piece)
            seen(offset)


def _unreachable(url: str, error: httpx.HTTPError) -> Unreachable:
    return Unreachable(
        f"the server at {url} does not answer: {error}",
        target=url,
        hint="Start it with `nimble-stone serve`.",
    )


def _checked(answer: httpx.Response, *, parse: bool = True) -> Any:
    if answer.status_code < 400:
        return answer.json() if parse else None
    answer.read()
    try:
        body = answer.json()
    except ValueError:
        raise StoneError(f"the server answers with status {answer.status_code}") from None
    kind = {422: InputError, 401: Denied}.get(answer.status_code, StoneError)
    raise kind(
        str(body.get("detail", "")),
        code=str(body.get("code", "error")),
        hint=str(body.get("hint", "")),
    )
