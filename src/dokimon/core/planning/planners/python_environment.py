"""Python: the virtual environment that a project is run in, and what must be installed into it.

The project's own environment comes first, then the active one, then a new `.venv`. The system's Python is never
installed into; it runs a project only where nothing has to be installed.
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.machine.components import same_name
from dokimon.core.machine.own_environment import is_own
from dokimon.core.machine.platform import PROGRAMS_FOLDER
from dokimon.core.planning.plan import PlanContext, PlanFault, PrepareStep
from dokimon.core.reading.manifest import ManifestFault, as_toml, open_manifest
from dokimon.core.reading.toml_lines import toml_line
from dokimon.core.source import Source
from dokimon.core.versions import compiled
from dokimon.core.versions.faults import VersionFault

_USUAL_NAMES = (".venv", "venv", "env")
_PIP = ("-m", "pip", "--disable-pip-version-check", "--no-input", "install")


class Environment(msgspec.Struct, frozen=True):
    """Where a project runs: the interpreter, and the environment's folder unless it is the system's own."""

    python: str
    folder: Path | None = None

    def variables(self, path: str) -> dict[str, str]:
        """Return what activating the environment would set; its programs come before those of `path`."""
        if self.folder is None:
            return {}
        return {
            "VIRTUAL_ENV": str(self.folder),
            "PATH": str(self.folder / PROGRAMS_FOLDER) + os.pathsep + path,
        }


class WantedPackages(msgspec.Struct, frozen=True, kw_only=True):
    """What has to be installed: pip's arguments, the requirements to compare with what is there, and the source."""

    arguments: tuple[str, ...]
    requirements: tuple[str, ...]
    source: Source
    editable: bool = False


def find_environment(context: PlanContext) -> Path | None:
    """Return the folder of the project's own virtual environment or of the active one, or None."""
    usual = [context.folder / name for name in _USUAL_NAMES]
    others = [child.parent for child in sorted(context.folder.glob("*/pyvenv.cfg"))]
    for folder in [*usual, *others]:
        if (folder / "pyvenv.cfg").is_file():
            if not _python_in(folder).exists():
                name = folder.relative_to(context.folder)
                raise PlanFault(
                    f"the virtual environment {name} has no working interpreter: was it moved, or its Python removed?\n"
                    f"Delete the folder {name} and call again: a new one is made."
                )
            _refuse_other_python(folder, context)
            return folder
    active = context.environment.get("VIRTUAL_ENV")
    return Path(active) if active and _python_in(Path(active)).exists() else None


_SYSTEM_PYTHON = "/usr/bin/python3"
_SITES_OF_THE_SYSTEM = ("lib/python3*/site-packages", "lib/python3/dist-packages", "local/lib/python3*/dist-packages")


def _system_python(context: PlanContext, wanted: list[WantedPackages], base: str) -> str | None:
    """Return the Python to use as it is: the system's, where the project's files call it, or one that has what is declared.

    What a system's packages bring (Debian's `python3-flask`) is looked up where such a Python finds it; nothing is run.
    """
    called = [
        path for name in ("Makefile", "*.mk", "*.sh", "*.service", "bin/*.sh") for path in context.folder.glob(name)
    ]
    if Path(_SYSTEM_PYTHON).exists() and any(_SYSTEM_PYTHON in text_of(path) for path in called[:_MOST_CALLERS]):
        return _SYSTEM_PYTHON
    found = context.tools.get("python")
    if found is None or any(each.editable or not each.requirements for each in wanted):
        return None
    prefix = Path(os.path.realpath(found)).parent.parent
    installed: dict[str, str] = {}
    for pattern in _SITES_OF_THE_SYSTEM:
        for place in prefix.glob(pattern):
            installed |= _installed_at(place)
    every = [text for each in wanted for text in each.requirements]
    missing = [text for text in every if not _is_plainly_there(text, installed)]
    return base if installed and not missing else None


_MOST_CALLERS = 20


def _refuse_other_python(folder: Path, context: PlanContext) -> None:
    """Raise `PlanFault` for an environment that was made by a Python which the project does not accept."""
    made = re.search(r"^version(?:_info)?\s*=\s*(\d+\.\d+(?:\.\d+)?)", text_of(folder / "pyvenv.cfg"), re.MULTILINE)
    wanted = _wanted_python(context)
    if made is None or wanted is None:
        return
    try:
        fits = compiled("pep440", wanted).admits(made[1])
    except VersionFault:
        return
    if not fits:
        name = folder.relative_to(context.folder)
        raise PlanFault(
            f"the virtual environment {name} is of Python {made[1]}, and the project needs {wanted}\n"
            f"Delete the folder {name} and call again: a new one is made by a Python that fits."
        )


def _wanted_python(context: PlanContext) -> str | None:
    try:
        project = as_toml(open_manifest(context.folder / "pyproject.toml", context.root)).get("project")
    except ManifestFault:
        return None
    wanted = project.get("requires-python") if isinstance(project, dict) else None
    return wanted if isinstance(wanted, str) else None


def environment_for(context: PlanContext, wanted: list[WantedPackages]) -> tuple[Environment, list[PrepareStep]]:
    """Return the environment that the project runs in, and the steps that make it ready."""
    base = context.command("python", "python3")
    if synced := _synced_by_uv(context, wanted):
        return synced
    folder = find_environment(context)
    if folder is None and not wanted:
        return Environment(base), []
    if folder is None and (python := _system_python(context, wanted, base)):
        return Environment(python), []
    steps = []
    if folder and is_own(folder) and not Path(__file__).is_relative_to(context.root):
        _refuse_own(folder, context, wanted)
    if folder is None:
        folder = context.folder / ".venv"
        steps.append(
            PrepareStep(
                title="make the virtual environment .venv",
                command=(base, "-m", "venv", str(folder)),
                folder=context.folder,
                source=wanted[0].source,
                needed="the project has none, and none is active",
                makes=(_python_in(folder),),
            )
        )
    environment = Environment(str(_python_in(folder)), folder)
    if wanted and not steps and not _has_pip(folder):
        command = (environment.python, "-m", "ensurepip")
        steps.append(
            PrepareStep(
                title="unpack pip",
                command=command,
                folder=context.folder,
                source=wanted[0].source,
                needed="the environment has no pip",
            )
        )
    steps += [_install_step(context, environment, folder, each, fresh=bool(steps)) for each in wanted]
    return environment, steps


def _synced_by_uv(context: PlanContext, wanted: list[WantedPackages]) -> tuple[Environment, list[PrepareStep]] | None:
    """Return the environment that uv keeps for a project with a `uv.lock`, at the root of its workspace, where uv is here.

    What the members of a workspace need of each other no other installer finds (docs.astral.sh/uv, "Workspaces").
    """
    above = [context.folder, *(path for path in context.folder.parents if path.is_relative_to(context.root))]
    lock = next((path / "uv.lock" for path in above if (path / "uv.lock").is_file()), None)
    is_project = (context.folder / "pyproject.toml").is_file()
    if lock is None or not is_project or not shutil.which("uv", path=context.environment.get("PATH")):
        return None
    folder = lock.parent / ".venv"
    environment = Environment(str(_python_in(folder)), folder)
    missing = next((why for each in wanted if (why := _why_install(context, folder, each))), None)
    needed = missing if folder.is_dir() else "the environment that uv.lock describes is not there"
    step = PrepareStep(
        title="sync packages",
        command=("uv", "sync"),
        folder=context.folder,
        source=context.source(lock),
        needed=needed,
        reason=f"{folder.name} has what is declared",
        makes=(_python_in(folder),),
    )
    return environment, [step]


def _refuse_own(folder: Path, context: PlanContext, wanted: list[WantedPackages]) -> None:
    """Raise `PlanFault` where something would have to be installed into the environment of Dokimon's own."""
    for each in wanted:
        if missing := _why_install(context, folder, each):
            where = folder.relative_to(context.folder) if folder.is_relative_to(context.folder) else folder
            raise PlanFault(
                f"{missing}, and {where} is where Dokimon itself is installed: what is installed there could break it\n"
                f"Install Dokimon elsewhere (pipx install dokimon), or install the packages yourself: "
                f"{where}/{PROGRAMS_FOLDER}/python -m pip install {shlex.join(each.arguments)}"
            )


def _install_step(
    context: PlanContext, environment: Environment, folder: Path, wanted: WantedPackages, *, fresh: bool
) -> PrepareStep:
    where = folder.relative_to(context.folder) if folder.is_relative_to(context.folder) else folder
    missing = None if fresh else _why_install(context, folder, wanted)
    return PrepareStep(
        title=f"install packages into {where}",
        command=(environment.python, *_PIP, *wanted.arguments),
        folder=context.folder,
        source=wanted.source,
        needed=f"{where} is new" if fresh else missing,
        reason=f"{where} has what is declared",
        environment=environment.variables(context.environment.get("PATH", os.defpath)),
    )


def _python_in(folder: Path) -> Path:
    return folder / PROGRAMS_FOLDER / "python"


def _site_packages(folder: Path) -> list[Path]:
    return [*folder.glob("lib/python*/site-packages"), *folder.glob("Lib/site-packages")]


def _has_pip(folder: Path) -> bool:
    return any((place / "pip").is_dir() for place in _site_packages(folder))


def _why_install(context: PlanContext, folder: Path, wanted: WantedPackages) -> str | None:
    """Return what is missing from the environment, or None; its metadata is read, nothing is run."""
    installed = _installed(folder)
    if wanted.editable and context.folder.as_uri() not in _installed_folders(folder):
        return "the project itself is not installed in it"
    left = [each for each in wanted.requirements if not _is_plainly_there(each, installed)]
    return _first_missing(left, installed) if left else None


_PLAIN = expression(
    r"(?P<name>[A-Za-z0-9](?:[\w.-]*[A-Za-z0-9])?)\s*(?:\[[\w\s,.-]*\])?\s*(?P<versions>[<>=!~][^;@#]*)?"
)
"""A requirement without a marker or an address (PEP 508): most are such, and packaging takes 20 ms to load."""


def _is_plainly_there(text: str, installed: Mapping[str, str]) -> bool:
    plain = _PLAIN.fullmatch(text.strip())
    version = installed.get(same_name(plain["name"])) if plain else None
    if plain is None or version is None:
        return False
    try:
        return not plain["versions"] or compiled("pep440", plain["versions"].strip()).admits(version)
    except VersionFault:
        return False


def _first_missing(requirements: Iterable[str], installed: Mapping[str, str]) -> str | None:
    from packaging.requirements import InvalidRequirement, Requirement

    for text in requirements:
        try:
            requirement = Requirement(text)
        except InvalidRequirement:  # an address or an option: only pip knows
            continue
        if requirement.marker and not requirement.marker.evaluate({"extra": ""}):
            continue
        version = installed.get(same_name(requirement.name))
        if version is None:
            return f"{requirement.name} is not installed in it"
        if not requirement.specifier.contains(version, prereleases=True):
            return f"it has {requirement.name} {version}, and {requirement.specifier} is declared"
    return None


_INFO = expression(r"(?P<name>[A-Za-z0-9][\w.]*)-(?P<version>[^-]+)\.dist-info")
"""The folder with what is known of an installed package (PyPA, "Recording installed projects")."""


def _installed(folder: Path) -> dict[str, str]:
    """Return the version of each package that is installed, by its normalized name; known from the names of folders."""
    found: dict[str, str] = {}
    if re.search(
        r"^include-system-site-packages\s*=\s*true", text_of(folder / "pyvenv.cfg"), re.MULTILINE | re.IGNORECASE
    ):
        home = re.search(r"^home\s*=\s*(\S.*)$", text_of(folder / "pyvenv.cfg"), re.MULTILINE)
        prefix = Path(home[1].strip()).parent if home else folder
        for pattern in _SITES_OF_THE_SYSTEM:  # PEP 405: those of the Python that it was made by are seen in it
            for place in prefix.glob(pattern):
                found |= _installed_at(place)
    for place in _site_packages(folder):
        found |= _installed_at(place)
    return found


def _installed_at(place: Path) -> dict[str, str]:
    found = {}
    try:
        names = os.listdir(place)  # noqa: PTH208 (names alone, and fast)
    except OSError:
        return {}
    for name in names:
        if read := _INFO.fullmatch(name):
            found[same_name(read["name"])] = read["version"]
        elif name.endswith((".egg-info", ".egg-link")):  # made by setuptools: the version is in a file
            found |= _by_metadata(place / name)
    return found


def _by_metadata(place: Path) -> dict[str, str]:
    from importlib.metadata import PathDistribution

    try:
        read = PathDistribution(place).metadata
        return {same_name(read["Name"]): read["Version"]} if read["Name"] and read["Version"] else {}
    except (OSError, ValueError, KeyError):
        return {}


def _installed_folders(folder: Path) -> set[str]:
    """Return the addresses of the folders that packages were installed from (PEP 610)."""
    texts = (text_of(file) for place in _site_packages(folder) for file in place.glob("*.dist-info/direct_url.json"))
    return {found[1] for text in texts if (found := re.search(r'"url":\s*"([^"]*)"', text))}


def declared_packages(context: PlanContext, *, installs: bool = False) -> list[WantedPackages]:
    """Return what a list of requirements or a Pipfile, `pyproject.toml` or `setup.py` ask to be installed, in that order.

    With `installs`, the project itself is installed too, also where it names no build system: its commands are wanted.
    """
    found = []
    listed = next((context.folder / name for name in _LISTS if (context.folder / name).is_file()), None)
    if listed and (lines := list(_requirement_lines(listed))):
        where = listed.relative_to(context.folder).as_posix()
        found.append(WantedPackages(arguments=("-r", where), requirements=tuple(lines), source=context.source(listed)))
    elif names := _of_pipfile(context):
        found.append(names)
    project = _from_pyproject(context, installs=installs)
    if (
        project is None
        and any((context.folder / name).is_file() for name in ("setup.py", "setup.cfg"))
        and (installs or (context.folder / "setup.py").is_file())
    ):
        project = WantedPackages(
            arguments=("-e", "."),
            requirements=(),
            source=context.source(
                next(context.folder / name for name in ("setup.py", "setup.cfg") if (context.folder / name).is_file())
            ),
            editable=True,
        )
    return [*found, project] if project else found


_LISTS = (
    "requirements.txt",
    *(f"requirements/{name}.txt" for name in ("local", "dev", "development", "base", "common", "main", "prod",
        "production", "requirements")),
    "requirements.in", "src/requirements.txt", "app/requirements.txt",
)  # fmt: skip
"""Where the packages to run a project are listed; what is for developing takes in the rest by custom."""


def declares(context: PlanContext, package: str) -> bool:
    """Whether the files of a project name a package among what it needs."""
    files = [path for name in _DECLARING for path in sorted(context.folder.glob(name))[:_MOST_CALLERS]]
    word = rf"(?i)(?<![\w./-]){re.escape(package)}(?![\w-])"
    return any(re.search(word, text_of(path)) for path in files)


_DECLARING = (
    "requirements*.txt",
    "requirements/*.txt",
    "pyproject.toml",
    "Pipfile",
    "setup.cfg",
    "setup.py",
    "environment.yml",
)


def _of_pipfile(context: PlanContext) -> WantedPackages | None:
    """The packages of a Pipfile (pypa/pipfile, "Pipfile: the replacement for requirements.txt")."""
    path = context.folder / "Pipfile"
    try:
        manifest = open_manifest(path, context.root)
        packages = as_toml(manifest).get("packages")
    except ManifestFault:
        return None
    names = []
    for name, wanted in packages.items() if isinstance(packages, dict) else ():
        version = wanted.get("version", "*") if isinstance(wanted, dict) else wanted
        if isinstance(version, str) and not (isinstance(wanted, dict) and {"path", "git", "file"} & wanted.keys()):
            extras = wanted.get("extras") if isinstance(wanted, dict) else None
            brackets = f"[{','.join(map(str, extras))}]" if isinstance(extras, list) else ""
            names.append(f"{name}{brackets}{'' if version == '*' else version}")
    if not names:
        return None
    source = manifest.source(toml_line(manifest.text, ("packages",)))
    return WantedPackages(arguments=tuple(names), requirements=tuple(names), source=source)


def _from_pyproject(context: PlanContext, *, installs: bool) -> WantedPackages | None:
    path = context.folder / "pyproject.toml"
    try:
        manifest = open_manifest(path, context.root)
        data: dict[str, Any] = as_toml(manifest)
    except ManifestFault:
        return None
    project = data.get("project")
    dependencies = project.get("dependencies", []) if isinstance(project, dict) else []
    names = tuple(each for each in dependencies if isinstance(each, str)) if isinstance(dependencies, list) else ()
    source = manifest.source(toml_line(manifest.text, ("project", "dependencies")))
    if "build-system" in data or (
        installs and project is not None
    ):  # PEP 517; pip takes setuptools where none is named
        return WantedPackages(arguments=("-e", "."), requirements=names, source=source, editable=True)
    return WantedPackages(arguments=names, requirements=names, source=source) if names else None


def _requirement_lines(path: Path, depth: int = 0) -> Iterator[str]:
    """Yield the requirements of a file and of those it includes with `-r` (pip, "Requirements File Format")."""
    text = text_of(path, 1_000_000).removeprefix("\ufeff")
    for line in text.replace("\\\n", "").splitlines():
        written = re.sub(r"(^|\s)#.*", "", line).strip()
        if included := re.fullmatch(r"(?:-r|--requirement)[ =]?\s*(\S+)", written):
            if depth < 5:
                yield from _requirement_lines(path.parent / included[1], depth + 1)
        elif written:
            yield re.sub(r"\s+--hash=\S+", "", written)
