"""A compose file whose services are built here: the way of a checkout that has no other, where an engine is here."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

from dokimon.core.declarations.checkout import projects_below
from dokimon.core.declarations.readers.containers import published_port
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.reading.manifest import ManifestFault, open_manifest
from dokimon.core.reading.yaml import Yaml, as_yaml

COMPOSE_FILES = ("compose.yaml", "compose.yml", "docker-compose.yaml", "docker-compose.yml")
"""The standard names, in the order in which they count (compose-spec, "Compose file")."""

_PLUGIN_PLACES = (
    "~/.docker/cli-plugins", "/usr/local/lib/docker/cli-plugins", "/usr/local/libexec/docker/cli-plugins",
    "/usr/lib/docker/cli-plugins", "/usr/libexec/docker/cli-plugins",
)  # fmt: skip
_SOCKETS = ("/var/run/docker.sock", "/run/docker.sock", "~/.docker/run/docker.sock")
_NO_ENGINE = (
    "no container engine with compose is here: install Docker with its compose plug-in, or Podman and podman-compose"
)
_BRINGS_DOWN_WITHIN = "5"


def plan(context: PlanContext) -> Plan | None:
    """Return how the services of the compose file are built, brought up, and down again; None where none is built here."""
    path = next((context.folder / name for name in COMPOSE_FILES if (context.folder / name).is_file()), None)
    if path is None:
        return None
    try:
        services = as_yaml(open_manifest(path, context.root)).get("services")
    except ManifestFault:
        return None
    if services is None or not any(service.get("build") for _, service in services.items()):
        return None
    compose = _compose(context.environment)
    ports = tuple(port for _, service in services.items() for port in _published(service))
    source = context.source(path)
    tool = compose or ("docker", "compose")
    run = RunPlan(
        name="compose",
        command=(*tool, "up"),
        folder=context.folder,
        source=source,
        kind="server" if ports else None,
        port=ports[0] if ports else None,
        published=ports,
        afterwards=(*tool, "down", "-t", _BRINGS_DOWN_WITHIN),
        lacks=None if compose else _NO_ENGINE,
        rank=Rank.STARTS_ALL if compose or not projects_below(context.folder) else Rank.PROPOSAL,
    )
    build = PrepareStep(
        title="build images",
        command=(*tool, "build"),
        folder=context.folder,
        source=source,
        needed=f"{' '.join(tool)} knows what must be built" if compose else None,
        reason=_NO_ENGINE,
    )
    return Plan(prepare=(build,), runs=(run,))


def _compose(environment: dict[str, str]) -> tuple[str, ...] | None:
    """Return the command that brings up services here: of an engine that is at work first; None where there is none."""
    path, home = environment.get("PATH"), environment.get("HOME", "")

    def is_there(place: str) -> bool:
        return Path(place.replace("~", home)).exists()

    here = [name for name in ("docker", "docker-compose", "podman-compose", "podman") if shutil.which(name, path=path)]
    docker: tuple[str, ...] | None = None
    if "docker" in here and any(is_there(f"{place}/docker-compose") for place in _PLUGIN_PLACES):
        docker = ("docker", "compose")
    elif "docker-compose" in here:
        docker = ("docker-compose",)
    at_work = bool(environment.get("DOCKER_HOST")) or any(is_there(place) for place in _SOCKETS)
    podman = ("podman-compose",) if {"podman", "podman-compose"} <= {*here} else None
    return docker if docker and (at_work or podman is None) else podman


def _published(service: Yaml) -> Iterator[int]:
    """Yield the ports of this machine that a service's are published at."""
    listed = service.get("ports")
    for each in listed.each() if listed else ():
        named = each.text is None or ":" in each.text  # without one, the engine takes any
        if named and (port := published_port(each)):
            yield port
