"""What Dokimon itself can find out about a failure: who holds a port, where a command is off PATH."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from pathlib import Path

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.declarations.subjects import ServiceSubject
from dokimon.core.diagnosis.diagnosing import Look
from dokimon.core.files import text_of
from dokimon.core.judging.starting import known_services, name_at, to_start, ways_to_start
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.machine.folders import folders_of
from dokimon.core.machine.platform import is_program
from dokimon.core.machine.search_path import SearchPath
from dokimon.core.machine.shell import put_first, shell_in_use
from dokimon.core.processes.sockets import strangers
from dokimon.core.report.model import Remedy


def looks(
    environment: Mapping[str, str], root: Path, catalogue: Catalogue, needs: Sequence[Requirement] = ()
) -> dict[str, Look]:
    """Return the ways to look something up, by the names that the data of the diagnoses uses.

    `needs` are those of the project: its services may be what a run does not reach.
    """

    def port(groups: Mapping[str, str]) -> Sequence[Remedy]:
        number = groups.get("port", "")
        holders = strangers(int(number)) if number.isdecimal() else ()
        return [
            Remedy(
                f"port {number} is held by process {each.pid}: {each.command}; stop it",
                f"kill {each.pid}",
            )
            for each in holders
            if each.pid
        ][:1]

    def command(groups: Mapping[str, str]) -> Sequence[Remedy]:
        name = groups.get("command", "")
        places = SearchPath(environment, root, root)
        entry = next(
            (tool for each in catalogue.names() if (tool := catalogue.find(each)) and name in tool.commands), None
        )
        homes = [str(path) for home in (entry.homes if entry else []) for path in folders_of(home, environment)]
        for folder in [*homes, *places.usual]:
            path = Path(folder) / name
            if name and is_program(path) and not places.in_checkout(path):
                line = put_first([folder], shell_in_use(environment), environment.get("HOME", ""))
                return [Remedy(f"{path} is there, but its folder is not on PATH; put it first", line)]
        return []

    return {
        "port": port,
        "command": command,
        "service": lambda groups: _service(groups, environment, root, needs),
        "example": lambda groups: _example(Path(groups.get("file", ".env")), root),
        "undeclared": lambda groups: _undeclared(groups.get("name", ""), root),
    }


def _service(
    groups: Mapping[str, str], environment: Mapping[str, str], root: Path, needs: Sequence[Requirement]
) -> Sequence[Remedy]:
    """How to start the service that did not answer: the one that the project declares, or that is known by its port."""
    named, port = groups.get("service"), int(groups.get("port", "0"))
    for need in needs:
        subject = need.subject
        if isinstance(subject, ServiceSubject) and (subject.port == port or subject.name == named):
            return to_start(need, environment, root)
    name = named or name_at(port)
    return ways_to_start(name, port or known_services()[name].port, environment, root) if name else ()


def _example(named: Path, root: Path) -> Sequence[Remedy]:
    """An example often lies beside a file that has to be made: config.example.yaml, .env.sample."""
    path = named if named.is_absolute() else root / named
    if not path.is_relative_to(root) or not path.parent.is_dir() or path.exists():
        return []
    mark = "(?:[._-](?:example|sample|dist|template|default))?"
    similar = re.compile(rf"{re.escape(path.stem)}{mark}{re.escape(path.suffix)}{mark}")
    for other in sorted(path.parent.iterdir()):
        if other.is_file() and similar.fullmatch(other.name):
            command = f"cp {other.relative_to(root)} {path.relative_to(root)}"
            return [Remedy(f"{other.name} lies beside it: copy it, and look at what it says", command)]
    return []


def _undeclared(module: str, root: Path) -> Sequence[Remedy]:
    """A module that package.json does not declare is not brought by installing again."""
    named = re.match(r"(?:@[\w.-]+/)?[\w.-]+", module)
    try:
        package = json.loads(text_of(root / "package.json") or "{}")
    except (ValueError, RecursionError):
        return []
    tables = [package.get(key) for key in ("dependencies", "devDependencies")] if isinstance(package, dict) else []
    if named is None or not package or any(isinstance(table, dict) and named[0] in table for table in tables):
        return []
    return [Remedy(f"{named[0]} is not declared in package.json: add it", f"npm install {named[0]}")]
