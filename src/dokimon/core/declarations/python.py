"""Python: what `pyproject.toml` and `.python-version` declare, and what the presence of other files implies."""

from __future__ import annotations

import re
from collections.abc import Callable

from dokimon.core.declarations.manifest import Manifest, ManifestFault, as_toml, toml_line
from dokimon.core.declarations.requirement import Requirement, Source, any_version, requirement, unreadable


def read_pyproject(manifest: Manifest) -> list[Requirement]:
    """Read `requires-python` (PEP 621)."""
    data = as_toml(manifest)
    project = data.get("project")
    if project is None:
        if "build-system" not in data:
            return []  # only the settings of some tool
        line = toml_line(manifest.text, ("build-system",))
        return [any_version("python", manifest.source(line), "the project is a Python package")]
    if not isinstance(project, dict):
        return [unreadable("python", manifest.source(1), '"project" must be a table')]
    wanted = project.get("requires-python")
    if wanted is None:
        line = toml_line(manifest.text, ("project",))
        return [any_version("python", manifest.source(line), "the project is a Python package")]
    source = manifest.source(toml_line(manifest.text, ("project", "requires-python")))
    if not isinstance(wanted, str):
        return [unreadable("python", source, '"requires-python" must be text such as ">=3.11"')]
    return [requirement("python", wanted, "pep440", source)]


def read_version_file(manifest: Manifest) -> list[Requirement]:
    """Read `.python-version`: one version a line, the first one counts; `3.12` is any 3.12.x.

    Other implementations (`pypy3.10-7.3.12`) are another tool's versions and are told as unreadable here.
    """
    for number, line in enumerate(manifest.text.splitlines(), start=1):
        wanted = line.partition("#")[0].strip()
        if not wanted:
            continue
        source = manifest.source(number)
        named = re.fullmatch(r"(?:(?:c?python)[-@]?)?(\d+(?:\.\d+){0,2})((?:a|b|rc)\d+|-dev|t)?", wanted)
        if not named:
            return [unreadable("python", source, f"{wanted!r} is not a version of CPython such as 3.12 or 3.12.4")]
        exact = named[1].count(".") == 2 or (named[2] or "").startswith(("a", "b", "rc"))
        text = f"=={named[1]}{'' if named[2] in (None, '-dev', 't') else named[2]}" if exact else f"=={named[1]}.*"
        return [requirement("python", text, "pep440", source)]
    raise ManifestFault(1, "names no version")


def read_presence(manifest: Manifest) -> list[Requirement]:
    """The file is only of use to Python."""
    return [any_version("python", Source(manifest.name, 1, ""), f"{manifest.path.name} is Python's")]


READERS: dict[str, Callable[[Manifest], list[Requirement]]] = {
    "pyproject.toml": read_pyproject,
    ".python-version": read_version_file,
    "requirements.txt": read_presence,
    "setup.py": read_presence,
    "manage.py": read_presence,
}

SPEAKS_OF = "python"
UNREAD = frozenset({"requirements.txt", "setup.py", "manage.py"})
