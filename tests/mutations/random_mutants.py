"""Make random small changes of the code, each in a copy, and see that a test fails.

    python tests/mutations/random_mutants.py [--count 100] [--seed TEXT] [--jobs N] [--floors core,api,host]
        [--most N] [--share 0.8] [--samples]
    python tests/mutations/random_mutants.py --measure FOLDER

A change is made by rule at a place that chance chooses, in all of ``core``, ``api`` and ``host``: a comparison turned,
a bound moved by one, a constant changed, a statement dropped, a condition negated, ``and`` for ``or``. The tests are
those that reach the changed function, by ``reach.txt``, which ``--measure`` writes; for a function that it does not
know, those that import the module or are called like it: a sample of each file's examples first, and all of them
where the sample has not caught it, unless ``--samples`` says that they are enough. Prints a line for each, and the
share that was caught.
Survivors that no test can notice are in ``survivors.txt``, each with its reason. Ends with 1 below the share.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parent))
from run import LEFT_OUT, ROOT, TEST_SECONDS, copy_code, interpreter

FLOORS = ("core", "api", "host")
SHARE = 0.8
SURVIVORS = Path(__file__).parent / "survivors.txt"
REACH = Path(__file__).parent / "reach.txt"
"""The files of tests, the quickest first, and behind each function the numbers of those that reach it."""
MOST_TESTS = 12
"""Files of tests that a change is given at most, the nearest first."""
_TURNED: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip


class Mutant(NamedTuple):
    """One change: the module below ``src/roundgate``, its line, what is done, and the bytes that it is done to."""

    module: str
    line: int
    what: str
    start: int
    end: int
    new: str

    @property
    def shown(self) -> str:
        return f"{self.module}:{self.line}: {self.what}"


def mutants_of(path: Path) -> Iterator[Mutant]:
    """Yield every change that the rules make of a module."""
    source = path.read_bytes()
    starts = [0]
    for row in source.splitlines(keepends=True):
        starts.append(starts[-1] + len(row))
    module = str(path.relative_to(ROOT / "src" / "roundgate"))

    def span(node: ast.expr | ast.stmt) -> tuple[int, int]:
        assert node.end_lineno is not None and node.end_col_offset is not None
        return starts[node.lineno - 1] + node.col_offset, starts[node.end_lineno - 1] + node.end_col_offset

    def changed(node: ast.expr | ast.stmt, what: str, new: str) -> Mutant:
        return Mutant(module, node.lineno, what, *span(node), new)

    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in _TURNED:
            turned = ast.Compare(node.left, [_TURNED[type(node.ops[0])]()], node.comparators)
            yield changed(node, "comparison", f"({ast.unparse(turned)})")
        elif isinstance(node, ast.BoolOp):
            other = ast.BoolOp(ast.Or() if isinstance(node.op, ast.And) else ast.And(), node.values)
            yield changed(node, "and/or", f"({ast.unparse(other)})")
        elif isinstance(node, ast.If | ast.IfExp | ast.While):
            yield changed(node.test, "condition", f"(not ({ast.unparse(node.test)}))")
        elif isinstance(node, ast.Constant) and type(node.value) in (int, float) and not isinstance(node.value, bool):
            yield changed(node, "constant", f"({node.value + 1!r})")
        elif (isinstance(node, ast.Expr) and isinstance(node.value, ast.Call)) or isinstance(node, ast.AugAssign):
            yield changed(node, "statement", "pass")


def chosen(count: int, seed: str, floors: Sequence[str]) -> list[Mutant]:
    """Return so many changes, of every module with the same chance for each of its changes."""
    every = [
        mutant
        for floor in floors
        for path in sorted((ROOT / "src" / "roundgate" / floor).rglob("*.py"))
        for mutant in mutants_of(path)
        if "TYPE_CHECKING" not in mutant.new
    ]
    return random.Random(seed).sample(every, count)


def measure(folder: Path, floors: Sequence[str], jobs: int) -> None:
    """Run each file of tests by itself, with all processes that it starts; write ``reach.txt``.

    A process that is killed leaves nothing; what only such a process reaches is found by name. What the folder has
    already is not measured again.
    """
    folder.mkdir(parents=True, exist_ok=True)
    included = "".join(f"\n    */roundgate/{floor}/*" for floor in floors)

    def reach(path: Path) -> tuple[float, str, Path]:
        name = str(path.relative_to(ROOT))
        data = folder / name.replace("/", "__")
        took = data.with_suffix(".seconds")
        if not took.exists():
            rules = data.with_suffix(".ini")
            rules.write_text(
                f"[run]\nparallel = true\ndata_file = {data}.part\nsigterm = true\n"
                f"patch = subprocess, fork, _exit\ninclude = {included}\n"
            )
            began = time.monotonic()
            command = [sys.executable, "-m", "coverage", "run", "--rcfile", str(rules), "-m", "pytest", "-q", "-n", "0"]
            subprocess.run([*command, "-p", "no:cacheprovider", name], cwd=ROOT, capture_output=True, check=False)
            parts = [str(part) for part in folder.glob(f"{data.name}.part*")]
            join = [sys.executable, "-m", "coverage", "combine", "--rcfile", str(rules), "--data-file", str(data)]
            subprocess.run([*join, *parts], capture_output=True, check=False)
            took.write_text(f"{time.monotonic() - began:.1f}")
        return float(took.read_text()), name, data

    files = [path for path in (ROOT / "tests").rglob("test_*.py") if path.parent.name not in ("mutations", "real")]
    with ThreadPoolExecutor(jobs) as pool:
        write_reach(sorted(pool.map(reach, sorted(files))))


def functions_of(source: bytes) -> Iterator[tuple[str, range]]:
    """Yield the name of each function, and the lines of its body."""
    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.FunctionDef):
            yield node.name, range(node.body[0].lineno, (node.end_lineno or node.lineno) + 1)


def write_reach(measured: Sequence[tuple[float, str, Path]]) -> None:
    """Write the files of tests that reach each function; ``measured`` has seconds, names and data, quickest first."""
    from coverage import CoverageData

    found: dict[str, dict[str, list[int]]] = {}
    for number, (_, _, path) in enumerate(measured):
        data = CoverageData(str(path))
        data.read()
        for source in data.measured_files():
            lines = set(data.lines(source) or ())
            reached = found.setdefault(source.rpartition("/roundgate/")[2], {})
            for name in {name for name, body in functions_of(Path(source).read_bytes()) if not lines.isdisjoint(body)}:
                reached.setdefault(name, []).append(number)
    rows = [f"{seconds:.0f} {name}" for seconds, name, _ in measured]
    for module, functions in sorted(found.items()):
        rows += ["", module]
        rows += [f"{name} {' '.join(map(str, numbers[:MOST_TESTS]))}" for name, numbers in sorted(functions.items())]
    REACH.write_text("\n".join(rows) + "\n", "utf-8")


def read_reach() -> dict[tuple[str, str], list[str]]:
    """Return the files of tests that reach each function of each module, the quickest first."""
    files, *modules = REACH.read_text("utf-8").split("\n\n")
    tests = [row.partition(" ")[2] for row in files.splitlines()]
    found = {}
    for block in modules:
        module, *rows = block.splitlines()
        for row in rows:
            name, *numbers = row.split()
            found[module, name] = [tests[int(number)] for number in numbers]
    return found


def tests_of(mutant: Mutant, reach: dict[tuple[str, str], list[str]]) -> list[str]:
    """Return the files of tests for a change: those that reach its function, else those that are near by name."""
    source = (ROOT / "src" / "roundgate" / mutant.module).read_bytes()
    around = [(len(body), name) for name, body in functions_of(source) if mutant.line in body]
    known = next((reach[mutant.module, name] for _, name in sorted(around) if (mutant.module, name) in reach), [])
    return [test for test in known if (ROOT / test).exists()] or tests_by_name(mutant.module)


def tests_by_name(module: str) -> list[str]:
    """Return the files of tests that import a module, or what lies in its package, the nearest first."""
    name = "roundgate." + module.removesuffix(".py").replace("/", ".").removesuffix(".__init__")
    package = name.rpartition(".")[0]
    parts = [part for part in name.split(".")[2:] if part not in ("protocol", "shared")]
    ranked = []
    for path in sorted((ROOT / "tests").rglob("test_*.py")):
        if path.parent.name in ("mutations", "real"):
            continue
        text = path.read_text("utf-8")
        near = 8 * (f"{name} " in text or f"{name}\n" in text) + 3 * (package in text)
        near += sum(2 * (part.rstrip("s") in path.stem) + (part in text) for part in parts)
        ranked.append((-near, str(path.relative_to(ROOT))))
    return [path for near, path in sorted(ranked) if near][:MOST_TESTS]


def outcome(mutant: Mutant, tests: list[str], *, samples: bool = True) -> str:
    """Make a change in a copy and run its tests, or a sample; give ``caught``, ``SURVIVED`` or ``NO TESTS``."""
    if not tests:
        return "NO TESTS"
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        copy_code(copy)
        path = copy / "src" / "roundgate" / mutant.module
        source = path.read_bytes()
        path.write_bytes(source[: mutant.start] + mutant.new.encode() + source[mutant.end :])
        command = [str(interpreter(copy)), "-m", "pytest", "-x", "-q", "-n", "0", "-p", "no:cacheprovider"]
        environment = {name: value for name, value in os.environ.items() if name not in LEFT_OUT}
        if samples:
            environment["ROUNDGATE_FEW"] = "1"
        try:
            done = subprocess.run(
                [*command, "--timeout", str(TEST_SECONDS), *tests],
                cwd=copy,
                env=environment,
                capture_output=True,
                check=False,
                timeout=900,
            )
        except subprocess.TimeoutExpired:
            return "caught"  # it made something endless
        return {0: "SURVIVED", 5: "NO TESTS"}.get(done.returncode, "caught")


def thorough_outcome(mutant: Mutant, tests: list[str]) -> str:
    """Run a sample of the tests, and all of them where the change survives that."""
    found = outcome(mutant, tests)
    return found if found != "SURVIVED" else outcome(mutant, tests, samples=False)


def reasons() -> dict[str, str]:
    """Return the reason why a change cannot be noticed, by its module, what is done and the line's text."""
    rows = [row.split(" | ") for row in SURVIVORS.read_text("utf-8").splitlines() if row and row[0] != "#"]
    return {" | ".join(row[:3]): row[3] for row in rows}


def key_of(mutant: Mutant) -> str:
    """Return what a survivor is known by, which outlives a change of the lines above it."""
    line = (ROOT / "src" / "roundgate" / mutant.module).read_text("utf-8").splitlines()[mutant.line - 1]
    return " | ".join((mutant.module, mutant.what, line.strip()))


def main() -> int:
    """Run; print a line for each change and the share that was caught."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=100)
    parser.add_argument("--seed", default="")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--floors", default=",".join(FLOORS))
    parser.add_argument("--share", type=float, default=SHARE)
    parser.add_argument("--most", type=int, default=MOST_TESTS, help="files of tests for each change")
    parser.add_argument("--samples", action="store_true", help="samples of the tests are enough")
    parser.add_argument("--measure", type=Path)
    options = parser.parse_args()
    if options.measure:
        measure(options.measure, options.floors.split(","), options.jobs)
        return 0
    known, reach = reasons(), read_reach()
    mutants = chosen(options.count, options.seed, options.floors.split(","))
    tests = [tests_of(mutant, reach)[: options.most] for mutant in mutants]
    caught = 0
    with ThreadPoolExecutor(options.jobs) as pool:
        judge = outcome if options.samples else thorough_outcome
        work = {pool.submit(judge, mutant, chosen): mutant for mutant, chosen in zip(mutants, tests, strict=True)}
        for done in as_completed(work):
            mutant, found = work[done], done.result()
            reason = known.get(key_of(mutant), "")
            caught += found == "caught" or bool(reason)
            print(
                f"{found if not reason else 'known':10} {mutant.shown}  {key_of(mutant).rpartition(' | ')[2][:70]}",
                flush=True,
            )
    print(f"{caught} of {len(mutants)} caught")
    return 0 if caught >= options.share * len(mutants) else 1


if __name__ == "__main__":
    raise SystemExit(main())
