"""A product with an interface of its own kind: HTTPS with a self-made certificate, a session with a
cookie and a token, a first password that must be changed, a licence and a certificate to upload,
nested JSON, odd names, XML, and plain HTTP that leads to HTTPS. By the standard library alone.
"""

from __future__ import annotations

import email
import email.policy
import json
import secrets
import ssl
import threading
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar
from xml.etree import ElementTree

FIRST = "changeme"


def self_made(folder: Path, name: str) -> Path:
    """A certificate with its key, as a fresh product makes it for itself."""
    from nimble_stone.lab.controllers import certificate

    file = folder / f"{secrets.token_hex(4)}.pem"
    file.write_bytes(certificate.self_made(name))
    return file


class Sluice:
    """One of them. `ports`: of HTTPS and of plain HTTP; `first`: the certificate that it begins
    with, `shown`: what it says of its address. Close with `close`.
    """

    def __init__(
        self,
        folder: Path,
        address: str,
        ports: tuple[int, int],
        name: str,
        first: Path | None = None,
        shown: str = "",
    ) -> None:
        self.folder, self.name = folder, name
        self.shown = shown or f"10.44.{address.split('.', 2)[2]}/23"
        self.password, self.licence, self.peers = FIRST, "", [{}]
        self.sessions: dict[str, str] = {}
        self.issued: list[str] = []
        """Every session that was ever opened, by its cookie."""
        self.logins: list[str] = []
        self.asked: list[str] = []
        self.lasts = 1000
        """After how many requests a session is ended."""
        self.spoilt: bytes = b""
        """What every status is answered with instead, if anything."""
        self._context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.show(first or self_made(folder, name))
        secure = type("Secure", (_Secure,), {"box": self})
        self._servers = [ThreadingHTTPServer((address, ports[0]), secure)]
        self._servers[0].socket = self._context.wrap_socket(
            self._servers[0].socket, server_side=True
        )
        plain = type("Plain", (_Plain,), {"box": self})
        self._servers.append(ThreadingHTTPServer((address, ports[1]), plain))
        for server in self._servers:
            threading.Thread(target=server.serve_forever, daemon=True).start()

    def show(self, file: Path) -> None:
        """Show another certificate from the next connection on."""
        self._context.load_cert_chain(file)

    def close(self) -> None:
        """End it."""
        for server in self._servers:
            server.shutdown()
            server.server_close()


class _Plain(BaseHTTPRequestHandler):
    box: ClassVar[Sluice]

    def do_GET(self) -> None:
        """Everything is elsewhere."""
        self.send_response(301)
        self.send_header("Location", f"https://{self.headers['Host'].partition(':')[0]}{self.path}")
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_: Any) -> None:
        """Nothing on the screen."""


class _Secure(_Plain):
    def _answer(self, status: int, data: Any, **headers: str) -> None:
        body = data if isinstance(data, bytes) else json.dumps(data).encode()
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def _body(self) -> bytes:
        return self.rfile.read(int(self.headers.get("Content-Length") or 0))

    def _session(self) -> str:
        """The session's password, '' for none; both cookie and token must be right."""
        cookie = self.headers.get("Cookie", "").partition("SLUICE=")[2].partition(";")[0]
        token = self.headers.get("X-Gate", "")
        if not token or cookie not in self.box.sessions or token != f"t-{cookie}":
            return ""
        self.box.lasts -= 1
        if self.box.lasts < 0:
            self.box.sessions.clear()
            self.box.lasts = 1000
            return ""
        return self.box.sessions[cookie]

    def _refused(self, status: int, words: str) -> None:
        self._answer(status, {"error": {"code": status, "reason": words}, "reason": words})

    def _any(self) -> None:
        self.box.asked.append(f"{self.command} {self.path}")
        body = self._body()
        if self.path == "/api/v2/status":
            return self._status()
        if (self.command, self.path) == ("POST", "/api/v2/session"):
            return self._login(dict(ElementTree.fromstring(body).attrib))
        known = self._session()
        if not known:
            return self._refused(401, "no session")
        if self.path == "/api/v2/account/password":
            return self._password(json.loads(body), known)
        if known == FIRST:
            return self._refused(403, "change the first password")
        found = getattr(self, f"_{self.command.lower()}_{self.path.rpartition('/')[2]}", None)
        return found(body) if found else self._refused(404, "no such place")

    do_GET = do_POST = do_PUT = do_DELETE = _any  # noqa: N815

    def _status(self) -> None:
        if self.box.spoilt:
            return self._answer(200, self.box.spoilt)
        port = self.server.server_address[1]
        data = {
            "system": {"host": {"label": self.box.name, "build": "4.2.0"}, "ready": True},
            "net": [{"ip": self.box.shown}],
            "epoch": datetime.now(UTC).timestamp(),
        }
        return self._answer(200, data, Content_Type="application/json", X_Build=f"sluice/{port}")

    def _login(self, given: dict[str, str]) -> None:
        self.box.logins.append(given["pass"])
        if given != {"name": "admin", "pass": self.box.password}:
            return self._refused(401, "wrong name or password")
        session = secrets.token_hex(8)
        self.box.sessions[session] = self.box.password
        self.box.issued.append(session)
        data = {"data": {"gate": {"token": f"t-{session}"}}}
        return self._answer(201, data, Set_Cookie=f"SLUICE={session}; Path=/; Secure; HttpOnly")

    def _password(self, given: dict[str, str], known: str) -> None:
        if given["old"] != known:
            return self._refused(409, "the old password is another one")
        self.box.password = given["new"]
        self.box.sessions.clear()
        return self._answer(204, b"")

    def _delete_session(self, _: bytes) -> None:
        self.box.sessions.clear()
        self._answer(204, b"")

    def _post_licence(self, body: bytes) -> None:
        kind = self.headers["Content-Type"]
        found = email.message_from_bytes(
            f"Content-Type: {kind}\r\n\r\n".encode() + body, policy=email.policy.HTTP
        )
        parts = {
            one.get_param("name", header="content-disposition"): one for one in found.iter_parts()
        }
        self.box.licence = str(parts["file"].get_content()).strip()
        self._answer(200, {"data": {"file": parts["file"].get_filename()}})

    def _get_licence(self, _: bytes) -> None:
        xml = f"<licence><key>{self.box.licence}</key><gauges>140</gauges></licence>"
        self._answer(200, xml.encode(), Content_Type="application/xml")

    def _post_certificate(self, body: bytes) -> None:
        file = self.box.folder / f"{secrets.token_hex(4)}.pem"
        file.write_bytes(body)
        self.box.show(file)
        self._answer(202, {"data": {"installed": True}})

    def _put_peers(self, body: bytes) -> None:
        self.box.peers = json.loads(body)["peers"]
        self._answer(200, {"data": {"peers": len(self.box.peers)}})

    def _get_peers(self, _: bytes) -> None:
        self._answer(200, {"data": {"peers": self.box.peers}})
