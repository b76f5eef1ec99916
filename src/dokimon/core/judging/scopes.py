"""Which folders a declaration governs: only what governs one place together can contradict each other."""

from __future__ import annotations

from collections.abc import Sequence

from dokimon.core.declarations.checkout import SETTINGS_FILE
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.declarations.versions_of_folders import is_version_file
from dokimon.core.declarations.workspaces import is_member

_INNER = (
    "gradle/wrapper",
    ".mvn/wrapper",
    ".github/workflows",
    ".config/mise",
    ".config",
    ".fvm",
    ".devcontainer",
    ".circleci",
    ".cargo",
    "gradle",
)
"""Folders of a project in which files lie that speak of the project around them."""


_LAST_OF_INNER = frozenset(each.rpartition("/")[2] for each in _INNER)


def place_of(need: Requirement) -> str:
    """Return the folder of which a declaration speaks, relative to the root; `.` is the root itself."""
    if need.part.rpartition("/")[2] not in _LAST_OF_INNER:
        return need.part
    for inner in _INNER:
        if need.part == inner:
            return "."
        if need.part.endswith(f"/{inner}"):
            return need.part[: -len(inner) - 1]
    return need.part


def is_below(place: str, above: str) -> bool:
    """Whether a folder is another or lies below it."""
    return above in (".", place) or place.startswith(f"{above}/")


class Scopes:
    """The declarations of a checkout, by the places that they govern.

    A version file governs its folder and those below it, up to the next one for the same tool; the root of a workspace
    its members; any other manifest its own folder, and those below it that no manifest of the same ecosystem takes for
    itself; `dokimon.toml` and advice all that is below them.
    """

    def __init__(self, requirements: Sequence[Requirement]) -> None:
        self._requirements = requirements
        self._places = [place_of(each) for each in requirements]
        self._pins: dict[str, set[str]] = {}
        self._projects: dict[str, set[str]] = {}
        for need, place in zip(requirements, self._places, strict=True):
            if is_version_file(need.source.file):
                self._pins.setdefault(need.label, set()).add(place)
            elif need.family:
                self._projects.setdefault(need.family, set()).add(place)

    def governs(self, index: int, place: str) -> bool:
        """Whether the declaration of this index governs a place."""
        need, own = self._requirements[index], self._places[index]
        if place == own:
            return True
        if not is_below(place, own):
            return False
        if need.source.file.rpartition("/")[2] == SETTINGS_FILE or need.strength == "advised":
            return True
        if is_version_file(need.source.file):
            return not _taken(place, own, self._pins[need.label])
        if need.covers:
            inside = place if own == "." else place[len(own) + 1 :]
            if any(is_member(inside, pattern) for pattern in need.covers):
                return True
        return not _taken(place, own, self._projects.get(need.family, set()))

    def groups(self, members: Sequence[int]) -> list[tuple[list[str], list[int]]]:
        """Return the declarations that govern a place together, each group once with its places, the outermost first."""
        found: dict[tuple[int, ...], list[str]] = {}
        for place in sorted({self._places[index] for index in members}, key=lambda each: (each != ".", each)):
            together = tuple(index for index in members if self.governs(index, place))
            found.setdefault(together, []).append(place)
        return [(places, list(together)) for together, places in found.items()]

    def place(self, index: int) -> str:
        """Return the folder of which the declaration of this index speaks."""
        return self._places[index]


def _taken(place: str, own: str, others: set[str]) -> bool:
    """Whether, on the way down from `own` to `place`, another declaration takes over."""
    return any(other != own and is_below(other, own) and is_below(place, other) for other in others)
