"""Advice of container files: what an image is built from, the services of compose files, devcontainers."""

from __future__ import annotations

import re
from collections.abc import Mapping

from msgspec.structs import replace

from dokimon.core.declarations.readers.images import filled, of_image, of_service, of_versions
from dokimon.core.declarations.requirement import Requirement, any_version
from dokimon.core.declarations.subjects import ServiceSubject
from dokimon.core.reading.manifest import Manifest, ManifestFault, as_json, open_manifest
from dokimon.core.reading.text import matches
from dokimon.core.reading.yaml import Yaml, as_yaml
from dokimon.core.text import clean


def read_dockerfile(manifest: Manifest) -> list[Requirement]:
    """Read the images that a container file starts from, with its ARGs filled in."""
    found: list[Requirement] = []
    known = _arguments_of_devcontainer(manifest)
    stages: set[str] = set()
    for match, line in matches(manifest, r"(?i)^[ \t]*(ARG|FROM)[ \t]+(\S.*)$"):
        words = [word for word in match[2].split() if not word.startswith("--")]
        if match[1].upper() == "ARG":
            name, _, value = match[2].partition("=")
            if value and name.strip() not in known:
                known[name.strip()] = value.strip().strip("\"'")
        elif words and words[0].lower() not in stages:
            found += of_image(filled(words[0], known), manifest.source(line), "the container is built from it")
        if match[1].upper() == "FROM" and len(words) > 2 and words[1].lower() == "as":
            stages.add(words[2].lower())
    return found


def read_compose(manifest: Manifest) -> list[Requirement]:
    """Read a compose file: the services that it would start are what the project talks to (compose-spec, "services").

    A service with a published port is looked for there; one that is built from the checkout is the project itself.
    """
    services = as_yaml(manifest).get("services")
    found: list[Requirement] = []
    for name, service in services.items() if services else ():
        if not service.get("build"):
            found += (_started_by(need, name) for need in service_of(service, {}, manifest))
    return found


def _started_by(need: Requirement, name: str) -> Requirement:
    return replace(need, container=clean(name, 80)) if isinstance(need.subject, ServiceSubject) else need


def service_of(service: Yaml, known: Mapping[str, str], manifest: Manifest) -> list[Requirement]:
    """Return the service that an entry of a compose file or a workflow starts, or the tool that its image brings."""
    image = service if service.text else service.get("image")
    if image is None or not image.text:
        return []
    ports = service.get("ports")
    published = next((port for each in (ports.each() if ports else ()) if (port := published_port(each))), None)
    text = filled(image.text, known)
    found = of_service(text, published, manifest.source(image.line), "the project's container files start it")
    return found or of_image(text, manifest.source(image.line), "the project's container files use it")


def published_port(port: Yaml) -> int | None:
    """Return the port on this machine (`"5433:5432"`, `127.0.0.1:5433:5432`, the long form)."""
    long = port.get("published")
    text = (long.text if long else port.text) or ""
    text = re.sub(r"\$\{\w+:?-([^}]*)\}", r"\1", text)
    found = re.fullmatch(
        r"(?:\d+(?:\.\d+){3}:|\[[\d:a-f]+\]:)?(\d{1,5})(?:-\d+)?(?::\d+(?:-\d+)?)?(?:/\w+)?", text[:200]
    )
    return int(found[1]) if found and int(found[1]) < 65536 else None


_FEATURES = {"node": "node", "python": "python", "java": "java", "go": "go", "rust": "rustc", "ruby": "ruby", "php": "php",
    "dotnet": "dotnet", "terraform": "terraform", "deno": "deno", "bun": "bun"}  # fmt: skip


def read_devcontainer(manifest: Manifest) -> list[Requirement]:
    """Read the image and the features of a devcontainer.json (containers.dev, "Dev Container metadata reference")."""
    data = as_json(manifest, comments=True)
    found: list[Requirement] = []
    image = data.get("image")
    if isinstance(image, str):
        found += of_image(image, manifest.json_source("image"), "the development container has it")
    features = data.get("features")
    for name, options in features.items() if isinstance(features, dict) else ():
        tool = _FEATURES.get(name.partition("@")[0].rpartition("/")[2].partition(":")[0])
        version = options.get("version") if isinstance(options, dict) else options
        source = manifest.json_source("features", name)
        if tool and isinstance(version, str) and version not in ("latest", "none", "os-provided"):
            found += of_versions(tool, [version], source, "the development container has it")
        elif tool:
            found.append(any_version(tool, source, "the development container has it", strength="advised"))
    return found


def _arguments_of_devcontainer(manifest: Manifest) -> dict[str, str]:
    """Return the arguments that the devcontainer.json beside a container file gives it (`build.args`)."""
    if "devcontainer.json" not in manifest.beside:
        return {}
    try:
        build = as_json(open_manifest(manifest.path.with_name("devcontainer.json"), manifest.root), comments=True).get(
            "build"
        )
    except ManifestFault:
        return {}
    given = build.get("args") if isinstance(build, dict) else None
    return {name: value for name, value in given.items() if isinstance(value, str)} if isinstance(given, dict) else {}
