"""Web addresses that hold secrets: a password before the host, a token in the query. What may be
shown of them, and what is secret.
"""

from __future__ import annotations

from urllib.parse import parse_qsl, unquote, urlsplit

HIDDEN = "••••"


def shown(url: str) -> str:
    """The address without what may be secret: user, password, and every value of its query; '' for
    what is none.
    """
    try:
        parts = urlsplit(url)
    except ValueError:
        return ""
    user = f"{HIDDEN}@" if "@" in parts.netloc else ""
    names = [name for name, _ in parse_qsl(parts.query, keep_blank_values=True)]
    query = "&".join(f"{name}={HIDDEN}" for name in names)
    whole = f"{parts.scheme}://{user}{parts.netloc.rpartition('@')[2]}{parts.path}"
    if query:
        return f"{whole}?{query}"
    return f"{whole}?{HIDDEN}" if parts.query else whole


def login_of(url: str) -> tuple[str, str] | None:
    """(user, password) that an address brings along (RFC 3986, 3.2.1), None when it brings none."""
    info, at, _ = urlsplit(url).netloc.rpartition("@")
    if not at:
        return None
    user, _, password = info.partition(":")
    return unquote(user), unquote(password)


def secrets_of(url: str) -> list[str]:
    """Parts of an address that must be blanked wherever they turn up: as they stand in it, and
    decoded.
    """
    parts = urlsplit(url)
    info = parts.netloc.rpartition("@")[0]
    found = [info, *info.split(":"), *(login_of(url) or ())]
    found += [pair.partition("=")[2] or pair for pair in parts.query.split("&")]
    found += [value for _, value in parse_qsl(parts.query)]
    return [text for text in dict.fromkeys(found) if len(text) >= 4]
