"""`setup.py`, a program: parsed, never run."""

from __future__ import annotations

import ast
from collections.abc import Iterator

from dokimon.core.declarations.requirement import Requirement, any_version, requirement, unreadable
from dokimon.core.reading.manifest import Manifest, ManifestFault

_LARGEST_PROGRAM = 200_000
"""Characters: parsing Python takes its time, with some texts far more than with others."""


def needs_of_setup(manifest: Manifest) -> list[Requirement]:
    """Return the Python that `python_requires` asks for, or that the program ends without; raises `ManifestFault`."""
    if len(manifest.text) > _LARGEST_PROGRAM:
        return [
            unreadable("python", manifest.source(1), "setup.py is larger than a person would write, and is not read")
        ]
    try:
        tree = ast.parse(manifest.text)
    except (SyntaxError, ValueError, RecursionError, MemoryError) as wrong:
        line = getattr(wrong, "lineno", None) or 1
        raise ManifestFault(line, "is not Python that this Dokimon can parse") from None
    constants = _constants(tree)
    for given in _python_requires(tree):
        source = manifest.source(given.lineno)
        value = constants.get(given.id, given) if isinstance(given, ast.Name) else given
        if isinstance(value, ast.Constant) and isinstance(value.value, str):
            return [requirement("python", value.value, "pep440", source)]
        return [unreadable("python", source, "python_requires is worked out by a program, which is not run here")]
    for least, line in _refused_below(tree):
        why = "setup.py ends where Python is older"
        return [requirement("python", f">={least}", "pep440", manifest.source(line), why=why)]
    return [any_version("python", manifest.source(1), "setup.py is Python's")]


def _python_requires(tree: ast.Module) -> Iterator[ast.expr]:
    """Yield what a program gives `python_requires`: as an argument, or under that key of a table."""
    for node in ast.walk(tree):
        if isinstance(node, ast.keyword) and node.arg == "python_requires":
            yield node.value
        elif isinstance(node, ast.Dict):
            for key, value in zip(node.keys, node.values, strict=True):
                if isinstance(key, ast.Constant) and key.value == "python_requires":
                    yield value
        elif isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Subscript):
            key = node.targets[0].slice
            if isinstance(key, ast.Constant) and key.value == "python_requires":
                yield node.value


def _constants(tree: ast.Module) -> dict[str, ast.expr]:
    """Return the names of the module that get a value once, and that value."""
    found: dict[str, ast.expr] = {}
    several: set[str] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            several |= {node.id} & found.keys()
            found.setdefault(node.id, node)
    for statement in tree.body:
        if isinstance(statement, ast.Assign) and len(statement.targets) == 1:
            target = statement.targets[0]
            if isinstance(target, ast.Name) and target.id not in several:
                found[target.id] = statement.value
    return found


def _refused_below(tree: ast.Module) -> Iterator[tuple[str, int]]:
    """Yield the version and the line of `if sys.version_info < (3, 8): sys.exit(…)`, or of a `raise`."""
    for node in tree.body:
        if not isinstance(node, ast.If) or not isinstance(node.test, ast.Compare):
            continue
        test = node.test
        left, bound = ast.unparse(test.left), test.comparators[0]
        ends = any(isinstance(each, ast.Raise) or "exit(" in ast.unparse(each) for each in node.body)
        is_version = left.startswith("sys.version_info") and isinstance(test.ops[0], ast.Lt)
        if ends and is_version and isinstance(bound, ast.Tuple):
            parts = [each.value for each in bound.elts if isinstance(each, ast.Constant)]
            if parts and len(parts) == len(bound.elts) and all(type(each) is int for each in parts):
                yield ".".join(map(str, parts)), node.lineno
