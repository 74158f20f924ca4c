"""Where the command begins: commands on disks load only what they need, all others load the whole
command line.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable

from nimble_stone.core.errors import Denied, InputError, NotFound, StoneError

FOUND, USAGE = 1, 2


def guarded(work: Callable[[], object]) -> None:
    """Run a command; errors are told in plain words. With --json, standard error gets one JSON
    object.
    """
    try:
        work()
    except StoneError as error:
        as_json = "--json" in sys.argv
        inspecting = sys.argv[1:3] == ["package", "inspect"]  # its contract: one plain line
        if inspecting or not as_json:
            text = f"nimble-stone: {error}\n" + (
                f"  {error.hint}\n" if error.hint and not inspecting else ""
            )
        else:
            text = (
                json.dumps({"code": error.code, "message": str(error), "hint": error.hint}) + "\n"
            )
        sys.stderr.write(text)
        raise SystemExit(
            USAGE if isinstance(error, (InputError, NotFound, Denied)) else FOUND
        ) from None
    except KeyboardInterrupt:
        raise SystemExit(130) from None


def main() -> None:
    """The command `nimble-stone`."""
    if sys.argv[1:2] == ["disk"]:
        from nimble_stone.cli.disks import app as disks

        guarded(lambda: disks(args=sys.argv[2:], prog_name="nimble-stone disk"))
        return
    if sys.argv[1:3] == ["package", "inspect"]:
        from nimble_stone.cli.inspecting import app as inspecting

        guarded(lambda: inspecting(args=sys.argv[3:], prog_name="nimble-stone package inspect"))
        return
    from nimble_stone.cli.main import app

    guarded(app)


if __name__ == "__main__":
    main()
