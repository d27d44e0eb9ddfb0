"""``gullwind-server``: run the stand-in in a folder, or its lobby."""

from __future__ import annotations

import argparse
import asyncio
import os


def main() -> int:
    """Read the arguments, run, and give the exit code."""
    parser = argparse.ArgumentParser(prog="gullwind-server", description=__doc__)
    parser.add_argument("--folder", default=".", help="the server's folder (default: the working directory)")
    parser.add_argument("--may-take", type=int, default=4096, metavar="MB", help="memory the machine grants")
    parser.add_argument("--lobby", type=int, metavar="PORT", help="run the lobby on this port instead (0: any)")
    parser.add_argument("--delay", type=float, default=0.0, help="seconds until the lobby shows a newcomer")
    words = parser.parse_args()
    if words.lobby is not None:
        from gullwind_standin.lobby import run_lobby

        return run_lobby(words.lobby, words.delay)
    from gullwind_standin.server import GullwindServer

    async def live() -> int:
        return await GullwindServer(os.path.abspath(words.folder), words.may_take).run()

    code = asyncio.run(live())
    os._exit(code)  # a console thread that still reads would keep the process


if __name__ == "__main__":
    raise SystemExit(main())
