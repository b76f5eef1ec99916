"""The README: what it names below a heading such as "Prerequisites" is advice."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cache
from typing import NamedTuple

import msgspec

from dokimon.core.declarations.readers.compilers import standard
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
    "python3": "python", "cargo": "cargo", "msrv": "rustc", "g++": "g++", "clang++": "clang++", "make": "make",
    "gnu make": "make", "postgresql": "postgres", "postgres": "postgres", "mysql": "mysql", "mariadb": "mariadb",
    "mongodb": "mongodb", "redis": "redis", "openssl": "openssl", "esp-idf": "esp-idf", "xcode": "xcode", "nginx": "nginx",
    "openjdk jdk": "java", "java runtime": "java", "cocoapods": "pod", "sqlite": "sqlite", "kubectl": "kubectl",
}  # fmt: skip
_ANY_NAME = "|".join(sorted((re.escape(name) for name in _NAMES), key=len, reverse=True))
_VERSION = r"(?:v|go)?(?P<{}>\d+(?:\.\d+){{0,2}})(?:\.x)?"
_TOOL = rf"(?i)(?<![\w./@-])(?P<name>{_ANY_NAME})(?![\w/-])(?!\.\w)"
_BETWEEN = r"[\s*_`:|()\[\],@–—-]{0,8}(?:\((?:jdk|lts|sdk)\)\s*)?(?:(?:minimum|min|required|supported)\s+)?"
_WORDS = (
    r"(?:(?:lts|sdk|jdk|runtime|version|versions|ver\.?|release|is|at|of|with|toolchain|compiler|interpreter|server|database)"
    r"[\s:*_`(]*){0,4}v?"
)
_LEAST = r"(?P<least>>=|≥|=>|at least|minimum(?: of)?|min\.?|from|newer than|between|>)?[\s`*_]*"
_MOST = r"(?P<most><=|≤|<|below|older than|up to|before)?(?P<exact>~>|[~^]|={1,3})?[\s`*_]*"
_AFTER = (
    r"[\s`*_]*(?P<more>\+|\(?or (?:newer|later|higher|above|greater|more|up)\)?|and (?:up|above|newer|later|higher|onwards?)"
    r"|or higher|upwards|\(minimum\)|minimum|LTS\+)?"
)
_RANGE = rf"(?:\s*(?:-|–|—|to|through)\s*{_VERSION.format('upto')})?"
_VALUE = rf"(?i){_BETWEEN}{_WORDS}{_LEAST}{_MOST}\s*{_VERSION.format('version')}(?: update \d+)?{_RANGE}{_AFTER}"
_SECOND = rf"(?i)[\s,]*(?:and|,|&&)?\s*(?P<most><=|≤|<|below)\s*{_VERSION.format('upto')}"
_MINIMUM_BEFORE = r"(?i)(?:minimum|min\.?|at least|oldest|>=|≥)\s*(?:supported\s+)?(?:version of\s+)?$"
_LIST = (
    r"(?i)(?:\s*(?:,\s*or|,\s*and|,|/|\bor\b|\band\b|&)\s*v?\d+(?:\.\d+){0,2}(?:\.x)?)+"
    r"(?=\s*(?:$|[,;.)/|]|\(|(?:or|and|are|is|only|LTS)\b))"
)
_MORE_RANGES = r"(?i)(?:\s*(?:,|/|\|\||\bor\b)+\s*(?:or\s*)?(?:[~^]|>=)\s*v?\d+(?:\.\d+){0,2})+"
_BETWEEN_TWO = r"(?i)\s*and\s*v?(?P<upto>\d+(?:\.\d+){0,2})"
_NOT_MEANT = (
    r"(?i)no longer (?:supports?|supported|works?)|not (?:compatible|supported|work)"
    r"|(?:doesn't|does not|don't|won't|cannot) (?:work|support|run)"
    r"|unsupported|do not use|don't use|avoid |anything but|deprecated|"
    r"dropped|drops? support|removed|end[ -]of[ -]life|was |used to|incompatible|instead of"
)
_ASIDE = rf"(?i)\([^()\n]{{0,200}}?(?:{_NOT_MEANT.removeprefix('(?i)')})[^()\n]{{0,200}}\)"
_HEADING = (
    r"(?i)prerequisit|pre-requisit|requirement|you(?:'ll| will)? (?:will )?need|before (?:you|we) (?:start|begin)|dependenc"
    r"|requires|system needs|needed|what you need|supported versions|environment"
)


_LARGEST = 200_000
_MOST_LINES = 10_000
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
    for line in _lines(manifest):
        text = _plain(line.text)
        if not any(char.isdecimal() for char in text):
            continue
        source, why = manifest.source(line.number), "the README asks for it"
        for clause in _compiled(r";|\.\s|,\s+(?:but|use)\b").split(text):
            if _compiled(_NOT_MEANT).search(clause):
                continue
            for tool, wanted, language in _in_line(clause):
                component = "sdk" if tool == "dotnet" else None
                need = requirement(tool, wanted, language, source, strength="advised", component=component, why=why)
                if not need.fault:
                    found.setdefault(tool, need)
            for named in _compiled(r"(?<!\w)C\+\+(\d\d)\b").finditer(clause):
                for need in standard("CXX", named[1], source):
                    found.setdefault(need.label, msgspec.structs.replace(need, strength="advised", why=why))
    return list(found.values())


def _plain(text: str) -> str:
    """Return a line without its markup, without what is struck out, and without what parentheses say of other versions."""
    text = re.sub(r"\[([^\]\n]{1,200})\]\([^)\n]{0,300}\)|\[([^\]\n]{1,200})\]\[[^\]\n]{0,100}\]", r"\1\2", text)
    text = re.sub(r"~~[^~\n]{0,200}~~|<[^<>\n]{0,200}>|[®™]", " ", text)
    text = re.sub(r"`|\*\*|__|(?<!\w)_(?=\w)|(?<=\w)_(?!\w)", "", text.replace("&nbsp;", " ").replace("\u00a0", " "))
    return re.sub(
        rf"\([^()\n]{{0,200}}?(?:{_NOT_MEANT.removeprefix('(?i)')})[^()\n]{{0,200}}\)", " ", text, flags=re.I
    )[:600]


_LANGUAGES = {"~>": "gem", "~": "npm", "^": "npm"}


def _in_line(text: str) -> Iterator[tuple[str, str, str]]:
    """Yield the tools of a line, the versions wanted of each, and the language in which they are written."""
    for named in _compiled(_TOOL).finditer(text):
        value = _compiled(_VALUE).match(text, named.end())
        if value is None:
            continue
        rest = text[value.end() :]
        if _compiled(_COUNTS).match(rest):
            continue
        if named["name"].lower() in ("go", "make") and not named["name"].istitle():
            continue  # the verb
        tool, version = _NAMES[named["name"].lower()], value["version"]
        if tool == "java":
            version = re.sub(r"^1\.([5-9])$", r"\1", version)
        wanted = _wanted(value, version, text[: named.start()], rest)
        yield tool, wanted, _LANGUAGES.get(value["exact"] or "", "plain") if wanted.startswith(("~", "^")) else "plain"


_COUNTS = (
    r"(?i)\s*(?:folders?|times|days?|minutes?|hours?|seconds?|files?|GB|MB|%|\.\d|levels?|steps?|ways?|cores?|CPUs?)\b"
)


def _wanted(value: re.Match[str], version: str, before: str, rest: str) -> str:
    if value["most"]:
        return ("<" if value["most"] in ("<", "below", "older than", "before") else "<=") + version
    if value["upto"]:
        return f">={version}, <={value['upto']}"
    if (value["least"] or "").lower() == "between" and (second := _compiled(_BETWEEN_TWO).match(rest)):
        return f">={version}, <={second['upto']}"
    asked = ":" in value[0] and before.lower().rstrip().endswith("requires")  # the head of a plug-in's readme
    if asked or value["least"] or value["more"] or _compiled(_MINIMUM_BEFORE).search(before):
        second = _compiled(_SECOND).match(rest)
        least = f"{'>' if value['least'] in ('>', 'newer than') else '>='}{version}"
        return f"{least}, {second['most'].replace('≤', '<=')}{second['upto']}" if second else least
    if value["exact"] and not value["exact"].startswith("="):
        others = _compiled(_MORE_RANGES).match(rest)
        ranges = re.findall(r"(?:[~^]|>=)\s*v?\d+(?:\.\d+){0,2}", others[0]) if others else []
        return " || ".join([f"{value['exact']}{version}", *ranges])
    if more := _compiled(_LIST).match(rest):
        return " or ".join(dict.fromkeys([version, *re.findall(r"\d+(?:\.\d+){0,2}", more[0])]))
    return version


_UNDERLINE = r"^(?:=+|-+|~+|\^+|\"+|\*+)\s*$"


_ASKS = r"(?i)\b(?:requires?|required(?! (?:for|by|to|only))|needs?|you(?:'ll| will)? need|must have|prerequisites?)\b"
_OF_A_PART = (
    r"(?i)\b(?:feature|options?|benchmarks?|tests?|running|method|property|flag|api|plugins?|only when|only if|if you want"
    r"|versions? of|older|i\.e\.|e\.g\.)\b|^[ \t]*[-*] `"
)
"""What a part of the project asks for, or a way to use it, is no need of the whole."""

_OF_THE_PAST = (
    r"(?i)change ?log|history|release|what's new|migrat|upgrad|roadmap|to ?do|licen[cs]e|faq|troubleshoot|usage"
)


def _lines(manifest: Manifest) -> Iterator[_Line]:
    """Yield the lines that ask for something: those below a heading that speaks of prerequisites, and below a line such as
    "You need:", sentences that say "requires" elsewhere. Of code, only lines that compare versions.
    """
    text = re.sub(
        r"<!--.*?(?:-->|\Z)", lambda found: "\n" * found[0].count("\n"), manifest.text[:_LARGEST], flags=re.DOTALL
    )
    level, speaks, past, listed = 0, False, False, False
    for number, line, following, is_code in _told_apart(text.split("\n")[:_MOST_LINES]):
        stripped = line.strip()
        if is_code:
            if speaks and _compiled(r"[\w.-]+\s*(?:>=|<=|~>|==)\s*v?\d[\w.]*").fullmatch(stripped):
                yield _Line(number, line)
            continue
        heading = _heading(line, following)
        if heading:
            depth, title = heading
            past = bool(_compiled(_OF_THE_PAST).search(title))
            if not speaks or depth <= level:
                speaks, level = bool(_compiled(_HEADING).search(title)), depth
        elif (
            stripped.endswith(":")
            and _compiled(_HEADING).search(stripped)
            and not any(char.isdecimal() for char in stripped)
        ):
            listed = True
            continue
        elif listed and stripped and not re.match(r"\s+|[-*+•|]|\d+[.)]\s", line):
            listed = False
        in_prose = not (past or heading) and _compiled(_ASKS).search(line) and not _compiled(_OF_A_PART).search(line)
        asks = speaks or listed or in_prose
        if asks and (not heading or _compiled(_VALUE).search(line)):
            yield _Line(number, line)


def _told_apart(lines: list[str]) -> Iterator[tuple[int, str, str, bool]]:
    """Yield the lines with their number, the one that follows, and whether it stands in a block of code."""
    fence = ""
    for index, line in enumerate(lines):
        stripped = line.strip()
        marker = re.match(r"(```+|~~~+)", stripped)
        if marker and (not fence or stripped.startswith(fence)):
            fence = "" if fence else marker[1]
            continue
        yield index + 1, line, lines[index + 1] if index + 1 < len(lines) else "", bool(fence)


def _heading(line: str, following: str) -> tuple[int, str] | None:
    """Return the depth and the title of a heading, or None."""
    stripped = line.strip()
    if found := re.match(r"(#{1,6})\s+(.+)", stripped):
        return len(found[1]), found[2]
    if found := re.fullmatch(r"(={1,5})\s+(.+?)(?:\s+=+)?", stripped):  # AsciiDoc
        return len(found[1]), found[2]
    if found := re.fullmatch(r"<h([1-6])[^>]*>(.+?)</h[1-6]>", stripped):
        return int(found[1]), found[2]
    underlined = _compiled(_UNDERLINE).match(following) and len(following.strip()) >= 3
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
