"""Where the program begins: nothing of the folder that one is in may be taken for a module of ours.

This is loaded before anything else, so it imports nothing but what Python itself has loaded already.
"""

import os
import sys


def main() -> None:
    """Run the program, with modules from installed places alone."""
    drop_relative_paths()
    try:
        from roundgate.cli.main import main as run
    except KeyboardInterrupt:
        # Loading takes a moment; whoever presses Ctrl-C in it wants no list of our modules.
        print("\nStopped; nothing was done.", file=sys.stderr)
        raise SystemExit(130) from None
    run()


def drop_relative_paths() -> None:
    """Drop the places for modules that depend on the working folder, here and for the processes that we start.

    People work in their servers' folders. With an empty entry in PYTHONPATH, a file there that is called ``json.py``
    would be run with their rights.
    """
    given = os.environ.get("PYTHONPATH", "").split(os.pathsep) if "PYTHONPATH" in os.environ else []
    kept = [entry for entry in given if os.path.isabs(entry)]
    # Python has made them absolute by now.
    dropped = {os.path.abspath(entry) for entry in given if not os.path.isabs(entry)} - set(kept)
    sys.path[:] = [entry for entry in sys.path if os.path.isabs(entry) and entry not in dropped]
    if kept:
        os.environ["PYTHONPATH"] = os.pathsep.join(kept)
    else:
        os.environ.pop("PYTHONPATH", None)


def drop_working_folder() -> None:
    """Drop the working folder, which ``python -m`` puts first, unless the program itself lies in it."""
    home = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
    if not sys.flags.safe_path and sys.path and sys.path[0] != home and os.path.realpath(sys.path[0]) == os.getcwd():
        del sys.path[0]
