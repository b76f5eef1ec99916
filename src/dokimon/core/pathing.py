"""Which folders to put first on PATH so that satisfying copies, already installed, are reached: `dokimon path`."""

from __future__ import annotations

from pathlib import Path

import msgspec

from dokimon.core.machine.survey import Installation
from dokimon.core.verifying import Declared, Verified
from dokimon.core.versions import VersionFault


class Route(msgspec.Struct, frozen=True):
    """`folders` to put first, in order; `without` names the tools that no copy on this machine satisfies."""

    folders: tuple[str, ...]
    without: tuple[str, ...]


def folders_first(verified: Verified) -> Route:
    """Return the folders of the first copy of each tool that all required declarations accept, where another is reached."""
    folders: dict[str, None] = {}
    without = []
    required = dict.fromkeys(
        each.tool for each in verified.declared.requirements if each.kind == "tool" and each.strength == "required"
    )
    for tool in required:
        copies = verified.installations.get(tool, [])
        fitting = [copy for copy in copies if _accepted(copy, verified.declared)]
        if any(copy.reached for copy in fitting):
            continue
        # No folder puts first what only another name reaches.
        if first := next((copy for copy in fitting if not copy.other_name and not copy.own), None):
            folders[str(Path(first.program).parent)] = None
        else:
            without.append(tool)
    return Route(tuple(folders), tuple(without))


def _accepted(copy: Installation, declared: Declared) -> bool:
    for each in declared.requirements:
        if each.tool != copy.tool or each.kind != "tool" or each.strength != "required" or not each.constraint:
            continue
        try:
            if copy.version is None or not each.constraint.admits(copy.version):
                return False
        except VersionFault:
            return False
    return True
