"""What Dokimon itself can find out about a failure: who holds a port, where a command is off PATH."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.declarations.subjects import ServiceSubject
from dokimon.core.diagnosis.diagnosing import Look
from dokimon.core.judging.starting import known_services, name_at, to_start, ways_to_start
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.machine.folders import folders_of
from dokimon.core.machine.platform import is_program
from dokimon.core.machine.search_path import SearchPath
from dokimon.core.machine.shell import put_first, shell_in_use
from dokimon.core.processes.sockets import strangers
from dokimon.core.report.model import Remedy
from dokimon.core.smoking.looking_at_files import (
    example_beside,
    node_module,
    node_program,
    packages_left_out,
    python_module,
)


def looks(
    environment: Mapping[str, str],
    root: Path,
    catalogue: Catalogue,
    needs: Sequence[Requirement] = (),
    project: Path | None = None,
) -> dict[str, Look]:
    """Return the ways to look something up, by the names that the data of the diagnoses uses.

    `needs` are those of the project: its services may be what a run does not reach. `project` is its folder, where it is
    not the root.
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
        if declared := packages_left_out(name, project or root):
            return declared
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

    def installer(groups: Mapping[str, str]) -> Sequence[Remedy]:
        on_path = SearchPath(environment, root, root).on_path
        name = groups.get("command", "")
        return [Remedy(name) for folder, absolute in on_path if absolute and is_program(Path(folder) / name)][:1]

    return {
        "port": port,
        "installer": installer,
        "command": command,
        "service": lambda groups: _service(groups, environment, root, needs),
        "example": lambda groups: example_beside(Path(groups.get("file", ".env")), root),
        "undeclared": lambda groups: node_module(groups.get("name", ""), project or root),
        "undeclared-program": lambda groups: node_program(groups.get("command", ""), project or root),
        "python-module": lambda groups: python_module(groups.get("name", ""), project or root),
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
