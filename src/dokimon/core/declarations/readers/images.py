"""Container images: the tool or the service that each brings, and its version. Others' images are others."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.declarations.distributions import version_need
from dokimon.core.declarations.requirement import Requirement, requirement, service_need
from dokimon.core.source import Source
from dokimon.core.versions.languages.node_version_file import LTS_LINES, NEWEST_LTS


@cache
def names() -> dict[str, dict[str, Any]]:
    """Return the tables of `images.toml`."""
    return tomllib.loads(Path(__file__).with_name("images.toml").read_text("utf-8"))


_TWO_IN_ONE = {"maven": "maven", "gradle": "gradle"}
"""Images that bring a build tool, and a JDK that the tag names too (`3.9-eclipse-temurin-17`)."""

_REGISTRIES = (
    "docker.io/",
    "mcr.microsoft.com/",
    "ghcr.io/",
    "quay.io/",
    "public.ecr.aws/docker/",
    "registry.hub.docker.com/",
    "container-registry.oracle.com/",
)
_OFFICIAL = ("docker.io/library/", "library/", "public.ecr.aws/docker/library/", "registry.hub.docker.com/library/")


def of_versions(tool: str, versions: list[str], source: Source, why: str) -> list[Requirement]:
    """Return one piece of advice for all these versions of a tool together; what is no version is skipped.

    `tool` may be followed by a component: `dotnet runtime`.
    """
    tool, _, component = tool.partition(" ")
    component = component or ("sdk" if tool == "dotnet" else "")
    given = [version.strip().strip("\"'").removeprefix("v") for version in versions]
    if tool == "node":
        return _of_node(given, source, why)
    if tool == "ruby" and len(given) == 1 and re.match(r"(?:jruby|truffleruby)-\d", given[0]):
        needs = version_need(tool, given, source, why)
        return [msgspec.structs.replace(each, strength="advised") for each in needs]
    plain = [re.sub(r"\.[xX*]$|-(?:dev|beta|ea|rc\d*)$", "", name) for name in given]
    if tool == "java":
        plain = [re.sub(r"^[a-z]+(?:[-@:]|-openjdk-)", "", re.sub(r"^1\.8$", "8", each)) for each in plain]
    if any(re.match(r"[\^~<>=]", each) for each in plain):
        text = " or ".join(each.replace(" ", ", ") for each in plain if each)
        language = "npm" if "^" in text or "~" in text else "plain"
        need = requirement(tool, text, language, source, strength="advised", why=why)
        return [] if need.fault else [need]
    numbers = [version for version in plain if re.fullmatch(r"\d+(\.\d+){0,3}", version)]
    if not numbers:
        return []
    text = " or ".join(dict.fromkeys(numbers))
    return [requirement(tool, text, "plain", source, strength="advised", why=why, component=component or None)]


def _of_node(given: list[str], source: Source, why: str) -> list[Requirement]:
    lines = {"lts/*": str(NEWEST_LTS), "lts": str(NEWEST_LTS), **dict.fromkeys(("latest", "current", "node"), "*")}
    lines |= {name: str(number) for name, number in LTS_LINES.items()}
    wanted = " || ".join(dict.fromkeys(lines.get(each.lower(), each) for each in given if each))
    if not wanted or wanted == "*":
        return []
    language = "node-version-file" if re.fullmatch(r"lts/[\w*-]+", wanted) else "npm"
    need = requirement("node", wanted, language, source, strength="advised", why=why)
    return [] if need.fault else [need]


def of_image(image: str, source: Source, why: str) -> list[Requirement]:
    """Return what a container image brings: the tool that its tag names a version of."""
    name, tag = _name_and_tag(image)
    version = re.match(r"\d+(?:\.\d+){0,2}", tag.removeprefix("1-") if name.startswith("devcontainers/") else tag)
    if name in _TWO_IN_ONE:
        found = of_versions(_TWO_IN_ONE[name], [version[0]], source, why) if version else []
        jdk = re.search(r"(?:jdk|temurin|openjdk|corretto|zulu|jre|sapmachine|semeru)-?(?:[a-z]+-)?(\d+)", tag)
        return [*found, *(of_versions("java", [jdk[1]], source, why) if jdk else [])]
    tool = names()["images"].get(name)
    if tool == "node" and not version:
        return _of_node([tag.partition("-")[0]], source, why)
    if tool is None or version is None:
        return []
    found = of_versions(tool, [version[0]], source, why)
    if tool == "elixir" and (otp := re.search(r"(?:otp|erlang)-(\d+(?:\.\d+)*)", tag)):
        found += of_versions("erlang", [otp[1]], source, why)
    return found


def of_images(images: list[str], source: Source, why: str) -> list[Requirement]:
    """Return what several images of one job bring (a matrix): the versions of one tool together as one piece of advice."""
    by_tool: dict[str, list[Requirement]] = {}
    for image in images:
        for need in of_image(image, source, why):
            by_tool.setdefault(need.label, []).append(need)
    found = []
    for label, needs in by_tool.items():
        found += needs if len(needs) == 1 else of_versions(label, [each.wanted for each in needs], source, why)
    return found


def of_service(image: str, published: int | None, source: Source, why: str) -> list[Requirement]:
    """Return the service that an image is, on its published port or on its usual one; none for other images."""
    name, tag = _name_and_tag(image)
    known = names()["services"].get(name)
    if known is None:
        return []
    version = re.match(r"\d+(?:\.\d+){0,2}", tag)
    need = service_need(known[0], version[0] if version else None, "127.0.0.1", published or known[1], source)
    return [msgspec.structs.replace(need, strength="advised", why=why)]


def _name_and_tag(image: str) -> tuple[str, str]:
    """Return the name of an image without the registry that everybody uses, and its tag. Others' images are others."""
    name, _, tag = image.partition("@")[0].rpartition(":")
    if not name or "/" in tag:
        name, tag = image.partition("@")[0], ""
    for official in _OFFICIAL:
        name = name.removeprefix(official)
    for registry in _REGISTRIES:
        name = name.removeprefix(registry)
    return name, tag


def filled(text: str, known: Mapping[str, str]) -> str:
    """Return a text with `$NAME`, `${NAME}` and `${NAME:-default}` filled in where the value is known."""

    def value(found: re.Match[str]) -> str:
        return known.get(found[1] or found[3]) or found[2] or found[0]

    return re.sub(r"\$\{(\w+)(?::?-([^}]*))?\}|\$(\w+)", value, text)[:2000]
