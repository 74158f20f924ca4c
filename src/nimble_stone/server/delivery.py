"""How the page's own files are delivered: packed where the browser takes it, and kept by the
browser for ever where their name tells their content.
"""

from __future__ import annotations

import asyncio
import os
import re
from collections.abc import Mapping

from starlette.responses import Response
from starlette.staticfiles import StaticFiles
from starlette.types import Scope

HASHED = re.compile(r"-[A-Za-z0-9_-]{8}\.\w+$")
PACKINGS = {"br": ".br", "gzip": ".gz"}
"""Encoding (RFC 9110, 8.4.1) → the ending of the packed copy, the smaller first."""
TYPES = {".js": "text/javascript; charset=utf-8", ".css": "text/css", ".svg": "image/svg+xml"}


def accepted(header: str) -> list[str]:
    """Encodings a browser takes (RFC 9110, 12.5.3), those with q=0 left out."""
    found = []
    for part in header.split(","):
        name, _, weight = part.partition(";")
        if not re.fullmatch(r"\s*q=0(\.0*)?\s*", weight):
            found.append(name.strip().lower())
    return found


class PageFiles(StaticFiles):
    """Files beside which packed copies may lie."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        """The smallest copy that the browser takes. Raises HTTPException 404."""
        response = await self._packed(path, scope) or await super().get_response(path, scope)
        response.headers["Vary"] = "Accept-Encoding"
        if HASHED.search(path):
            response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        return response

    async def _packed(self, path: str, scope: Scope) -> Response | None:
        kind = TYPES.get(os.path.splitext(path)[1])
        if kind is None:
            return None
        takes = accepted(_headers(scope).get("accept-encoding", ""))
        for encoding, ending in PACKINGS.items():
            if encoding not in takes:
                continue
            full, found = await asyncio.to_thread(self.lookup_path, path + ending)
            if found is not None:
                response = self.file_response(full, found, scope)
                response.headers["Content-Encoding"] = encoding
                response.headers["Content-Type"] = kind
                return response
        return None


def _headers(scope: Scope) -> Mapping[str, str]:
    return {name.decode("latin-1"): value.decode("latin-1") for name, value in scope["headers"]}
