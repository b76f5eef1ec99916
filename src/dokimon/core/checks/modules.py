"""What a module of JavaScript imports and exports (ECMAScript §16.2): read as text, never run."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cache
from typing import TYPE_CHECKING, Any, NamedTuple

from dokimon.core.expressions import expression

if TYPE_CHECKING:
    from tree_sitter import Node

DEFAULT = "default"

_LARGEST = 400_000
"""Characters of a module that are parsed; of a longer one the forms that bundlers write are searched for."""


class Import(NamedTuple):
    """An import: the address as it is written, the names that are taken, and whether it waits until it is called for."""

    address: str
    names: tuple[str, ...] = ()
    is_later: bool = False


class Module(NamedTuple):
    """What a module imports and exports; `passes_on` are the addresses of which it exports everything.

    `is_open` says that it may export more than is known; `broken_at` is the line on which it does not parse.
    """

    imports: tuple[Import, ...] = ()
    exports: frozenset[str] = frozenset()
    passes_on: tuple[str, ...] = ()
    is_open: bool = False
    broken_at: int | None = None


def read_module(text: str, *, is_own: bool = True) -> Module:
    """Return what a module imports and exports. One that is not the project's own is searched, not parsed: it is large."""
    ends = text.rfind("/*") <= text.rfind("*/")  # a comment without an end makes the parser look for it from each place
    if is_own and len(text) <= _LARGEST and ends:
        return _parsed(text)
    return _searched(text)


@cache
def _parser() -> Any:
    import tree_sitter_javascript
    from tree_sitter import Language, Parser

    return Parser(Language(tree_sitter_javascript.language()))


def _parsed(text: str) -> Module:
    root = _parser().parse(text.encode("utf-8", "replace")).root_node
    imports: list[Import] = []
    exports: set[str] = set()
    passes_on: list[str] = []
    is_open = False
    for node, is_later in _statements(root, _MOST_NODES if _CALLS.search(text) else 0):
        if node.type == "import_statement":
            imports += [each] if (each := _of_import(node)) else []
        elif node.type == "call_expression":
            arguments = node.child_by_field_name("arguments")
            address = _address(arguments.named_children[0]) if arguments and arguments.named_children else None
            imports += [Import(address, (), is_later)] if address is not None else []
        else:
            address, names = _address(node.child_by_field_name("source")), _exported(node)
            if address is not None:
                imports.append(Import(address, _taken(node)))
                passes_on += [address] if names is None else []
            is_open |= names is None and address is None
            exports.update(names or ())
    broken_at = _broken_line(root) if root.has_error else None
    return Module(tuple(dict.fromkeys(imports)), frozenset(exports), tuple(passes_on), is_open, broken_at)


def _broken_line(root: Node) -> int:
    """Return the line of the first place that does not parse."""
    node = root
    while inner := next((each for each in node.children if each.has_error or each.is_missing), None):
        node = inner
        if node.is_error or node.is_missing:
            break
    return int(node.start_point[0]) + 1


_CALLS = re.compile(r"\bimport\s*\(")
_MOST_NODES = 500_000
"""Of a module that are visited: more than one of people has, and a second's work."""


def _statements(root: Node, most: int) -> Iterator[tuple[Node, bool]]:
    """Yield the imports and exports of a module (they stand at its top) and, among the first so many nodes, each call of
    `import`, with whether it waits for a function to be called. One pass: neither depth nor width makes it slow.
    """
    yield from ((each, False) for each in root.children if each.type in ("import_statement", "export_statement"))
    cursor, inside, ascends = root.walk(), 0, False
    for _ in range(2 * most):
        node = cursor.node
        if node is None:
            return
        if not ascends:
            function = node.child_by_field_name("function") if node.type == "call_expression" else None
            if function and function.type == "import":
                yield node, inside > 0
            inside += node.type in _FUNCTIONS
            if cursor.goto_first_child():
                continue
        inside -= node.type in _FUNCTIONS
        ascends = not cursor.goto_next_sibling()
        if ascends and not cursor.goto_parent():
            return


def _text(node: Node | None) -> str:
    return (node.text or b"").decode("utf-8", "replace") if node else ""


def _address(node: Node | None) -> str | None:
    """Return the text of a plain string; None for anything else."""
    if node is None or node.type != "string":
        return None
    return _text(node)[1:-1]


def _of_import(node: Node) -> Import | None:
    address = _address(node.child_by_field_name("source"))
    if address is None:
        return None
    names: list[str] = []
    clause = next((each for each in node.children if each.type == "import_clause"), None)
    for each in clause.children if clause else ():
        if each.type == "identifier":
            names.append(DEFAULT)
        elif each.type == "named_imports":
            names += [_named(one) for one in each.children if one.type == "import_specifier"]
    return Import(address, tuple(names))


def _named(specifier: Node) -> str:
    return _text(specifier.child_by_field_name("name")).strip("\"'")


def _taken(node: Node) -> tuple[str, ...]:
    """The names that `export { … } from` takes of another module."""
    clause = next((each for each in node.children if each.type == "export_clause"), None)
    return tuple(_named(each) for each in clause.children if each.type == "export_specifier") if clause else ()


def _exported(node: Node) -> list[str] | None:
    """Return the names that an export gives; None where it passes everything on, or where they are not known."""
    kinds = {each.type for each in node.children}
    if "default" in kinds:
        return [DEFAULT]
    space = next((each for each in node.children if each.type == "namespace_export"), None)
    if space:
        return [_text(space.named_children[0]).strip("\"'")] if space.named_children else None
    clause = next((each for each in node.children if each.type == "export_clause"), None)
    if clause:
        pairs = [each for each in clause.children if each.type == "export_specifier"]
        return [_text(each.child_by_field_name("alias")).strip("\"'") or _named(each) for each in pairs]
    declared = node.child_by_field_name("declaration")
    if declared is None:
        return None
    name = declared.child_by_field_name("name")
    if name:
        return [_text(name)]
    each_name = [each.child_by_field_name("name") for each in declared.children if each.type == "variable_declarator"]
    if each_name and all(each is not None and each.type == "identifier" for each in each_name):
        return [_text(each) for each in each_name]
    return None


_FUNCTIONS = frozenset({
    "arrow_function", "function_declaration", "function_expression", "function", "method_definition",
    "generator_function", "generator_function_declaration", "class_body",
})  # fmt: skip


_BEGINNING = 60_000
_IMPORT = expression(
    r"(?:^|[;}\n])[ \t]*(?:import|export)\b[ \t]*(?:[\w$*{][^\"'();]{0,1000}?\bfrom[ \t]*)?[\"']([^\"'\s\\]{1,500})[\"']"
)
_EXPORT_LIST = expression(r"(?:^|[;}\n])[ \t]*export[ \t]*\{([^{}]{0,200000})\}")
_EXPORT_ONE = expression(
    r"(?:^|[;}\n])[ \t]*export[ \t]+"
    r"(?:(default)\b|(?:async[ \t]+)?(?:function\b[ \t]*\*?|class|const|let|var)[ \t]+([\w$]+))"
)
_EXPORT_ALL = expression(r"(?:^|[;}\n])[ \t]*export[ \t]*\*[ \t]*from[ \t]*[\"']([^\"']{1,500})[\"']")
_EXPORT = expression(r"(?:^|[;}\n])[ \t]*export\b")


def _searched(text: str) -> Module:
    """Return what can be found without parsing: it is open where one export has a form that is not known."""
    plain = _COMMENT_OR_TEXT.sub(lambda found: " " if found[0][0] == "/" else found[0], text)
    addresses = dict.fromkeys(found[1] for found in _IMPORT.finditer(plain[:_BEGINNING]))
    exports: set[str] = set()
    lists = _EXPORT_LIST.findall(plain)
    for each in lists:
        exports |= {pair.rpartition(" as ")[2].strip().strip("\"'") for pair in each.split(",") if pair.strip()}
    ones, every = _EXPORT_ONE.findall(plain), _EXPORT_ALL.findall(plain)
    exports |= {first or second for first, second in ones}
    is_open = len(_EXPORT.findall(plain)) != len(lists) + len(ones) + len(every) or not exports
    return Module(tuple(Import(each) for each in addresses), frozenset(exports), tuple(every), is_open)


_COMMENT_OR_TEXT = expression(
    r"\"(?:[^\"\\\n]|\\.)*+\"?|'(?:[^'\\\n]|\\.)*+'?|/\*(?:[^*]|\*(?!/))*+(?:\*/)?|(?<![:\\])//[^\n]*"
)
"""Comments (ECMAScript §12.4), and the texts in which what looks like one is none; what does not end goes to the end."""


def without_block_comments(text: str) -> str:
    """Leave out what stands between `/*` and `*/` (CSS Syntax 3 §4.3.2), in one pass."""
    pieces, place = [], 0
    while (start := text.find("/*", place)) >= 0 and (end := text.find("*/", start + 2)) >= 0:
        pieces.append(text[place:start])
        place = end + 2
    return "".join([*pieces, text[place:]])


_FAULTS = (
    re.compile(r"throw new Error\(\\?[\"'](Module (?:build|parse) failed.{0,300})"),
    re.compile(r"new Error\(\\?[\"'](Cannot find module '[^'\"]{1,200}')\\?[\"']\);\s*e\.code"),
)


def fault_in_bundle(text: str) -> str | None:
    """Return the error that a bundler has put into what it serves in place of a module that it could not build."""
    for pattern in _FAULTS:
        if found := pattern.search(text):
            return found[1].replace("\\\\n", " ").replace("\\n", " ").partition("\\u001b")[0]
    return None
