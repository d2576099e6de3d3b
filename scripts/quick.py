"""What a change needs first, in a minute and a half: `make quick`.

Types and style of all, then the tests that import a changed module themselves, without the long ones; the
workbench's only where it changed. `make test` has the last word.
"""

import ast
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parent.parent
BIN = Path(sys.executable).parent
TESTS = ("tests/unit", "tests/api")


def main() -> int:
    changed = changed_files()
    commands = [
        [str(BIN / "ruff"), "check", "."],
        [str(BIN / "ruff"), "format", "--check", "."],
        [str(BIN / "dmypy"), "run", "--", "src", "tests"],
        [str(BIN / "lint-imports")],
    ]
    tests = sorted(tests_of(changed))
    if tests:
        commands.append([str(BIN / "pytest"), "-n", "2", "-m", "not long", "--maxfail", "5", *tests])
    if any(file.startswith("ui/") for file in changed):
        commands += [
            ["npm", "--prefix", "ui", "run", "--silent", "check"],
            ["npm", "--prefix", "ui", "run", "--silent", "test"],
        ]
    for command in commands:
        done = subprocess.run(command, cwd=ROOT)
        if done.returncode:
            return done.returncode
    return 0


def changed_files() -> list[str]:
    """What differs from the last commit, new files included; with nothing changed, the commit itself."""
    told = _git("status", "--porcelain", "--untracked-files=all")
    found = [line[3:].rpartition(" -> ")[2] for line in told]
    return found or _git("diff", "--name-only", "HEAD~1")


def tests_of(changed: list[str]) -> Iterator[str]:
    """The test files that are changed, or import something that is."""
    modules = {_module(file) for file in changed if file.endswith(".py")}
    for folder in TESTS:
        for file in (ROOT / folder).glob("test_*.py"):
            name = str(file.relative_to(ROOT))
            if name in changed or not modules.isdisjoint(_imports(file)):
                yield name


def _module(file: str) -> str:
    return file.removeprefix("src/").removesuffix(".py").removesuffix("/__init__").replace("/", ".")


def _imports(file: Path) -> Iterator[str]:
    for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            yield from (each.name for each in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
            yield from (f"{node.module}.{each.name}" for each in node.names)


def _git(*words: str) -> list[str]:
    told = subprocess.run(["git", *words], cwd=ROOT, capture_output=True, text=True, check=True)
    return told.stdout.splitlines()


if __name__ == "__main__":
    sys.exit(main())
