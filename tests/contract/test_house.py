"""The house's own rules: imports run one way and in no circle, and the docs speak of what there is."""

from __future__ import annotations

import ast
import doctest
import re
from functools import cache
from importlib import import_module
from pathlib import Path

from sabueso.cli.main import COMMANDS, build
from sabueso.cli.options import options_of
from sabueso.screens import screen_names

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "sabueso"
ORDER = [
    "base",
    "stats",
    "report",
    "population",
    "screens",
    "intake",
    "case",
    "show",
    "demo",
    "commands",
    "cli",
]
"""A package imports only those before it, and itself."""
OUTSIDE = {"version", "__main__", "__init__"}


@cache
def _told() -> dict[Path, list[ast.stmt]]:
    """What each module imports, and the classes and functions in it."""
    kinds = ast.Import, ast.ImportFrom, ast.ClassDef, ast.FunctionDef
    return {
        path: [
            node
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
            if isinstance(node, kinds)
        ]
        for path in SOURCE.rglob("*.py")
    }


@cache
def _imports() -> dict[str, set[str]]:
    """Module -> the modules of this program that it imports, inside functions and for types too."""
    modules = {
        ".".join(("sabueso", *path.relative_to(SOURCE).with_suffix("").parts)): path
        for path in SOURCE.rglob("*.py")
    }
    found: dict[str, set[str]] = {}
    for name, path in modules.items():
        wanted: set[str] = set()
        for node in _told()[path]:
            if isinstance(node, ast.Import):
                wanted |= {alias.name for alias in node.names}
            elif isinstance(node, ast.ImportFrom) and node.module:
                inner = {f"{node.module}.{alias.name}" for alias in node.names}
                wanted |= {each for each in inner if each in modules} or {node.module}
        found[name] = {m if m in modules else f"{m}.__init__" for m in wanted} & set(modules)
    return found


def test_imports_run_one_way():
    wrong = [
        f"{module} imports {other}"
        for module, others in _imports().items()
        for other in others
        if (mine := module.split(".")[1]) in ORDER
        and (its := other.split(".")[1]) in ORDER
        and ORDER.index(its) > ORDER.index(mine)
    ]
    assert not wrong
    known = {path.name for path in SOURCE.iterdir() if path.is_dir() and path.name[0] != "_"}
    assert known == set(ORDER)


def test_no_module_imports_itself_through_others():
    graph = _imports()
    done: set[str] = set()

    def visit(module: str, path: tuple[str, ...]) -> None:
        assert module not in path, " -> ".join([*path[path.index(module) :], module])
        if module in done:
            return
        for other in sorted(graph[module] - {module}):
            visit(other, (*path, module))
        done.add(module)

    for module in graph:
        visit(module, ())


def test_docs_speak_of_commands_and_options_that_there_are():
    options = {"--help", "--version", "--debug", "--sc"}
    for name in COMMANDS:
        parser, _ = build(name, ())
        options |= {o for action in parser._actions for o in action.option_strings}
    for test in screen_names():
        options |= {f"--{o['name'].replace('_', '-')}" for o in options_of(test, ())["options"]}
    for path in [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]:
        text = path.read_text(encoding="utf-8")
        for command in re.findall(r"`sabueso ([a-z]+)", text):
            assert command in COMMANDS, f"{path.name}: sabueso {command}"
        # Options of the project's own scripts are theirs.
        scripts = {o for line in text.splitlines() if "bench/" in line or "pip install" in line
                   for o in re.findall(r"--[a-z][a-z-]+", line)}  # fmt: skip
        own = {
            o
            for p in (ROOT / "bench").rglob("*.py")
            for o in re.findall(r'"(--[a-z-]+)"', p.read_text(encoding="utf-8"))
        }
        for option in set(re.findall(r"(?<![\w-])--[a-z][a-z-]+", text)) - scripts - own:
            assert option in options, f"{path.name}: {option}"


def test_examples_of_docstrings():
    tried = {"stats": 0, "elsewhere": 0}
    for path in sorted(SOURCE.rglob("*.py")):
        if ">>> " not in path.read_text(encoding="utf-8"):
            continue
        parts = path.relative_to(SOURCE).with_suffix("").parts
        found = doctest.testmod(import_module(".".join(("sabueso", *parts))))
        assert not found.failed, path.name
        tried["stats" if parts[0] == "stats" else "elsewhere"] += found.attempted
    assert tried["stats"] >= 20 and tried["elsewhere"] >= 8


def test_every_test_has_its_words_and_every_command_its_examples():
    methods = (ROOT / "docs" / "methods.md").read_text(encoding="utf-8")
    for test in screen_names():
        assert f"\n## {test}\n" in methods, test
    for name in COMMANDS:
        assert len(import_module(f"sabueso.cli.{name}_").EXAMPLES) >= 3


def test_what_travels_has_a_type():
    sources = {path: path.read_text(encoding="utf-8") for path in SOURCE.rglob("*.py")}
    assert sum(text.count("dict[str, Any]") for text in sources.values()) < 60
    shown = [text for path, text in sources.items() if path.parent.name == "show"]
    assert sum(len(re.findall(r"\w\[\"[a-z_ ]+\"\]", text)) for text in shown) < 40
    for package in ("case", "intake"):
        for path in (SOURCE / package).rglob("*.py"):
            for node in _told()[path]:
                if isinstance(node, ast.FunctionDef):
                    given = [*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs]
                    count = len(given) - (bool(given) and given[0].arg in ("self", "cls"))
                    assert count <= 6, f"{path.name}: {node.name} takes {count}"


def test_no_class_is_derived_from_the_library_of_trees():
    """Where that library is compiled, as another package may have brought it, its classes cannot be."""
    for path, nodes in _told().items():
        for node in nodes:
            bases = map(ast.unparse, node.bases) if isinstance(node, ast.ClassDef) else ()
            odd = [
                base
                for base in bases
                if re.match("exp[.]|sqlglot|.*[.]Generator$|.*Dialect$", base)
            ]
            assert not odd, f"{path}: {odd}"
