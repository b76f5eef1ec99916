"""The place in the project's own code that an error is told of: the frame of its stack that lies in the checkout."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from itertools import takewhile
from pathlib import Path

from dokimon.core.expressions import expression

_PYTHON = expression(r'^\s*File "([^"]+)", line (\d+)')
_NODE = expression(r"^\s*at (?:.*\()?(?:file://)?((?:[A-Za-z]:)?[^():]+):(\d+):\d+\)?$")
_HEADER = expression(r"^(?:file://)?(/[^:]+\.[cm]?[jt]sx?):(\d+)$")
_GO = expression(r"^\s*(/[^\s:]+\.go):(\d+)(?: \+0x[0-9a-f]+)?$")
_JAVA = expression(r"^\s*at [\w.$/]+\(([\w$]+\.(?:java|kt|scala|groovy)):(\d+)\)$")
_DOTNET = expression(r"^\s*at .+ in ((?:[A-Za-z]:)?[^:]+\.(?:cs|fs|vb|razor|cshtml)):line (\d+)$")
_RUST = expression(r"^\s*--> ([^:]+\.rs):(\d+):\d+$")
_RUBY = expression(r"^\s+(?:from )?(\S+\.r[bu]):(\d+):in ")
_ELIXIR = expression(r"^\s+(?:\([\w. -]+\) )?(\S+\.exs?):(\d+): ")
_INLINE = expression(
    r"(?:^|[\s('\"])((?:[\w.@-]*/)*[\w.@-]+\.(?:py|r[bu]|php|p[lm]|rs|go|[cm]?[jt]sx?|c|cc|cpp|java|kt|exs?|lua))"
    r"(?::(\d+)\b|(?: on|, | at)? line (\d+)\b)"
)
_IN_STACK = expression(r"^\s|^$|^Traceback |^During handling|^The above exception|^(?:\w+\.)*\w+(?:Error|Exception)\b")
_UNDER_ERROR = expression(r"^\s|^$|^[\]}]|^Require stack|^- /|^at |^Caused by")
"""Lines that go on with a stack, above the error that it is of (Python) or below it (Node.js)."""

_FAR = 40
"""Lines of a stack that are looked at."""

_OTHERS = (
    "/site-packages/", "/dist-packages/", "/node_modules/", "/.venv/", "/venv/", "/vendor/", "/gems/", "<frozen", "node:",
    "/.cargo/registry/", "/rustc/", "/go/pkg/mod/", "/usr/lib/", "/usr/share/",
)  # fmt: skip
"""Code that the project uses, and did not write."""


def frame_of(lines: Sequence[str], number: int, root: Path) -> str | None:
    """Return the file (relative to `root`) and line of the project that the error on line `number` of an output is of.

    None where no stack beside that line names a file of the checkout.
    """
    before, after = lines[max(number - _FAR, 0) : number], lines[number + 1 : number + _FAR]
    return (
        _first(_matches(_INLINE, [lines[number]]), root)
        or _first(_matches(_PYTHON, takewhile(_IN_STACK.search, reversed(before))), root)
        or _first(_matches(_NODE, takewhile(_UNDER_ERROR.search, after)), root)
        or _first(_matches(_GO, after), root)
        or next(
            (found for each in (_JAVA, _DOTNET, _RUBY, _ELIXIR) if (found := _first(_matches(each, after), root))), None
        )
        or _first(_matches(_RUST, lines[max(number - 3, 0) : number + 6]), root)
        or _first(_matches(_HEADER, reversed(before)), root)
    )


def _matches(pattern: re.Pattern[str], lines: Iterable[str]) -> Iterator[tuple[str, str]]:
    for line in lines:
        for found in pattern.finditer(line):
            yield found[1], next(each for each in found.groups()[1:] if each)


def _first(found: Iterable[tuple[str, str]], root: Path) -> str | None:
    """Return the first of these places that is a file of the checkout, and of the project's own."""
    for name, line in found:
        if any(each in f"/{name}" for each in _OTHERS):
            continue
        path = Path(name) if Path(name).is_absolute() else root / name
        if not path.is_file() and name.endswith(_OF_THE_JVM) and "/" not in name:  # its stacks name the file alone
            path = next(iter(sorted((root / "src").rglob(name))), path)
        if path.is_relative_to(root) and ".." not in path.parts and path.is_file():
            return f"{path.relative_to(root).as_posix()}:{line}"
    return None


_OF_THE_JVM = (".java", ".kt", ".scala", ".groovy")
