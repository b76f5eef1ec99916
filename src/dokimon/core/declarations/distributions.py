"""Versions as version managers name them: of the tool itself, or of another distribution that implements its language.

`temurin-17.0.9+9` is Java 17.0.9, `graalvm-22.3.1+java17` is Java 17, `zulu-17.46.19` counts in a way of its own;
`jruby-9.4.5.0` is no version of CRuby, `pypy3.10-7.3.12` none of CPython.
"""

from __future__ import annotations

import re

from dokimon.core.declarations.requirement import Requirement, any_version, requirement, unreadable
from dokimon.core.expressions import expression
from dokimon.core.source import Source
from dokimon.core.text import clean

NAMES = {
    "nodejs": "node", "golang": "go", "rust": "rustc", "dotnet-core": "dotnet", "dotnetcore": "dotnet", "openjdk": "java",
    "python3": "python", "jdk": "java", "kotlinc": "kotlin", "postgresql": "postgres",
}  # fmt: skip
"""What plug-ins of version managers call tools that go by another name here."""

_OF_RUBY = {
    "jruby": {"9.4": "3.1", "9.3": "2.6", "9.2": "2.5", "10.0": "3.4"},
    "truffleruby": {"24": "3.2", "23": "3.2", "22": "3.0", "25": "3.3"},
    "mruby": {}, "rbx": {}, "rubinius": {}, "picoruby": {}, "artichoke": {},
}  # fmt: skip
"""Other implementations of Ruby, and which Ruby their versions implement (jruby.org; TruffleRuby's changelog)."""

_OF_PYTHON = ("pypy", "graalpy", "miniconda", "anaconda", "miniforge", "mambaforge", "stackless", "ironpython", "jython",
    "micropython", "pyston", "cinder", "nogil", "activepython")  # fmt: skip

_NOT_CHOSEN = expression(r"(?:system|latest|default|global)(?::.*)?$")
_ELSEWHERE = expression(r"(?:path|ref|branch|tag|prefix|sub-\d*|file|git):")


def version_need(tool: str, names: list[str], source: Source, why: str | None = None) -> list[Requirement]:
    """Return what a version file's names of versions ask for: the first counts, or any of the others as a fallback.

    `system` and `latest` accept every version; a path or a reference of git says nothing about versions.
    """
    names = [each for each in names if each]
    if any(_NOT_CHOSEN.match(each) for each in names):
        return [any_version(tool, source, why or f"the version file says {clean(names[0], 40)}")]
    names = [each for each in names if not _ELSEWHERE.match(each)] or names
    if not names:
        return []
    if _ELSEWHERE.match(names[0]):
        return [any_version(tool, source, why or f"the version file takes it from {clean(names[0], 60)}")]
    needs = [_one(tool, each, source, why) for each in names]
    if tool == "elixir" and (otp := re.search(r"-otp-?(\d+)$", names[0])):
        reason = f"this Elixir was built for Erlang/OTP {otp[1]}"
        return [needs[0], requirement("erlang", f">={otp[1]}", "plain", source, why=reason)]
    if len(needs) == 1 or any(each.fault or each.tool != needs[0].tool for each in needs):
        return needs[:1]
    wanted = " or ".join(each.wanted for each in needs)
    return [requirement(needs[0].tool, wanted, "plain", source, component=needs[0].component, why=needs[0].why)]


def _one(tool: str, name: str, source: Source, why: str | None) -> Requirement:
    special = {"java": _java, "ruby": _ruby, "python": _python, "elixir": _elixir, "dotnet": _dotnet, "node": _node}
    return special.get(tool, _plain)(tool, name, source, why)


def _plain(tool: str, name: str, source: Source, why: str | None) -> Requirement:
    version = re.sub(r"^(?:v|go|[a-z]+(?:64)?-)(?=\d)", "", name)
    if tool == "rustc" and re.fullmatch(r"(?:stable|beta|nightly)(?:-[\d-]+)?", name):
        return any_version(tool, source, why or f"the version file picks {name}")
    if tool == "flutter":
        version = re.sub(r"-(?:stable|beta|dev|master)$", "", version)
    if not re.fullmatch(r"\d[\w.+~-]*", version, re.ASCII):
        return unreadable(tool, source, f"{clean(name, 60)!r} is not a version that is known here")
    return requirement(tool, version.partition("+")[0], "plain", source, why=why)


def _node(tool: str, name: str, source: Source, why: str | None) -> Requirement:
    return requirement(tool, name.removeprefix("node-"), "node-version-file", source, why=why)


def _dotnet(tool: str, name: str, source: Source, why: str | None) -> Requirement:
    found = re.match(r"\d+(\.\d+){0,2}(-[\w.]+)?", name)
    if not found:
        return unreadable(tool, source, f"{clean(name, 60)!r} is not a version of the .NET SDK")
    return requirement(tool, found[0], "plain", source, component="sdk", why=why)


def _elixir(tool: str, name: str, source: Source, why: str | None) -> Requirement:
    version = re.sub(r"-otp-?\d+$", "", name.removeprefix("v"))
    return _plain(tool, version, source, why)


_OF_MANDREL = {"21": "11", "22": "17", "23.0": "17", "23.1": "21", "24.0": "22", "24.1": "23", "24.2": "24", "25": "25"}
"""Which Java a line of Mandrel is (its releases)."""


_LONGEST_NAME = 200


def _java(tool: str, name: str, source: Source, why: str | None) -> Requirement:
    name = name[:_LONGEST_NAME]
    name = re.sub(r"^(?:\d+\.)+r(\d+)(?:-[a-z]+)?$", r"\1", name)  # `22.3.r17`: GraalVM 22.3 for Java 17
    bare = re.fullmatch(r"(?:1\.)?(\d+)((?:\.\d+)*)(?:_\d+)?(?:\+[\w.]+)?(?:-[\w.+-]+)?", name)
    if bare:
        distribution, version = "", bare[1] + ("" if name.startswith("1.") else bare[2])
    elif found := re.fullmatch(r"([A-Za-z][\w-]*?)-(?:jre-|jdk-|javafx-|crac-|openj9-|musl-|r)*v?(\d[\w.+-]*)", name):
        distribution, version = found[1], found[2]
        if of_java := re.search(r"\+?java(\d+)", version) or re.search(r"(?:-|^)r(?:\d+\.)+java(\d+)", name):
            version = of_java[1]
        elif distribution.startswith("zulu") and re.match(r"\d+\.\d+\.\d+", version):
            version = version.partition(".")[0]  # Zulu numbers its builds in a way of its own
        elif distribution in ("corretto", "amazon-corretto", "dragonwell") and version.count(".") > 3:
            version = ".".join(version.split(".")[:3])
        elif distribution == "mandrel":
            version = next((java for line, java in _OF_MANDREL.items() if version.startswith(line)), version)
        version = re.sub(r"^1\.(\d+)(?:\.0)?.*", r"\1", version)
    else:
        return unreadable(tool, source, f"{clean(name, 60)!r} is not a version of Java")
    plain = re.match(r"\d+(?:\.\d+){0,3}", version)
    reason = why or (f"of the distribution {clean(distribution, 40)}" if distribution else None)
    return requirement(tool, plain[0] if plain else version, "plain", source, why=reason)


def _ruby(tool: str, name: str, source: Source, why: str | None) -> Requirement:
    name = name.partition("@")[0]  # a gemset
    other = re.fullmatch(r"([a-z]+(?:\+[a-z]+)?)-?(\d[\w.+-]*)?", name)
    if other and other[1].partition("+")[0] in _OF_RUBY:
        named = other[1].partition("+")[0]
        language = next((ruby for line, ruby in _OF_RUBY[named].items() if (other[2] or "").startswith(line)), None)
        reason = why or (f"an implementation of Ruby {language}" if language else "an implementation of Ruby")
        if not other[2]:
            return any_version(named, source, reason)
        return requirement(named, other[2], "plain", source, why=reason)
    found = re.fullmatch(r"(?:c?ruby-?|mri-)?(\d+(?:\.\d+){0,2})(?:-?(p\d+)|-?((?:preview|rc|dev)\d*))?", name)
    if not found:
        return unreadable(tool, source, f"{clean(name, 60)!r} is not a version of CRuby such as 3.3.1")
    wanted = f"{found[1]}-{found[3]}" if found[3] and found[3] != "dev" else found[1]
    return requirement(tool, wanted, "plain", source, why=why)


def _python(tool: str, name: str, source: Source, why: str | None) -> Requirement:
    other = re.fullmatch(r"([a-z]+?)(\d+\.\d+)?-?(\d[\w.]*|latest|dev)?(?:-.*)?", name)
    if other and other[1] in _OF_PYTHON:
        implements = re.match(r"\d+\.\d+", other[2] or "")
        reason = why or (
            f"an implementation of Python {implements[0]}" if implements else "an implementation of Python"
        )
        if not other[3] or not other[3][0].isdecimal():
            return any_version(other[1], source, reason)
        return requirement(other[1], other[3], "plain", source, why=reason)
    named = re.fullmatch(r"(?:c?python[-@]?)?(\d+(?:\.\d+){0,2})((?:a|b|rc)\d+|-dev|t)?", name, re.ASCII)
    if not named:
        says = f"{clean(name, 60)!r} is not a version of CPython such as 3.12 or 3.12.4"
        return unreadable(tool, source, says)
    pre_release = "" if named[2] in (None, "-dev", "t") else named[2]
    exact = named[1].count(".") == 2 or pre_release
    text = f"=={named[1]}{pre_release}" if exact else f"=={named[1]}.*"
    return requirement(tool, text, "pep440", source, why=why)
