"""How a service that does not listen is started on this machine: what `starting.toml` knows, held against what is here."""

from __future__ import annotations

import os
import shlex
import tomllib
from collections.abc import Mapping
from functools import cache
from pathlib import Path

import msgspec

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.declarations.subjects import ServiceSubject
from dokimon.core.machine.folders import system_root
from dokimon.core.machine.platform import is_program, loopback_addresses
from dokimon.core.machine.search_path import SearchPath
from dokimon.core.report.model import Remedy
from dokimon.core.text import clean
from dokimon.core.words import filled

_MOST = 3
_UNIT_FOLDERS = ("etc/systemd/system", "lib/systemd/system", "usr/lib/systemd/system")
_SYSTEMD_RUNS = "run/systemd/system"  # sd_booted(3)
_SCRIPTS = "etc/init.d"
_OF_THE_SYSTEM = ("usr/local/sbin", "usr/sbin")  # where daemons lie; not on everybody's PATH
_STANDARD_NAMES = ("compose.yaml", "compose.yml", "docker-compose.yaml", "docker-compose.yml")
_BREW_HOMES = ("opt/homebrew/opt", "usr/local/opt")


class Starting(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What is known of starting one service."""

    port: int
    processes: tuple[str, ...]
    also: tuple[str, ...] = ()
    units: tuple[str, ...] = ()
    command: str | None = None
    image: str | None = None


@cache
def known_services() -> dict[str, Starting]:
    """Return what is known, by the names of the services."""
    text = Path(__file__).with_name("starting.toml").read_text("utf-8")
    known = msgspec.convert(tomllib.loads(text), dict[str, Starting])
    return known | {other: service for service in known.values() for other in service.also}


def name_at(port: int) -> str | None:
    """Return the service that listens on a port by custom, or None."""
    return next((name for name, service in known_services().items() if service.port == port), None)


def to_start(need: Requirement, environment: Mapping[str, str], root: Path) -> tuple[Remedy, ...]:
    """Return how to start the service of a need, the nearest way first; one on another machine is not started here."""
    assert isinstance(need.subject, ServiceSubject)
    name, host, port = need.subject.name, need.subject.host, need.subject.port
    if not loopback_addresses(host):
        return (Remedy(f"start {clean(name)} there"),)
    container = (need.source.file, need.container) if need.container else None
    return ways_to_start(name, port, environment, root, container)


def ways_to_start(
    name: str, port: int, environment: Mapping[str, str], root: Path, container: tuple[str, str] | None = None
) -> tuple[Remedy, ...]:
    """Return how to let a service listen on a port of this machine, the nearest way first; at most three.

    `container` is a compose file (relative to `root`) and the service in it that starts it. What lies in the checkout is
    never named as a program. One that listens on another port is said first.
    """
    service = known_services().get(name.lower())
    search = SearchPath(environment, root, root)
    found = [_elsewhere(service, name, port)] if service else []
    if service and (started := _by_the_system(service, port, system_root(environment))):
        found.append(started)
    elif service and service.command and _program(service.command.split()[0], search):
        command = filled(service.command, {"port": str(port)})
        found.append(Remedy(f"{command.split()[0]} is installed here: start it in another terminal", command))
    if container:
        found.append(_by_compose(container, search))
    elif service and service.image and (engine := _engine(search)):
        command = f"{engine} run --rm -p {port}:{service.port} {service.image}"
        found.append(Remedy("start one in a container", command))
    return tuple(each for each in found if each)[:_MOST] or (Remedy(f"install and start {clean(name)}"),)


def _elsewhere(service: Starting, name: str, port: int) -> Remedy | None:
    """Say where one listens that is not at the port; many programs are a `java`, which says too little."""
    import psutil  # late: few needs are services, and fewer of them are missing

    wanted = set(service.processes) - {"java", "beam.smp"}
    try:
        connections = psutil.net_connections(kind="tcp")
    except (psutil.Error, OSError):
        return None
    for each in sorted(connections, key=lambda one: one.laddr.port if one.laddr else 0):
        if each.status != psutil.CONN_LISTEN or not each.laddr or not each.pid or each.laddr.port == port:
            continue
        try:
            process = psutil.Process(each.pid).name()
        except psutil.Error:
            continue
        if process in wanted:
            at = each.laddr.port
            return Remedy(f"{process} listens on port {at} (process {each.pid}): point the settings of {name} there")
    return None


def _by_the_system(service: Starting, port: int, root: Path) -> Remedy | None:
    elsewhere = f"; it takes port {service.port} unless its own settings say other" if port != service.port else ""
    has_systemd = (root / _SYSTEMD_RUNS).is_dir()
    for unit in service.units:
        if has_systemd and any((root / folder / f"{unit}.service").exists() for folder in _UNIT_FOLDERS):
            command = f"sudo systemctl start {unit}"
        elif not has_systemd and os.access(root / _SCRIPTS / unit, os.X_OK):
            command = f"sudo service {unit} start"
        elif any((root / home / unit).is_dir() for home in _BREW_HOMES):
            command = f"brew services start {unit}"
        else:
            continue
        return Remedy(f"{unit} is installed here: start it{elsewhere}", command)
    return None


def _program(name: str, search: SearchPath) -> bool:
    on_path = [place for place, absolute in search.on_path if absolute]
    own = [system_root(search.environment) / folder for folder in _OF_THE_SYSTEM]
    folders = [*map(Path, (*on_path, *search.usual)), *own]
    return any(is_program(path := folder / name) and not search.in_checkout(path) for folder in folders)


def _engine(search: SearchPath) -> str | None:
    return next((name for name in ("docker", "podman") if _program(name, search)), None)


def _by_compose(container: tuple[str, str], search: SearchPath) -> Remedy:
    file, service = container
    engine = _engine(search)
    named = "" if file in _STANDARD_NAMES else f"-f {shlex.quote(file)} "
    command = f"{engine or 'docker'} compose {named}up -d {shlex.quote(service)}"
    if engine is None:
        return Remedy(f"{file} starts it, by Docker or Podman, which are not installed here", command)
    return Remedy(f"{file} starts it in a container", command)
