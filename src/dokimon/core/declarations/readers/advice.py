"""Advice: the versions that the checkout's own CI, container files, and README name. They never fail by themselves."""

from __future__ import annotations

import re
from collections.abc import Iterator

from dokimon.core.declarations.requirement import Requirement, requirement
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import matches
from dokimon.core.reading.yaml import Yaml, as_yaml
from dokimon.core.source import Source

_SETUPS = {
    "node-version": "node", "python-version": "python", "java-version": "java", "go-version": "go",
    "ruby-version": "ruby", "php-version": "php", "dotnet-version": "dotnet", "elixir-version": "elixir",
    "flutter-version": "flutter",
}  # fmt: skip
"""The inputs that give the usual set-up steps a version."""

_IMAGES = {
    "node": "node", "python": "python", "golang": "go", "ruby": "ruby", "php": "php", "openjdk": "java",
    "eclipse-temurin": "java", "amazoncorretto": "java", "maven": "maven", "gradle": "gradle", "rust": "rustc",
    "composer": "composer", "elixir": "elixir", "swift": "swift", "dart": "dart", "dotnet/sdk": "dotnet",
    "oven/bun": "bun", "denoland/deno": "deno",
}  # fmt: skip
"""Container images that bring a tool whose version their tag names."""

_NAMES = {
    "node": "node", "node.js": "node", "nodejs": "node", "npm": "npm", "yarn": "yarn", "pnpm": "pnpm", "python": "python",
    "ruby": "ruby", "php": "php", "go": "go", "golang": "go", "java": "java", "jdk": "java", "rust": "rustc",
    "cmake": "cmake", "maven": "maven", "gradle": "gradle", "elixir": "elixir", "swift": "swift", "dart": "dart",
    "flutter": "flutter", "composer": "composer", "bun": "bun", "deno": "deno",
}  # fmt: skip
_ALTERNATIVES = "|".join(sorted((re.escape(name) for name in _NAMES), key=len, reverse=True))
_PREREQUISITE = (
    rf"(?i)\b({_ALTERNATIVES})\b[\s*_`\](]*(?:version\s+|v(?=\d)|is\s+)?(>=|≥|>|\^|~)?\s*"
    r"v?(\d+(?:\.\d+){0,2})(?:\.x)?\s*(\+|or (?:newer|later|higher|above|greater)|and (?:up|above))?"
)
_HEADING = re.compile(r"(?i)prerequisite|requirement|you (?:will )?need|before you (?:start|begin)|dependencies")


def _advised(tool: str, versions: list[str], source: Source, why: str) -> list[Requirement]:
    """Return one piece of advice for all these versions together; what is not a version is skipped."""
    plain = [re.sub(r"\.[xX*]$", "", version.strip().removeprefix("v")) for version in versions]
    numbers = [version for version in plain if re.fullmatch(r"\d+(\.\d+){0,3}", version)]
    if not numbers:
        return []
    return [requirement(tool, " or ".join(dict.fromkeys(numbers)), "plain", source, strength="advised", why=why)]


def read_workflow(manifest: Manifest) -> list[Requirement]:
    """Read a GitHub workflow: the versions that its set-up steps get, from the job's matrix where they are there."""
    found: list[Requirement] = []
    jobs = as_yaml(manifest).get("jobs")
    for _, job in jobs.items() if jobs else ():
        matrix = job.get("strategy", "matrix")
        steps = job.get("steps")
        for step in steps.each() if steps else ():
            inputs = step.get("with")
            for name, value in inputs.items() if inputs else ():
                if tool := _SETUPS.get(name):
                    source = manifest.source(value.line)
                    found += _advised(tool, list(_versions(value, matrix)), source, "the CI uses it")
    return found


def _versions(value: Yaml, matrix: Yaml | None) -> Iterator[str]:
    texts = [value.text] if value.text else [each.text for each in value.each()]
    for text in texts:
        named = re.fullmatch(r"\$\{\{\s*matrix\.([\w-]+)\s*\}\}", text or "")
        if named and matrix:
            given = matrix.get(named[1])
            yield from (each.text for each in given.each() if each.text) if given else ()
            includes = matrix.get("include")
            for entry in includes.each() if includes else ():
                listed = entry.get(named[1])
                if listed and listed.text:
                    yield listed.text
        else:
            yield from (text or "").split()


def read_gitlab(manifest: Manifest) -> list[Requirement]:
    """Read `image` of the whole pipeline and of each job."""
    root = as_yaml(manifest)
    found: list[Requirement] = []
    for _, value in [("", root), *root.items()]:
        image = value.get("image")
        named = image and (image if image.text else image.get("name"))
        if image and named and named.text:
            found += _of_image(named.text, manifest.source(image.line), "the CI runs in it")
    return found


def read_dockerfile(manifest: Manifest) -> list[Requirement]:
    """Read the images that a container file starts from."""
    found: list[Requirement] = []
    for match, line in matches(manifest, r"(?i)^\s*FROM\s+(?:--platform=\S+\s+)?(\S+)"):
        found += _of_image(match[1], manifest.source(line), "the container is built from it")
    return found


def _of_image(image: str, source: Source, why: str) -> list[Requirement]:
    name, _, tag = image.partition("@")[0].rpartition(":")
    short = re.sub(r"^(?:[\w.-]+\.[a-z]+(?::\d+)?/)?(?:library/)?", "", name)
    tool, version = _IMAGES.get(short), re.match(r"\d+(?:\.\d+){0,2}", tag)
    return _advised(tool, [version[0]], source, why) if tool and version else []


def read_readme(manifest: Manifest) -> list[Requirement]:
    """Read what a README names below a heading such as "Prerequisites"."""
    found: dict[str, Requirement] = {}
    speaks, fenced = False, False
    below_heading = set()
    for number, text in enumerate(manifest.text.splitlines(), start=1):
        fenced ^= text.lstrip().startswith(("```", "~~~"))
        if not fenced and re.match(r"#{1,6}\s|\*\*[^*]+\*\*\s*$", text):
            speaks = bool(_HEADING.search(text))
        if speaks and not fenced:
            below_heading.add(number)
    for match, line in matches(manifest, _PREREQUISITE, comment=""):
        if line not in below_heading:
            continue
        tool = _NAMES[match[1].lower()]
        least = match[2] in (">=", "≥", ">") or match[4]
        wanted = f">={match[3]}" if least else match[3]
        why = "the README asks for it"
        found.setdefault(tool, requirement(tool, wanted, "plain", manifest.source(line), strength="advised", why=why))
    return list(found.values())
