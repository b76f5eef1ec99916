"""The README: what it names below a heading such as "Prerequisites" is advice."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cache
from typing import NamedTuple

from dokimon.core.declarations.requirement import Requirement, requirement
from dokimon.core.reading.manifest import Manifest

_NAMES = {
    "node": "node", "node.js": "node", "nodejs": "node", "npm": "npm", "yarn": "yarn", "pnpm": "pnpm", "python": "python",
    "ruby": "ruby", "php": "php", "go": "go", "golang": "go", "java": "java", "jdk": "java", "openjdk": "java",
    "java jdk": "java", "java development kit": "java", "java se": "java", "rust": "rustc", "rustc": "rustc",
    "cmake": "cmake", "maven": "maven", "apache maven": "maven", "gradle": "gradle", "elixir": "elixir", "swift": "swift",
    "dart": "dart", "flutter": "flutter", "composer": "composer", "bun": "bun", "deno": "deno", "erlang": "erlang",
    "erlang/otp": "erlang", "kotlin": "kotlin", "scala": "scala", "sbt": "sbt", "perl": "perl", "ghc": "ghc",
    ".net": "dotnet", ".net sdk": "dotnet", "dotnet": "dotnet", ".net core": "dotnet", ".net core sdk": "dotnet",
    "poetry": "poetry", "uv": "uv", "meson": "meson", "ninja": "ninja", "gcc": "gcc", "clang": "clang", "docker": "docker",
    "terraform": "terraform", "zig": "zig", "julia": "julia", "bundler": "bundler", "pip": "pip", "git": "git",
}  # fmt: skip
_ANY_NAME = "|".join(sorted((re.escape(name) for name in _NAMES), key=len, reverse=True))
_VERSION = r"v?(?P<{}>\d+(?:\.\d+){{0,2}})(?:\.x)?"
_TOOL = rf"(?i)(?<![\w./@-])(?P<name>{_ANY_NAME})(?![\w/-])(?!\.\w)"
_BETWEEN = r"[\s*_`:|()\[\],–—-]{0,8}(?:\((?:jdk|lts|sdk)\)\s*)?(?:(?:minimum|min|required|supported)\s+)?"
_WORDS = r"(?:(?:lts|sdk|jdk|runtime|version|versions|ver\.?|release|is|at|of|with)[\s:*_`]*){0,4}v?"
_LEAST = r"(?P<least>>=|≥|=>|at least|minimum(?: of)?|min\.?|from|newer than|>)?[\s`*_]*"
_MOST = r"(?P<most><=|≤|<|below|older than|up to|before)?[\s`*_]*"
_AFTER = (
    r"[\s`*_]*(?P<more>\+|\(?or (?:newer|later|higher|above|greater|more|up)\)?|and (?:up|above|newer|later|higher|onwards?)"
    r"|or higher|upwards|\(minimum\)|minimum|LTS\+)?"
)
_RANGE = rf"(?:\s*(?:-|–|—|to|through)\s*{_VERSION.format('upto')})?"
_VALUE = rf"(?i){_BETWEEN}{_WORDS}{_LEAST}{_MOST}\s*{_VERSION.format('version')}{_RANGE}{_AFTER}"
_SECOND = rf"(?i)[\s,]*(?:and|,|&&)?\s*(?P<most><=|≤|<|below)\s*{_VERSION.format('upto')}"
_MINIMUM_BEFORE = r"(?i)(?:minimum|min\.?|at least|oldest)\s*(?:supported\s+)?(?:version of\s+)?$"
_NOT_MEANT = (
    r"(?i)no longer (?:supported|works?)|not (?:compatible|supported|work)"
    r"|(?:doesn't|does not|don't|won't|cannot) (?:work|support|run)"
    r"|unsupported|deprecated|dropped|drops? support|removed|end[ -]of[ -]life|was |used to|incompatible|instead of"
)
_HEADING = re.compile(
    r"(?i)prerequisit|pre-requisit|requirement|you(?:'ll| will)? (?:will )?need|before (?:you|we) (?:start|begin)|dependenc"
    r"|requires|system needs|needed|what you need|supported versions|environment"
)


_LARGEST = 200_000
"""Characters of a README that are looked at."""


@cache
def _compiled(pattern: str) -> re.Pattern[str]:
    """Most READMEs have nothing to say: their patterns, which take a while, are compiled where one has."""
    return re.compile(pattern)


class _Line(NamedTuple):
    number: int
    text: str


def read_readme(manifest: Manifest) -> list[Requirement]:
    """Read the versions of tools below a heading of prerequisites, deeper headings included; the first of a tool counts.

    What is said to be unsupported, stands in a comment, or counts something else ("3 folders up") is left aside.
    """
    found: dict[str, Requirement] = {}
    for line in _below_heading(manifest):
        text = re.sub(
            r"\[([^\]\n]{1,200})\]\([^)\n]{0,300}\)|\[([^\]\n]{1,200})\]\[[^\]\n]{0,100}\]", r"\1\2", line.text
        )
        text = re.sub(r"`|\*\*|__", "", text)[:600]
        if not any(char.isdecimal() for char in text) or _compiled(_NOT_MEANT).search(text):
            continue
        for tool, wanted in _in_line(text):
            source = manifest.source(line.number)
            language = "plain"
            component = "sdk" if tool == "dotnet" else None
            need = requirement(
                tool, wanted, language, source, strength="advised", component=component, why="the README asks for it"
            )
            if not need.fault:
                found.setdefault(tool, need)
    return list(found.values())


def _in_line(text: str) -> Iterator[tuple[str, str]]:
    for named in _compiled(_TOOL).finditer(text):
        value = _compiled(_VALUE).match(text, named.end())
        if value is None:
            continue
        rest = text[value.end() :]
        if re.match(
            r"\s*(?:folders?|times|days?|minutes?|hours?|seconds?|files?|GB|MB|%|\.\d|levels?|steps?|ways?)\b", rest
        ):
            continue
        if named["name"].lower() == "go" and not named["name"].istitle() and named["name"] != "golang":
            continue  # the verb
        tool, version = _NAMES[named["name"].lower()], value["version"]
        if tool in ("java",) and version == "1.8":
            version = "8"
        minimum = value["least"] or value["more"] or _compiled(_MINIMUM_BEFORE).search(text[: named.start()])
        if value["most"]:
            yield tool, ("<" if value["most"] in ("<", "below", "older than", "before") else "<=") + version
        elif value["upto"]:
            yield tool, f">={version}, <={value['upto']}"
        elif minimum:
            second = _compiled(_SECOND).match(rest)
            strict = value["least"] in (">", "newer than")
            least = f"{'>' if strict else '>='}{version}"
            yield tool, f"{least}, {second['most'].replace('≤', '<=')}{second['upto']}" if second else least
        else:
            yield tool, version


_UNDERLINE = re.compile(r"^(?:=+|-+|~+|\^+|\"+|\*+)\s*$")


def _below_heading(manifest: Manifest) -> Iterator[_Line]:
    """Yield the lines below headings that speak of prerequisites: in Markdown (also underlined), reStructuredText, bold."""
    text = re.sub(
        r"<!--.*?(?:-->|\Z)", lambda found: "\n" * found[0].count("\n"), manifest.text[:_LARGEST], flags=re.DOTALL
    )
    lines = text.split("\n")
    level, speaks, fence = 0, False, ""
    for index, line in enumerate(lines):
        stripped = line.strip()
        marker = re.match(r"(```+|~~~+)", stripped)
        if marker and (not fence or stripped.startswith(fence)):
            fence = "" if fence else marker[1]
            continue
        if fence:
            continue
        heading = _heading(line, lines[index + 1] if index + 1 < len(lines) else "")
        if heading:
            depth, title = heading
            if not speaks or depth <= level:
                speaks, level = bool(_HEADING.search(title)), depth
        if speaks and (not heading or _compiled(_VALUE).search(line)):
            yield _Line(index + 1, line)


def _heading(line: str, following: str) -> tuple[int, str] | None:
    """Return the depth and the title of a heading, or None."""
    stripped = line.strip()
    if found := re.match(r"(#{1,6})\s+(.+)", stripped):
        return len(found[1]), found[2]
    if found := re.fullmatch(r"(={1,5})\s+(.+?)(?:\s+=+)?", stripped):  # AsciiDoc
        return len(found[1]), found[2]
    underlined = _UNDERLINE.match(following) and len(following.strip()) >= 3
    if (
        stripped
        and underlined
        and len(following.strip()) >= len(stripped) // 2
        and not stripped.startswith(("-", "*", "|"))
    ):
        return {"=": 1, "-": 2, "~": 3, "^": 4}.get(following[0], 5), stripped
    if found := re.fullmatch(r"\*\*([^*]+)\*\*:?", stripped):
        return 6, found[1]
    return None
