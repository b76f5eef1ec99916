"""Python: what project files and version files declare, and what the presence of other files implies."""

from __future__ import annotations

import re
from typing import Any

import msgspec

from dokimon.core.declarations.distributions import version_need
from dokimon.core.declarations.readers.setup_py import needs_of_setup
from dokimon.core.declarations.requirement import Requirement, any_version, brought, requirement, unreadable
from dokimon.core.declarations.shapes import misfits
from dokimon.core.expressions import expression
from dokimon.core.reading.manifest import Manifest, as_toml
from dokimon.core.reading.text import as_ini, version_line
from dokimon.core.reading.toml_lines import toml_line
from dokimon.core.reading.yaml import as_yaml
from dokimon.core.source import Source

_OLDER_TABLES = (
    (("tool", "poetry", "dependencies", "python"), "poetry"),
    (("tool", "flit", "metadata", "requires-python"), "pep440"),
    (("tool", "pdm", "python_requires"), "pep440"),
)
"""Where build tools kept the Python version before PEP 621, and in which language."""


def _at(data: Any, keys: tuple[str, ...]) -> Any:
    for key in keys:
        data = data.get(key) if isinstance(data, dict) else None
    return data


_PYPROJECT = {
    "project": "table",
    "tool": "table",
    "tool.poetry": "table",
    "tool.poetry.dependencies": "table",
    "tool.flit": "table",
    "tool.flit.metadata": "table",
    "tool.pdm": "table",
    "build-system": "table",
    "build-system.requires": "list",
    "build-system.requires.*": "text",
}
_PIPFILE = {"requires": "table", "requires.python_version": "text", "requires.python_full_version": "text"}


def read_pyproject(manifest: Manifest) -> list[Requirement]:
    """Read `requires-python` (PEP 621), the older tables of build tools, and the minimums of `build-system` (PEP 518)."""
    data = as_toml(manifest)
    project = data.get("project")
    found = misfits(manifest, data, _PYPROJECT, "python")
    for keys, language in ((("project", "requires-python"), "pep440"), *_OLDER_TABLES):
        wanted = _at(data, keys)
        if wanted is None:
            continue
        source = manifest.source(toml_line(manifest.text, keys))
        wanted = wanted.get("version") if isinstance(wanted, dict) else wanted
        if isinstance(wanted, str):
            found.append(requirement("python", wanted, language, source))
        else:
            found.append(unreadable("python", source, f'"{keys[-1]}" must be text such as ">=3.11"'))
    if not found and (project is not None or "build-system" in data):
        line = toml_line(manifest.text, ("project",) if project is not None else ("build-system",))
        found.append(any_version("python", manifest.source(line), "the project is a Python package"))
    needs = [*found, *_managers(manifest, data), *_build_system(manifest, data)]
    members = _at(data, ("tool", "uv", "workspace", "members"))
    covers = tuple(each for each in members if isinstance(each, str)) if isinstance(members, list) else ()
    return [msgspec.structs.replace(each, covers=covers) for each in needs] if covers else needs


_OWN_FILES = (("uv.lock", "uv"), ("poetry.lock", "poetry"), ("pdm.lock", "pdm"), ("Pipfile.lock", "pipenv"))


def _managers(manifest: Manifest, data: dict[str, Any]) -> list[Requirement]:
    """Return the need of the tool that manages the project, with its version where the project names one.

    Its lock file shows it, or a table that only it reads; the build tool alone (`poetry-core`) is fetched by pip.
    """
    found = []
    for keys, tool, language in (
        (("tool", "poetry", "requires-poetry"), "poetry", "poetry"),
        (("tool", "uv", "required-version"), "uv", "pep440"),
    ):
        wanted = _at(data, keys)
        if isinstance(wanted, str):
            wanted = f"=={wanted}" if re.match(r"\d", wanted) and language == "pep440" else wanted
            found.append(requirement(tool, wanted, language, manifest.source(toml_line(manifest.text, keys))))
    for file, tool in _OWN_FILES:
        if file in _beside(manifest) and not any(each.tool == tool for each in found):
            found.append(any_version(tool, manifest.source(1), f"{file} is its lock file"))
    shown: list[tuple[tuple[str, ...], str]] = [
        (("tool", "poetry", "dependencies"), "poetry"),
        (("tool", "poetry", "group"), "poetry"),
        (("tool", "hatch", "envs"), "hatch"),
        (("tool", "pdm", "dev-dependencies"), "pdm"),
        (("tool", "pixi"), "pixi"),
    ]
    for way, tool in shown:
        if isinstance(_at(data, way), dict) and not any(each.tool == tool for each in found):
            line = toml_line(manifest.text, way)
            need = any_version(tool, manifest.source(line), f"[{'.'.join(way)}] is its table")
            # Every installer builds and runs a project of Hatch's: its environments help those who develop it.
            found.append(msgspec.structs.replace(need, strength="advised") if tool == "hatch" else need)
    return found


def _beside(manifest: Manifest) -> frozenset[str]:
    if len(manifest.beside) > 1:
        return manifest.beside | {name for name, _ in _OWN_FILES if (manifest.path.parent / name).is_file()}
    return frozenset(name for name, _ in _OWN_FILES if (manifest.path.parent / name).is_file())


def _dependency(text: str) -> tuple[str, str] | None:
    """Return the name and the versions of a dependency (PEP 508), its extras and its condition left aside.

    None for one without versions: that says nothing here.
    """
    plain = text.partition(";")[0].strip()
    name = re.match(r"[A-Za-z0-9][\w.-]*", plain)
    rest = plain[name.end() :].strip() if name else ""
    if rest.startswith("["):
        rest = rest.partition("]")[2].strip()
    if rest.startswith("("):
        rest = rest[1:].removesuffix(")").strip()
    return (name[0], rest) if name and rest[:1] in ("<", ">", "=", "!", "~") and not set(rest) & set("()") else None


def _build_system(manifest: Manifest, data: dict[str, Any]) -> list[Requirement]:
    """The build tools' own minimums: facts, since pip fetches them into an environment of its own."""
    requires = _at(data, ("build-system", "requires"))
    found = []
    for text in requires if isinstance(requires, list) else []:
        dependency = _dependency(text) if isinstance(text, str) else None
        if dependency:
            source = manifest.source(toml_line(manifest.text, ("build-system", "requires")))
            (name, wanted), why = dependency, "pip fetches it for the build"
            found.append(brought(requirement(name, wanted, "pep440", source, why=why)))
    return found


def read_version_file(manifest: Manifest) -> list[Requirement]:
    """Read `.python-version`: one version a line, the first one counts; `3.12` is any 3.12.x."""
    wanted, line = version_line(manifest)
    return version_need("python", [wanted], manifest.source(line))


def read_uv(manifest: Manifest) -> list[Requirement]:
    """Read `required-version` of a uv.toml (docs.astral.sh/uv, "Settings")."""
    data = as_toml(manifest)
    wanted = data.get("required-version")
    if not isinstance(wanted, str):
        return misfits(manifest, data, {"required-version": "text"}, "uv")
    wanted = f"=={wanted}" if re.match(r"\d", wanted) else wanted
    return [requirement("uv", wanted, "pep440", manifest.source(toml_line(manifest.text, ("required-version",))))]


def read_hatch(manifest: Manifest) -> list[Requirement]:
    """A hatch.toml is Hatch's."""
    return [any_version("hatch", manifest.source(1), "a hatch.toml is its own")]


def read_pixi(manifest: Manifest) -> list[Requirement]:
    """A pixi.toml is pixi's, which brings the Python that it names."""
    data = as_toml(manifest)
    found = misfits(manifest, data, {"dependencies": "table", "dependencies.python": "text or table"}, "pixi")
    found.append(any_version("pixi", manifest.source(1), "a pixi.toml is its own"))
    wanted = _at(data, ("dependencies", "python"))
    if isinstance(wanted, str):
        source = manifest.source(toml_line(manifest.text, ("dependencies", "python")))
        wanted = f"=={wanted}" if re.match(r"\d", wanted) else wanted
        found.append(brought(requirement("python", wanted, "pep440", source, why="pixi brings it")))
    return found


def read_runtime(manifest: Manifest) -> list[Requirement]:
    """Read `runtime.txt`: `python-3.12.4` (devcenter.heroku.com, "Specifying a Python version")."""
    wanted, line = version_line(manifest)
    if not wanted.startswith("python-"):
        return []
    return version_need("python", [wanted.removeprefix("python-")], manifest.source(line))


_SECTION = expression(r"\[([^\]]+)\][ \t]*(?:[#;]|$)")
_KEY = expression(r"([^\s=:#;\[][^=:]*)[=:]")


def read_setup_cfg(manifest: Manifest) -> list[Requirement]:
    """Read `python_requires` of the section `options` (setuptools, "Declarative config")."""
    parser = as_ini(manifest)
    wanted = parser.get("options", "python_requires", fallback=None)
    if wanted is None:
        if not parser.has_section("metadata") and not parser.has_section("options"):
            return []
        return [any_version("python", manifest.source(1), "the project is a Python package")]
    section, line = "", 1
    for number, text in enumerate(manifest.text.split("\n"), 1):
        if found := _SECTION.match(text):
            section = found[1]
        elif section == "options" and (key := _KEY.match(text)) and key[1].strip().lower() == "python_requires":
            line = number
    wanted = " ".join(part.split("#")[0].strip() for part in wanted.split("\n")).strip()
    return [requirement("python", wanted.strip(","), "pep440", manifest.source(line))]


def read_setup_py(manifest: Manifest) -> list[Requirement]:
    """Find `python_requires` in the text of setup.py; the file is never run. Inside a package it is another module."""
    if (manifest.path.parent / "__init__.py").is_file():
        return []
    return needs_of_setup(manifest)


def read_pipfile(manifest: Manifest) -> list[Requirement]:
    """Read `requires` of a Pipfile: `python_version` means all of that line, `python_full_version` just that one."""
    data = as_toml(manifest)
    requires = data.get("requires")
    if wrong := misfits(manifest, data, _PIPFILE, "python"):
        return wrong
    pipenv = [any_version("pipenv", manifest.source(1), "a Pipfile is its own")]
    for key in ("python_full_version", "python_version"):
        wanted = requires.get(key) if isinstance(requires, dict) else None
        if isinstance(wanted, str):
            source = manifest.source(toml_line(manifest.text, ("requires", key)))
            if wanted == "*":
                return [requirement("python", "*", "poetry", source), *pipenv]
            text = f"=={wanted}" if key == "python_full_version" else f"=={wanted}.*"
            text = wanted if re.match(r"[<>=~!]", wanted) else text
            return [requirement("python", text, "pep440", source), *pipenv]
    return [any_version("python", manifest.source(1), "a Pipfile is Python's"), *pipenv]


def read_conda(manifest: Manifest) -> list[Requirement]:
    """Read `environment.yml` of conda: the Python among its dependencies (docs.conda.io, "Creating an environment file")."""
    found = []
    listed = as_yaml(manifest).get("dependencies")
    for each in listed.each() if listed else ():
        named = re.fullmatch(r"(?:[\w-]+::)?(python|nodejs|r-base|cmake|rust|go|openjdk)\s*(.*)", each.text or "")
        if named is None:
            continue
        tool = {"nodejs": "node", "r-base": "r", "rust": "rustc", "openjdk": "java"}.get(named[1], named[1])
        wanted = re.sub(r"(?<![<>=!~])=(?!=)", "==", named[2].strip())
        if re.fullmatch(r"==\d+(\.\d+)?", wanted):
            wanted += ".*"
        why = "conda brings it into an environment of its own"
        source = manifest.source(each.line)
        need = requirement(tool, wanted, "pep440", source, why=why) if wanted else any_version(tool, source, why)
        found.append(brought(need))
    return [*found, any_version("conda", manifest.source(1), "an environment.yml is conda's")]


def read_presence(manifest: Manifest) -> list[Requirement]:
    """The file is only of use to Python."""
    return [any_version("python", Source(manifest.name, 1, ""), f"{manifest.path.name} is Python's")]
