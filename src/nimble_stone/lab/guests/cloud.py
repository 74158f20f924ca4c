"""What a plain server image of the lab makes of its NoCloud seed: its name, its users with hashed
passwords, and its addresses by the MAC addresses of its interfaces.
"""

from __future__ import annotations

import base64
import hashlib
import io
from typing import Any

import bcrypt
import pycdlib
from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError

from nimble_stone.core.errors import FormatError

PRODUCT = "image"


def read_seed(image: bytes, macs: tuple[str, ...]) -> dict[str, str]:
    """What the node knows of itself from now on. `macs`: of its interfaces, in order. Raises
    FormatError for a seed that names no interface of it, or the ISO library's errors.
    """
    user = _document(image, "/user-data")
    network = _document(image, "/network-config")
    values = {"hostname": str(user.get("hostname", "")), "role": "", "admin_password": ""}
    for one in user.get("users", []):
        if isinstance(one, dict) and one.get("passwd"):
            values |= {"user": str(one.get("name", "")), "passwd": str(one["passwd"])}
            values["keys"] = "\n".join(map(str, one.get("ssh_authorized_keys", [])))
    for number, mac in enumerate(macs):
        found = _interface(network, mac)
        if number == 0 and found is None:
            raise FormatError(f"network-config has nothing for {mac}")
        if number == 0 and found is not None:
            address, _, prefix = str((found.get("addresses") or ["/"])[0]).partition("/")
            values |= {"address": address, "prefix": prefix}
            values["gateway"] = str(found.get("gateway4", ""))
    return {f"{PRODUCT}.{key}": value for key, value in values.items()}


def _interface(network: dict[str, Any], mac: str) -> dict[str, Any] | None:
    for one in network.get("ethernets", {}).values():
        if str(one.get("match", {}).get("macaddress", "")).lower() == mac.lower():
            return dict(one)
    return None


def _document(image: bytes, name: str) -> dict[str, Any]:
    iso = pycdlib.PyCdlib()
    iso.open_fp(io.BytesIO(image))
    try:
        out = io.BytesIO()
        iso.get_file_from_iso_fp(out, rr_path=name)
        found = YAML(typ="safe", pure=True).load(out.getvalue().decode())
    except (YAMLError, UnicodeDecodeError) as error:
        raise FormatError(f"{name} is no YAML") from error
    finally:
        iso.close()
    return found if isinstance(found, dict) else {}


def lets_in(values: dict[str, str], user: str, password: str) -> bool:
    """Whether a login is right, by the hash in the seed."""
    known = values.get(f"{PRODUCT}.passwd", "")
    if not known or user != values.get(f"{PRODUCT}.user"):
        return False
    return bcrypt.checkpw(password.encode(), known.encode())


def console_block(public: bytes) -> list[str]:
    """The lines in which a system writes its host keys to the console. `public`: a key in
    OpenSSH's format.
    """
    kind, data = public.split()[:2]
    digest = hashlib.sha256(base64.b64decode(data)).digest()
    return [
        f"key fingerprint {base64.b64encode(digest).decode().rstrip('=')}",
        "-----BEGIN SSH HOST KEY KEYS-----",
        f"{kind.decode()} {data.decode()} root@image",
        "-----END SSH HOST KEY KEYS-----",
    ]
