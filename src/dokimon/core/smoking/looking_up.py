"""What Dokimon itself can find out about a failure: who holds a port, where a command is off PATH."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from dokimon.core.diagnosis.diagnosing import Look
from dokimon.core.machine.catalogue import Catalogue
from dokimon.core.machine.folders import folders_of
from dokimon.core.machine.platform import is_program
from dokimon.core.machine.search_path import SearchPath
from dokimon.core.machine.shell import put_first, shell_in_use
from dokimon.core.processes.sockets import strangers
from dokimon.core.report.model import Remedy


def looks(environment: Mapping[str, str], root: Path, catalogue: Catalogue) -> dict[str, Look]:
    """Return the ways to look something up, by the names that the data of the diagnoses uses."""

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

    return {"port": port, "command": command}
