"""What a kit says of its product's interface: how it is spoken to, who asks, and single calls."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Annotated, Literal

from pydantic import Field, JsonValue, ValidationInfo, model_validator

from nimble_stone.core import json_template, reply, shell_words
from nimble_stone.core.models import Fixed, is_frozen

Reading = Annotated[
    str,
    Field(
        max_length=310,
        description=(
            "What is read from an answer: a member of the JSON object, `$…` (JSONPath, RFC 9535),"
            " `count:$…` or `count:pattern:…` (how many), `header:NAME`, `cookie:NAME`, `xpath:…`,"
            " `pattern:…` (with at most one group), `text:`, `ms:` (the milliseconds it took). A"
            " template in it stands for its value, whatever that holds."
        ),
    ),
]
Method = Literal["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD"]
Name = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")]
RecordKind = Literal["A", "AAAA", "CNAME", "MX", "NS", "PTR", "SOA", "SRV", "TXT"]
Login = Literal["none", "basic", "bearer", "session"]


def kept_file(name: str) -> str:
    """Under which a file that was fetched is kept."""
    return f"file.{name}"


class FilePart(Fixed):
    """A part of a form with files (multipart/form-data, RFC 7578)."""

    name: str = Field(min_length=1, max_length=100, pattern=r'^[^"\r\n]*$')
    text: str = Field(
        max_length=65_536, description="Its content; a template such as `{certificate.web}`."
    )
    file: str = Field(
        default="",
        max_length=200,
        pattern=r'^[^"\r\n]*$',
        description="File name; empty: a plain field.",
    )
    type: str = Field(
        default="", max_length=100, pattern=r"^[^\r\n]*$", description="Media type of a file."
    )


class PutFile(Fixed):
    """A file that is put onto a node before a command runs there."""

    path: str = Field(
        min_length=2,
        max_length=300,
        pattern=r"^/[^\x00\r\n]*$",
        description="Where; a template. Its folder is there already.",
    )
    text: str = Field(
        default="",
        max_length=65_536,
        description="Its content; a template such as `{certificate.web}`.",
    )
    fetched: Name | Literal[""] = Field(
        default="", description="Instead: a file that an earlier call fetched, byte for byte."
    )
    mode: str = Field(
        default="0600", pattern=r"^0?[0-7]{3}$", description="Its rights, as for chmod."
    )


class Call(Fixed):
    """A request to a node. `{...}` in path, query, headers and body is filled from columns and
    kept values; in a path and a query each value is escaped.
    """

    method: Method = "GET"
    port: int = Field(default=0, ge=0, le=65_535, description="0: that of `access`.")
    path: str = ""
    query: dict[str, str] = Field(default={}, max_length=40)
    headers: dict[str, str] = Field(default={}, max_length=40)
    ssh: str = Field(
        default="",
        max_length=40_000,
        description=(
            "Instead of a request: a command or script for the node, by SSH. Each value in it is"
            " quoted. It answers “status” and “said”, its last line."
        ),
    )
    put: tuple[PutFile, ...] = Field(
        default=(), max_length=20, description="By SSH: files that are put there before."
    )
    fetch: dict[Name, str] = Field(
        default={},
        max_length=8,
        description=(
            "By SSH: name → path (a template) of a file there that is read after the command, at"
            " most 64 KiB, such as a key that all nodes share. `put` writes it by `fetched`."
        ),
    )
    sudo: bool = Field(
        default=False,
        description=(
            "By SSH: as root by sudo, which is given the password of who logs in, where it asks."
        ),
    )
    prints: Literal["words", "answer"] = Field(
        default="words",
        description=(
            "By SSH: “answer”: what the command prints is the answer itself, such as JSON."
        ),
    )
    line: str = Field(
        default="",
        max_length=2000,
        pattern=r"^[^\x00\r\n]*$",
        description=(
            "Instead of a request: a line of text that is sent to the port by TCP. The answer is"
            " what comes until the other side ends the connection, or says `until`."
        ),
    )
    until: str = Field(
        default="",
        max_length=100,
        description="For `line`: the line that ends the answer, where the connection stays open.",
    )
    datagram: str = Field(
        default="",
        max_length=1200,
        description=(
            "Instead of a request: a text that is sent to the port by UDP. The answer is the first"
            " datagram that comes back. It is sent again each second until then."
        ),
    )
    dns: str = Field(
        default="",
        max_length=255,
        description=(
            "Instead of a request: a name that is asked for by DNS (port 53). The answer has"
            " `status` (NOERROR, NXDOMAIN, …), `answers` (a list of texts), `ttl` and"
            " `authoritative`."
        ),
    )
    record: RecordKind = Field(default="A", description="For `dns`: the kind of record.")
    ntp: bool = Field(
        default=False,
        description=(
            "Instead of a request: the time by NTP (port 123). The answer has `offset_ms` (to this"
            " server's clock), `delay_ms`, `stratum` and `synchronised`."
        ),
    )
    body: JsonValue = Field(
        default={},
        description=(
            'JSON body. Texts are templates. `{"@number": "{count}"}` is a number,'
            ' `{"@flag": …}` true or false, `{"@each": ROLE, "@of": …}` a list with one entry'
            " for each node of a role (“” all)."
        ),
    )
    form: dict[str, str] = Field(
        default={}, max_length=100, description="Instead: fields of a form (urlencoded)."
    )
    parts: tuple[FilePart, ...] = Field(
        default=(), max_length=20, description="Instead: a form with files (multipart)."
    )
    text: str = Field(
        default="",
        max_length=65_536,
        description="Instead: text or XML as it is; name its type in `headers`.",
    )
    escape: Literal["none", "xml"] = Field(
        default="none", description="How values in `text` are escaped."
    )
    keep: dict[Name, Reading] = Field(
        default={}, description="Name → what of the answer is kept as a secret, as `{kept.NAME}`."
    )
    login: bool | Login = Field(
        default=True,
        description="Who asks: true as `access` says, false without a login, or a way by name.",
    )
    confirm: dict[Reading, str] = Field(
        default={},
        description="What of the answer must have which value; values are templates.",
    )
    limit: float = Field(
        default=0,
        ge=0,
        le=3600,
        description="Seconds until it must have answered; 0: 15, for a command 30.",
    )
    status: tuple[int, ...] = Field(
        default=(),
        description="Statuses that mean success; empty: 200 to 399, for a command 0.",
    )

    @model_validator(mode="after")
    def _can_be_sent(self, info: ValidationInfo) -> Call:
        for what in (*self.keep.values(), *self.confirm):
            if wrong := reply.fault_of(what):
                raise ValueError(f"“{what}” cannot be read from an answer: {wrong}")
        if wrong := json_template.fault_of(self.body):
            raise ValueError(f"body: {wrong}")
        if sum(map(bool, (self.body, self.form, self.parts, self.text))) > 1:
            raise ValueError("a call has one of body, form, parts and text")
        wrong = "" if is_frozen(info) else shell_words.fault_of(self.ssh)
        if wrong:
            raise ValueError(f"in the command “{self.ssh[:200]}” {wrong}")
        if not self.ssh and (self.put or self.fetch or self.sudo or self.prints != "words"):
            raise ValueError("put, fetch, sudo and prints are for calls by SSH")
        ways = (self.path, self.ssh, self.line, self.datagram, self.dns, self.ntp)
        if sum(map(bool, ways)) > 1 and not is_frozen(info):
            raise ValueError("a call has one of path, ssh, line, datagram, dns and ntp")
        return self

    @property
    def only_reads(self) -> bool:
        """Whether it changes nothing (RFC 9110 section 9.2.1)."""
        return bool(self.path and self.method in ("GET", "HEAD")) or bool(self.dns or self.ntp)

    @property
    def is_said(self) -> bool:
        """Whether it says what is asked."""
        return bool(self.path or self.ssh or self.line or self.is_datagram)

    @property
    def is_datagram(self) -> bool:
        """Whether it is asked by UDP."""
        return bool(self.datagram or self.dns or self.ntp)

    def words(self, place: str = "") -> str:
        """What is asked, as the kit writes it: what is filled in may be a secret. `place`: what
        stands before the path.
        """
        if self.ssh:
            put = "".join(f"put {file.path}; " for file in self.put)
            return f"SSH: {put}{self.ssh.strip()}"[:400]
        if self.line:
            return f"{place} {self.line}".strip()[:400]
        if self.is_datagram:
            return f"{place} {self.datagram_words()}".strip()[:400]
        query = "&".join(f"{name}={text}" for name, text in self.query.items())
        body = f" {json.dumps(self.body, ensure_ascii=False)}" if self.body else ""
        return f"{self.method} {place}{self.path}{'?' if query else ''}{query}{body}"[:400]

    @property
    def datagram_kind(self) -> str:
        """“ntp”, “dns” or “text”."""
        if self.ntp:
            return "ntp"
        return "dns" if self.dns else "text"

    def datagram_words(self) -> str:
        """What is asked by UDP, in one line."""
        if self.ntp:
            return "NTP"
        return f"DNS {self.record} {self.dns}" if self.dns else f"UDP {self.datagram.strip()}"

    @property
    def keeps(self) -> tuple[str, ...]:
        """Names of what is kept of it: values, and files that were fetched."""
        return (*self.keep, *map(kept_file, self.fetch))

    @property
    def uses(self) -> set[str]:
        """Names of what earlier calls kept, and it needs."""
        texts = " ".join((*self.templates(), *self.readings()))
        files = {kept_file(file.fetched) for file in self.put if file.fetched}
        return files | set(re.findall(r"\{kept\.([a-z][a-z0-9_]*)\}", texts))

    def readings(self) -> Iterator[str]:
        """Everything that is read from its answer."""
        yield from (*self.keep.values(), *self.confirm)

    def templates(self) -> Iterator[str]:
        """Every text of it that is filled in, but what is read from the answer."""
        yield from (self.path, self.ssh, self.text, self.line, self.datagram, self.dns)
        yield from (*self.query.values(), *self.headers.values(), *self.form.values())
        yield from (part.text for part in self.parts)
        for file in self.put:
            yield from (file.path, file.text)
        yield from self.fetch.values()
        yield from json_template.texts(self.body)
        yield from self.confirm.values()


class Session(Fixed):
    """A session that is opened by a call. Its cookies are sent by themselves. One that the
    product has ended is opened again, once for a call.
    """

    login: Call = Field(description="It gets `{user}` and `{password}`.")
    token: Reading = Field(default="", description="What of the answer `{token}` stands for.")
    send: dict[str, str] = Field(
        default={}, max_length=8, description="Headers of each further call, with `{token}`."
    )
    logout: Call | None = None

    @model_validator(mode="after")
    def _token_is_read(self) -> Session:
        if self.token and (wrong := reply.fault_of(self.token)):
            raise ValueError(f"token “{self.token}” cannot be read: {wrong}")
        if any("{token}" in text for text in self.send.values()) and not self.token:
            raise ValueError("`send` has {token}; say in `token` where it is read")
        return self


class FirstPassword(Fixed):
    """The password of a fresh product, which never stays: it is changed before anything else is
    done.
    """

    user: str = Field(default="", max_length=100, description="Empty: the administrator.")
    password: str = Field(min_length=1, max_length=200, description="As the product is delivered.")
    change: Call = Field(
        description="Sent with the first password; the new one is the administrator's."
    )
    wait: float = Field(default=60.0, gt=0, description="Seconds until the new one is taken.")


class LogsIn(Fixed):
    """Who asks, and how."""

    login: Login
    bearer: str = Field(
        default="",
        max_length=200,
        description=(
            "For “bearer”: the token (RFC 6750); a template such as `{api_token}` or"
            " `{kept.token}`."
        ),
    )
    session: Session | None = None

    @model_validator(mode="after")
    def _says_how(self) -> LogsIn:
        if self.login == "session" and self.session is None:
            raise ValueError("login is “session”; say in `session` how it is opened")
        if self.login == "bearer" and not self.bearer:
            raise ValueError("login is “bearer”; say in `bearer` which token")
        return self


class Access(LogsIn):
    """How nodes are spoken to."""

    scheme: Literal["http", "https"] = "http"
    port: int = Field(default=0, ge=0, le=65_535, description="0: that of `service`.")
    trust: Literal["authority", "first-use", "first-use-then-authority"] = Field(
        default="first-use",
        description=(
            "HTTPS: “authority”: a certificate of this installation's authority; “first-use”: the"
            " first one that a new node shows, and no other later; “first-use-then-authority”: so,"
            " until ours is installed, and only ours from then on."
        ),
    )
    login: Login = "basic"
    certificate: str = Field(
        default="",
        max_length=40,
        description=(
            "The certificate (`certificates`) that calls to a node show as their own, besides the"
            " login. HTTPS with trust “authority” only."
        ),
    )
    first_password: FirstPassword | None = None

    @model_validator(mode="after")
    def _fits_its_scheme(self) -> Access:
        if self.certificate and (self.scheme != "https" or self.trust != "authority"):
            raise ValueError("access: a certificate is shown by HTTPS with trust “authority” only")
        if self.first_password is not None and self.login != "session":
            raise ValueError("access: a first password is changed in a session; say login: session")
        return self
