"""The order of the rooms, as docs/architecture.md lists it: every import holds it, and no file takes part in a circle."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from functools import cache
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

SRC = Path(__file__).parents[1] / "src"
PAGE = Path(__file__).parents[1] / "docs/architecture.md"


@cache
def modules() -> dict[str, Path]:
    found = {}
    for path in (SRC / "dokimon").rglob("*.py"):
        if "saltmarsh-" not in str(path):
            parts = path.relative_to(SRC).with_suffix("").parts
            found[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = path
    return found


@cache
def _tree(path: Path) -> ast.Module:
    return ast.parse(path.read_text("utf-8"))


@cache
def imports() -> dict[str, frozenset[str]]:
    """By module, the modules of ours that it imports: at its top, inside functions, and for types alone."""
    return {name: frozenset(_imported(path)) - {name} for name, path in modules().items()}


@cache
def _nodes(path: Path) -> tuple[ast.AST, ...]:
    return tuple(ast.walk(_tree(path)))


def _imported(path: Path) -> Iterator[str]:
    for node in _nodes(path):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.split(".")[0] == "dokimon":
            for each in node.names:
                inner = f"{node.module}.{each.name}"
                yield inner if inner in modules() else node.module
        elif isinstance(node, ast.Import):
            yield from (each.name for each in node.names if each.name in modules())
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path}: imports of our own are absolute, so that they can be read here"


@cache
def rooms() -> list[str]:
    listed = PAGE.read_text("utf-8").partition("<!-- the order of the rooms -->")[2].partition("<!-- end")[0]
    return [name.replace("/", ".") for name in re.findall(r"^\| `([\w/]+)` \|", listed, re.MULTILINE)]


@cache
def room_of(module: str) -> str:
    inner = "__init__" if module == "dokimon" else module.removeprefix("dokimon.")
    return max((room for room in rooms() if inner == room or inner.startswith(f"{room}.")), key=len, default="")


def test_each_room_uses_only_rooms_above_it() -> None:
    order = rooms()
    assert len(order) > 10
    wrong = []
    for module, used in imports().items():
        assert room_of(module), f"{module} lies in no room that docs/architecture.md lists"
        for other in used:
            if order.index(room_of(other)) > order.index(room_of(module)):
                wrong.append(f"{module} imports {other}")
    assert not wrong


def test_no_file_takes_part_in_a_circle() -> None:
    try:
        TopologicalSorter(imports()).prepare()
    except CycleError as circle:
        raise AssertionError(f"a circle of imports: {' -> '.join(circle.args[1])}") from None


def test_the_page_names_what_is_there() -> None:
    """Every module of a room that the page names exists, and every folder of modules is a room."""
    for line in re.findall(r"^\| `core/[\w/]+` \|.*$", PAGE.read_text("utf-8"), re.MULTILINE):
        room, *named = re.findall(r"`([\w/]+)`", line)
        for name in named:
            assert list((SRC / "dokimon" / room).glob(f"**/{name.rstrip('/')}*")), f"{room} has no {name}"
    folders = {
        path.parent.relative_to(SRC / "dokimon").as_posix() for path in (SRC / "dokimon/core").glob("*/__init__.py")
    }
    assert folders <= {room.replace(".", "/") for room in rooms()}


def test_what_differs_by_system_is_in_one_place() -> None:
    """Another system is another module of `processes/systems`, and no change elsewhere."""
    found = []
    for module, path in modules().items():
        if module.startswith("dokimon.core.processes.systems"):
            continue
        for node in _nodes(path):
            names = [node.attr] if isinstance(node, ast.Attribute) else []
            names += [each.name for each in node.names] if isinstance(node, ast.Import | ast.ImportFrom) else []
            if wrong := {"killpg", "fork", "openpty", "pty", "fcntl", "termios", "pidfd_open", "msvcrt", "ctypes"} & {
                *names
            }:
                found.append(f"{module}: {', '.join(wrong)}")
    assert not found


def test_the_core_knows_no_terminal() -> None:
    for module, path in modules().items():
        if not module.startswith("dokimon.core") or module.endswith(
            (".serial", ".browser", ".devtools", ".screen_look", ".warden", ".run_notebooks")
        ):
            continue  # these are programs of their own, whose output is what they are for
        text = path.read_text("utf-8")
        assert not re.search(r"^\s*(?:import|from) (?:typer|rich)\b", text, re.MULTILINE), module
        assert not re.search(r"^\s*(?:print\(|sys\.exit\()", text, re.MULTILINE), module


def test_the_code_stays_plain() -> None:
    """No conditional expression inside another, no function of more than 25 branches."""
    found = []
    for module, path in modules().items():
        for node in _nodes(path):
            if isinstance(node, ast.IfExp) and sum(isinstance(each, ast.IfExp) for each in ast.walk(node)) > 1:
                found.append(f"{module}:{node.lineno}: a conditional expression inside another")
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and (count := _branches(node)) > 25:
                found.append(f"{module}:{node.lineno}: {node.name} has {count} branches")
    assert not found, "\n".join(found)


def _branches(function: ast.AST) -> int:
    count = 1
    for node in ast.walk(function):
        if isinstance(node, ast.If | ast.For | ast.While | ast.IfExp | ast.ExceptHandler | ast.match_case):
            count += 1
        elif isinstance(node, ast.BoolOp):
            count += len(node.values) - 1
        elif isinstance(node, ast.comprehension):
            count += 1 + len(node.ifs)
    return count
