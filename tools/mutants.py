"""Takes each guard of `mutants.toml` out, one at a time, in a copy of the project, and expects its
test to fail.

Usage: ./dev mutants [WORD...], only those whose name holds one of the words; ./dev mutants --fast
only looks whether each piece of code still stands exactly once in its file, and whether its test is
there.
"""

import ast
import shutil
import subprocess
import sys
import tempfile
import tomllib
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent


@dataclass(frozen=True)
class Mutant:
    """`code` in `file` is the guard, `without` the same without it; `test` must fail then."""

    name: str
    file: str
    code: str
    without: str
    test: str


def read_mutants() -> list[Mutant]:
    rows = tomllib.loads((ROOT / "mutants.toml").read_text(encoding="utf-8"))["mutant"]
    return [Mutant(**row) for row in rows]


def find_fault(mutant: Mutant) -> str:
    """What is wrong with the row itself, "" where nothing is."""
    path = ROOT / mutant.file
    text = path.read_text(encoding="utf-8") if path.exists() else ""
    count = text.count(mutant.code)
    if count != 1:
        return f"its code stands {count} times in {mutant.file}"
    if not is_python(text.replace(mutant.code, mutant.without)):
        return f"without its code {mutant.file} cannot be read as Python"
    for test in mutant.test.split():
        name, _, function = test.partition("::")
        if name.startswith("tests/") and not is_there(ROOT / name, function.partition("[")[0]):
            return f"there is no test {test}"
    return ""


def is_python(text: str) -> bool:
    """A file that cannot be read fails every test, which proves nothing."""
    try:
        ast.parse(text)
    except SyntaxError:
        return False
    return True


def is_there(path: Path, function: str) -> bool:
    """Whether the file exists and holds the test, by the last part of a name such as
    `Class::test_one`."""
    name = function.rpartition("::")[2]
    return path.exists() and name in path.read_text(encoding="utf-8")


def fails_without(mutant: Mutant) -> bool:
    """Whether the test fails in a copy of the project without the guard."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "project"
        left_out = (".git", "docs", "__pycache__", ".*_cache", ".hypothesis")
        shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(*left_out))
        path = copy / mutant.file
        text = path.read_text(encoding="utf-8")
        path.write_text(text.replace(mutant.code, mutant.without), encoding="utf-8")
        options = ["-x", "-q", "-n", "0", "-p", "no:cacheprovider"]
        command = [sys.executable, "-m", "pytest", *options, *mutant.test.split()]
        environment = {
            "PYTHONPATH": str(copy / "src"),
            "PATH": "/usr/bin:/bin",
            "YELDRO_NO_SHRINK": "1",
            "YELDRO_EXAMPLES": "60",
            "CI": "1",
        }
        run = subprocess.run(command, cwd=copy, env=environment, capture_output=True, text=True)
        return run.returncode == 1


def check_rows(mutants: list[Mutant]) -> None:
    faults = [(mutant.name, find_fault(mutant)) for mutant in mutants]
    lines = [f"mutants.toml: {name}: {fault}" for name, fault in faults if fault]
    sys.stdout.write(
        "\n".join([*lines, f"{len(mutants)} mutants, {len(lines)} out of date"]) + "\n"
    )
    if lines:
        sys.exit(1)


def main() -> None:
    words = sys.argv[1:]
    mutants = read_mutants()
    if words == ["--fast"]:
        return check_rows(mutants)
    chosen = [one for one in mutants if not words or any(word in one.name for word in words)]
    check_rows(chosen)
    missed = 0
    for mutant in chosen:
        failed = fails_without(mutant)
        missed += not failed
        verdict = "fails without" if failed else "PASSES WITHOUT"
        sys.stdout.write(f"{verdict}: {mutant.name} ({mutant.test})\n")
        sys.stdout.flush()
    if missed:
        sys.exit(1)


if __name__ == "__main__":
    main()
