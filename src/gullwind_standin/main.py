"""``gullwind-server``: run the stand-in in a folder, or its lobby."""

from __future__ import annotations

import argparse
import asyncio
import os

VERSION = "2.4.1"


def main() -> int:
    """Read the arguments, run, and return the exit code."""
    parser = argparse.ArgumentParser(prog="gullwind-server", description=__doc__)
    parser.add_argument("--folder", default=".", help="the server's folder (default: the working directory)")
    parser.add_argument("--may-take", type=int, default=4096, metavar="MB", help="memory the machine grants")
    parser.add_argument("--hold", type=int, metavar="MB", help="memory taken at the start; the same as --may-take")
    parser.add_argument("--mods", default="", metavar="A;B", help="mods to load, in this order")
    parser.add_argument("--cores", default="", metavar="MASK", help="processor cores, as a mask such as 0x3")
    parser.add_argument("--profile", default="", metavar="FOLDER", help="where the server keeps its profile")
    parser.add_argument("--region", default="north", help="the waters that the lobby shows it in")
    parser.add_argument("--unlisted", action="store_true", help="never tell the lobby")
    parser.add_argument("--edition", default="inshore", choices=("inshore", "offshore"))
    parser.add_argument("--like", default=VERSION, metavar="VERSION", help="be as that version was")
    parser.add_argument("--lobby", type=int, metavar="PORT", help="run the lobby on this port instead (0: any)")
    parser.add_argument("--delay", type=float, default=0.0, help="seconds until the lobby shows a newcomer")
    words = parser.parse_args()
    if words.lobby is not None:
        from gullwind_standin.lobby import run_lobby

        return run_lobby(words.lobby, words.delay)
    from gullwind_standin.server import GullwindServer

    async def live() -> int:
        return await GullwindServer(os.path.abspath(words.folder), words.may_take, words).run()

    code = asyncio.run(live())
    os._exit(code)  # a console thread that still reads would keep the process


if __name__ == "__main__":
    raise SystemExit(main())
