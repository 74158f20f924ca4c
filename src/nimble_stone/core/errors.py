"""The one error tree, split by who must act.

    StoneError
    ├── InputError        what a person or a file gave us is wrong
    │   └── FormatError   a file does not follow its format (place, expected, found)
    ├── NotFound          the thing named does not exist
    ├── Conflict          the thing exists, but its state forbids this
    ├── Denied            login missing, refused or expired
    ├── Busy              too much at once, or too often; `retry_after_s` says when again
    ├── StoreError        this server's own disk or database does not take or give what it should
    └── RemoteError       a remote machine did not do its part
        ├── Unreachable   no connection
        ├── LoginRefused  the peer does not accept the credential
        ├── HostKeyChanged  the peer is not who it was
        ├── CertificateChanged  the same for a management controller
        ├── RemoteTimeout the peer took too long
        └── RemoteFailed  a command or request was answered with a failure

Facts are fields (code, hint, place), the message is built for a person: what, where, why; `hint`
says what to do.
"""

from __future__ import annotations


class StoneError(Exception):
    """Base of all errors we raise on purpose. `str(error)` is fit to be shown to a person."""

    code = "error"
    hint = ""

    def __init__(
        self, message: str, *, code: str | None = None, hint: str = "", place: str = ""
    ) -> None:
        super().__init__(message)
        self.code = code or type(self).code
        self.hint = hint or type(self).hint
        self.place = place


class InputError(StoneError):
    """What was given cannot be used."""

    code = "input"


class FormatError(InputError):
    """A file breaks its format. `place` names the line, offset or element; `clause` the
    standard.
    """

    code = "format"

    def __init__(
        self,
        message: str,
        *,
        code: str | None = None,
        hint: str = "",
        place: str = "",
        clause: str = "",
    ) -> None:
        where = f"{place}: " if place else ""
        super().__init__(f"{where}{message}", code=code, hint=hint, place=place)
        self.clause = clause


class NotFound(StoneError):
    """There is nothing with this name."""

    code = "not-found"


class Conflict(StoneError):
    """The state of things forbids it."""

    code = "conflict"


class Denied(StoneError):
    """Not signed in, or not with the right key."""

    code = "denied"


class StoreError(StoneError):
    """The server's own database cannot be written or read: its disk is full, locked or damaged."""

    code = "store"


class Busy(StoneError):
    """Too much at once, or too often."""

    code = "busy"

    def __init__(
        self, message: str, *, retry_after_s: int, code: str | None = None, hint: str = ""
    ) -> None:
        super().__init__(message, code=code, hint=hint)
        self.retry_after_s = retry_after_s


class RemoteError(StoneError):
    """A peer did not do its part. `target` is the peer, `operation` what was tried."""

    code = "remote"
    retryable = True

    def __init__(
        self,
        message: str,
        *,
        target: str = "",
        operation: str = "",
        code: str | None = None,
        hint: str = "",
    ) -> None:
        super().__init__(message, code=code, hint=hint, place=target)
        self.target = target
        self.operation = operation


class Unreachable(RemoteError):
    """No connection could be made, or it was lost."""

    code = "unreachable"


class LoginRefused(RemoteError):
    """The peer refused the login."""

    code = "login-refused"
    retryable = False


class HostKeyChanged(RemoteError):
    """The peer shows another host key than the one that was pinned."""

    code = "host-key-changed"
    retryable = False


class CertificateChanged(RemoteError):
    """The peer shows another certificate than the one that was pinned."""

    code = "certificate-changed"
    retryable = False


class RemoteTimeout(RemoteError):
    """The peer did not answer within its time."""

    code = "remote-timeout"


class RemoteFailed(RemoteError):
    """The peer answered that it failed."""

    code = "remote-failed"


class NotNow(RemoteFailed):
    """The peer answered that it cannot do it at the moment (HTTP statuses 423, 425, 429, 503)."""

    code = "not-now"
