"""Several questions to a shell at once: who answers an echo request, which port takes connections.
The mark of each that succeeds is printed.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable


def is_several(command: str) -> bool:
    """Whether a command is of that kind."""
    return command.startswith(("({ ping ", "port_opens() {"))


async def marks(
    command: str, answers: Callable[[str], bool], real: Callable[[str, int], tuple[str, int]]
) -> list[str]:
    """Those that succeed. `answers`: whether an address does; `real`: where an address lies."""
    asked = [line for line in command.split(" & ") if "&& echo " in line]
    found = await asyncio.gather(*(_succeeds(line, answers, real) for line in asked))
    told = [line.partition("&& echo ")[2].rstrip(") ;") for line in asked]
    return [mark for mark, good in zip(told, found, strict=True) if good]


async def _succeeds(
    line: str, answers: Callable[[str], bool], real: Callable[[str, int], tuple[str, int]]
) -> bool:
    words = line[line.index("({ ") :].replace(";", " ").split()
    if words[1] == "ping":
        return answers(words[words.index("}") - 1])
    return await connects(*real(words[2], int(words[3])))


async def connects(address: str, port: int) -> bool:
    """Whether a port of this machine takes connections."""
    try:
        _, writer = await asyncio.open_connection(address, port)
    except OSError:
        return False
    writer.close()
    return True
