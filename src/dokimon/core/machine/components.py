"""Components: parts of a tool with a presence or a version of their own, as the catalogue says where to find them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

import msgspec

from dokimon.core.files import text_of
from dokimon.core.machine.catalogue import ComponentSource, Tool
from dokimon.core.machine.folders import folders_of, matching
from dokimon.core.text import clean
from dokimon.core.words import filled

_MOST = 5000
"""Components of one kind that are looked at: more than any machine is known to have."""


class Component(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """A component of a tool.

    `name` is how needs call it, `what` its kind in words; `of` is the path of the copy that it belongs to, left out
    where it serves every copy. `known_by` is `file` or `asked`; `path` the file that says so.
    """

    tool: str
    name: str
    what: str
    version: str | None = None
    of: str | None = None
    path: str | None = None
    known_by: str = "file"


def same_name(name: str) -> str:
    """Return a component's name as it is compared: ecosystems differ in case and in `_`, `-` and `.` (as PEP 503 says)."""
    return re.sub(r"[-_. ]+", "-", name).lower()


AskComponents = Callable[[list[str]], str]
"""Asks the copy about its components: arguments in, what it printed out."""


def of_copy(tool: Tool, shown: str, program: Path, version: str | None, ask: AskComponents) -> list[Component]:
    """Return the components of one copy: `shown` is its path as PATH names it, `program` the program that runs."""
    found: list[Component] = []
    minor = ".".join((version or "").split(".")[:2])
    for part in tool.part:
        if part.of_the_machine:
            continue
        for written in part.files:
            if written[0] in "/~$" or ("{minor}" in written and not minor):
                continue
            paths = matching(program.parent, written.replace("{minor}", minor))
            found += _in_files(tool, part, paths, shown)
        if part.ask and not (part.otherwise and any(each.name == part.called for each in found)):
            for groups in _matches(part.text or "", ask(part.ask)):
                found.append(_component(tool, part, groups, shown, None, "asked"))
    return _once(found)


def of_machine(tool: Tool, environment: Mapping[str, str]) -> list[Component]:
    """Return the components that serve every copy of the tool, or that need none."""
    found: list[Component] = []
    for part in tool.part:
        # A part may name both: beside the program, and in folders of the whole machine.
        for written in (each for each in part.files if each[0] in "/~$"):
            found += _in_files(tool, part, folders_of(written, environment), None)
    return _once(found)


def _once(found: list[Component]) -> list[Component]:
    return list({(each.name, each.version): each for each in reversed(found)}.values())[::-1]


def _in_files(tool: Tool, part: ComponentSource, paths: list[Path], of: str | None) -> Iterator[Component]:
    for path in paths[:_MOST]:
        if not path.exists():
            continue
        named = re.search(part.path, str(path)) if part.path else None
        if part.path and not named:
            continue
        groups = named.groupdict() if named else {}
        if part.text is None:
            yield _component(tool, part, groups, of, path, "file")
            continue
        found_groups = _matches(part.text, _filled_in(text_of(path)))
        # A file whose path names the component is one component; another file may list many.
        for each in [next(found_groups, {})] if groups else found_groups:
            yield _component(tool, part, {**groups, **each}, of, path, "file")


def _matches(pattern: str, text: str) -> Iterator[dict[str, str]]:
    for _, match in zip(range(_MOST), re.finditer(pattern, text, re.MULTILINE), strict=False):
        yield {name: value for name, value in match.groupdict().items() if value is not None}


def _filled_in(text: str) -> str:
    """Fill in what the file itself defines as `name=value` above (pkg-config(1), "METADATA FILE SYNTAX")."""
    if "${" not in text:
        return text
    defined = dict(re.findall(r"^(\w+)[ \t]*=[ \t]*([^\n$]*)$", text, re.MULTILINE))
    return re.sub(r"\$\{(\w+)\}", lambda match: defined.get(match[1], match[0]).strip(), text)


def _component(
    tool: Tool, part: ComponentSource, groups: Mapping[str, str], of: str | None, path: Path | None, known_by: str
) -> Component:
    name = filled(part.called, groups, missing="")
    version = groups.get("version") or None
    return Component(
        tool=tool.name, name=clean(name, 120), what=part.what, version=clean(version, 80) if version else None, of=of,
        path=clean(str(path)) if path else None, known_by=known_by,
    )  # fmt: skip
