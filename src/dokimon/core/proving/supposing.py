"""Suppositions: judged as if a command reached another version of a tool, or none. Everything else of the machine stays."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.faults import Fault
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.machine.survey import Installation
from dokimon.core.report.model import Finding
from dokimon.core.text import clean, nearest

NONE = "none"
"""The word for a tool that is taken away."""

PLACE = "(supposed)"
"""What stands for the path of a copy that is not there."""

_VERSION = expression(r"v?(\d[\w.+~-]*)")
_SHORT = expression(r"\d+(?:\.\d+)?")


class SuppositionFault(Fault):
    """What is supposed names no tool of the catalogue, or no version."""

    of_call = True


class Supposition(msgspec.Struct, frozen=True):
    """A tool, and the version of it that a command is supposed to reach; None where it is taken away."""

    tool: str
    version: str | None


def read_suppositions(texts: Iterable[str], catalogue: Catalogue) -> tuple[Supposition, ...]:
    """Read suppositions as they are typed: `node=22.11.0`, `python=none`. The last one of a tool counts.

    Raises `SuppositionFault`.
    """
    found: dict[str, Supposition] = {}
    for text in texts:
        name, equals, version = text.partition("=")
        shown = clean(text, 60)
        if not equals or not name or not version:
            raise SuppositionFault(
                f"{shown!r} supposes nothing: write a tool and a version, as node=22.11.0 or node=none"
            )
        tool = catalogue.by_command(name)
        if tool is None:
            near = nearest(name, list(catalogue.names()))
            meant = f"; did you mean {near}?" if near else ""
            raise SuppositionFault(f"{shown!r}: the catalogue has no tool {clean(name, 40)!r}{meant}")
        found[tool] = Supposition(tool, _version(version, shown))
    return tuple(found.values())


def _version(text: str, shown: str) -> str | None:
    if text == NONE:
        return None
    version = _VERSION.fullmatch(text)
    if version is None:
        raise SuppositionFault(f"{shown!r}: {clean(text, 40)!r} is no version; write one as 22.11.0, or the word none")
    return version[1]


def supposed(
    installations: Mapping[str, list[Installation]], suppositions: Sequence[Supposition]
) -> dict[str, list[Installation]]:
    """Return the copies of each tool as they are supposed to be: that one is reached, and none of the others."""
    found = dict(installations)
    for each in suppositions:
        others = [msgspec.structs.replace(copy, reached=False) for copy in installations.get(each.tool, ())]
        if each.version is None:
            found[each.tool] = [copy for copy in others if copy.own]
            continue
        version = _whole(each.version, others)
        copy = Installation(tool=each.tool, path=PLACE, reached=True, version=version, known_by="supposed")
        found[each.tool] = [copy, *others]
    return found


def in_words(installations: Mapping[str, list[Installation]], suppositions: Iterable[Supposition]) -> tuple[str, ...]:
    """Return each tool with the version that it was judged with, or `none`."""
    versions = {tool: copies[0].version for tool, copies in installations.items() if copies and copies[0].reached}
    return tuple(f"{each.tool} {versions.get(each.tool) or each.version or NONE}" for each in suppositions)


def without_remedies(findings: Sequence[Finding]) -> tuple[Finding, ...]:
    """Return what would come of it alone: what to do about a machine that there is not, nobody asked."""
    return tuple(msgspec.structs.replace(each, remedies=()) for each in findings)


def _whole(version: str, copies: Iterable[Installation]) -> str:
    """Return a version with all of its numbers: a short one is that of a copy which is here, else the first of its line."""
    if not _SHORT.fullmatch(version):
        return version
    here = [copy.version for copy in copies if copy.version and f"{copy.version}.".startswith(f"{version}.")]
    if here:
        return max(here, key=lambda each: [int(number) for number in re.findall(r"\d+", each)])
    return ".".join([*version.split("."), "0", "0"][:3])
