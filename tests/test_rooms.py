"""The rooms: imports go one way only, the pure ones stay pure, and start-up loads next to nothing."""

from __future__ import annotations

import ast
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src/nightlatch"
# From the top down: a room imports from itself and from rooms before it. "" is the package's own face.
ORDER = (
    "origin",
    "faults",
    "versions",
    "net",
    "formats",
    "keys",
    "passwords",
    "model",
    "systems",
    "estate",
    "evidence",
    "transports",
    "probe",
    "readings",
    "services",
    "access",
    "audit",
    "draft",
    "describe",
    "latch",
    "ops",
    "",
    "report",
    "lab",
    "demo",
    "cli",
)
PURE = tuple(
    """
    net formats keys passwords model systems readings services access audit draft describe origin faults versions
""".split()
)
IMPURE = set(
    """
    os io pathlib socket subprocess time tempfile shutil random secrets sys threading asyncio
""".split()
)
MODULES = sorted(SOURCE.rglob("*.py"))


def room(path: Path) -> str:
    relative = path.relative_to(SOURCE)
    return "" if relative.name == "__init__.py" and len(relative.parts) == 1 else relative.parts[0].removesuffix(".py")


def imports(path: Path) -> Iterator[tuple[str, int, bool]]:
    tree = ast.parse(path.read_text())
    typing_only = {
        id(inner)
        for node in ast.walk(tree)
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.dump(node.test)
        for inner in ast.walk(node)
    }
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from ((name.name, node.lineno, id(node) in typing_only) for name in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module, node.lineno, id(node) in typing_only


@pytest.mark.parametrize("path", MODULES, ids=[str(p.relative_to(SOURCE)) for p in MODULES])
def test_imports_go_one_way(path: Path) -> None:
    here = ORDER.index(room(path))
    for name, line, typing_only in imports(path):
        if name.split(".")[0] != "nightlatch" or (typing_only and room(path) in ("", "report")):
            continue
        target = name.split(".")[1] if "." in name else ""
        if not target and path.name != "story.py" and room(path) != "cli":
            target = ""  # `from nightlatch import __version__`
            continue
        assert ORDER.index(target) <= here, f"{path}:{line} imports {name}, which is below it"


@pytest.mark.parametrize("path", [p for p in MODULES if room(p) in PURE], ids=str)
def test_the_core_is_pure(path: Path) -> None:
    for name, line, _ in imports(path):
        assert name.split(".")[0] not in IMPURE, f"{path}:{line} imports {name}"
    text = path.read_text()
    for call in ("open(", "datetime.now", "time.time", "environ", "date.today"):
        assert not any(isinstance(n, ast.Call) and ast.unparse(n).startswith(call) for n in ast.walk(ast.parse(text))), (
            f"{path} calls {call}"
        )


def test_no_module_is_a_drawer_and_no_function_is_endless() -> None:
    for path in MODULES:
        text = path.read_text()
        assert len(text.splitlines()) <= 480, f"{path} is too long"
        for node in ast.walk(ast.parse(text)):
            if isinstance(node, ast.FunctionDef):
                assert (node.end_lineno or 0) - node.lineno <= 70, f"{path}: {node.name} is too long"


def test_help_loads_nothing_heavy() -> None:
    code = (
        "import sys\n"
        "from nightlatch.cli.main import cli\n"
        "try:\n    cli(['--help'], prog_name='nightlatch')\nexcept SystemExit: pass\n"
        "print('HEAVY', [m for m in ('rich', 'pydantic', 'ruamel', 'cryptography', 'zoneinfo', 'nightlatch.ops.audit') if m in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "HEAVY []"


def test_public_names_are_the_functions_not_the_rooms() -> None:
    code = "import nightlatch, nightlatch.audit.run, nightlatch.draft.plan\nprint([n for n in nightlatch.__all__ if type(getattr(nightlatch, n)).__name__ == 'module'])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


# Attributes that hold text for people; `text` is one in these rooms only, elsewhere also what a file says.
SAID = {"because", "why", "hand", "problem", "unread", "words", "promise"}
SPOKEN = ("services", "access", "audit", "draft", "describe", "latch", "ops", "cli", "report")
SEARCHES = set(
    """
    startswith endswith removeprefix removesuffix partition rpartition split find index count
""".split()
)
# What latch.sh writes is read where it arrives; the text of a rule or a key is what a file says; a message is shown line by line.
READ_THERE = {"latch/live.py", "draft/gates.py", "draft/address_edits.py", "cli/options.py"}


def searched(tree: ast.AST, names: set[str]) -> Iterator[ast.expr]:
    """Where text in these attributes, or what an error says, is compared with words or searched for them."""

    def said(node: ast.AST) -> bool:
        if isinstance(node, ast.Call):
            return ast.unparse(node) == "str(error)"
        if isinstance(node, ast.Subscript):
            return said(node.value)
        return isinstance(node, ast.Attribute) and node.attr in names

    def words(node: ast.AST) -> bool:
        return isinstance(node, ast.JoinedStr) or (
            isinstance(node, ast.Constant) and bool(node.value) and isinstance(node.value, str)
        )

    for node in ast.walk(tree):
        if (
            isinstance(node, ast.Call)
            and isinstance(node.func, ast.Attribute)
            and node.func.attr in SEARCHES
            and said(node.func.value)
        ):
            yield node
        if isinstance(node, ast.Compare):
            sides = [node.left, *node.comparators]
            if any(map(said, sides)) and any(map(words, sides)):
                yield node


@pytest.mark.parametrize(
    "path",
    [p for p in MODULES if room(p) in SPOKEN],
    ids=[str(p.relative_to(SOURCE)) for p in MODULES if room(p) in SPOKEN],
)
def test_text_for_people_is_never_searched(path: Path) -> None:
    if str(path.relative_to(SOURCE)) in READ_THERE:
        return
    found = [f"{node.lineno}: {ast.unparse(node)}" for node in searched(ast.parse(path.read_text()), SAID | {"text"})]
    assert not found, f"{path}: ask for a value, not for what a sentence says: {found}"


@pytest.mark.parametrize(
    "line, caught",
    [
        ("proof.text.startswith('sudo')", True),
        ("gap.because == 'it is refused'", True),
        ("str(error).removeprefix(f'{x}: ')", True),
        ("'key' in cause.text", True),
        ("hole.by_sudo", False),
        ("found.words != ''", False),
        ("line.split(' ')", False),
    ],
)
def test_the_search_finds_what_it_is_for(line: str, caught: bool) -> None:
    assert bool(list(searched(ast.parse(line), SAID | {"text"}))) is caught
