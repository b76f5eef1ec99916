"""`$(…)` in files of MSBuild: properties and property functions (learn.microsoft.com, "Property functions").

What only MSBuild or the SDK knows stays as it is written: `$(` in a text says that it is not known.
"""

from __future__ import annotations

import os
import posixpath
import sys
from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec

from dokimon.core.expressions import expression

_DEEPEST, _LONGEST = 12, 20_000
"""Of expressions inside each other, and of a text that comes out: none that a person wrote needs more."""

SYSTEM = {"win32": "windows", "darwin": "osx"}.get(sys.platform, "linux")
"""The system as MSBuild names it."""

_OF_THE_SDK = expression(
    r"(?i)^(?:netcoresdk|netcoreapp|bundled|latest|nuget|msbuild|visualstudio|vstools|dotnethost|restore|netstandardimplicit)"
)
"""Properties that the SDK or MSBuild sets to what is not known here."""


class Scope(msgspec.Struct):
    """What an expression may ask: the properties so far by their names in small letters, the file, the project, the root."""

    values: dict[str, str]
    file: Path
    project: Path
    root: Path

    def property(self, name: str) -> str | None:
        """Return the value of a property; empty where nothing has set it, None where only the SDK knows."""
        small = name.lower()
        if small in self.values:
            return self.values[small]
        if small in _OF_FILES:
            return _OF_FILES[small](self.file if small.startswith("msbuildthis") else self.project)
        return None if _OF_THE_SDK.match(name) else ""


def _folder(path: Path) -> str:
    return f"{path.parent}/"


_OF_FILES: Mapping[str, Callable[[Path], str]] = {
    "msbuildthisfiledirectory": _folder,
    "msbuildthisfile": lambda path: path.name,
    "msbuildthisfilename": lambda path: path.stem,
    "msbuildthisfilefullpath": str,
    "msbuildprojectdirectory": lambda path: str(path.parent),
    "msbuildprojectfile": lambda path: path.name,
    "msbuildprojectname": lambda path: path.stem,
    "msbuildprojectextension": lambda path: path.suffix,
    "msbuildprojectfullpath": str,
}


def is_known(text: str) -> bool:
    """Whether nothing in a text is left to be worked out."""
    return "$(" not in text


def expand(text: str, scope: Scope, depth: int = 0) -> str:
    """Return a text with all that is known put in."""
    if "$(" not in text:
        return text
    parts, at = [], 0
    while (begin := text.find("$(", at)) >= 0:
        end = _closing(text, begin + 2)
        if end < 0:
            break
        body = text[begin + 2 : end]
        value = _value(body.strip(), scope, depth) if depth < _DEEPEST else None
        parts += [text[at:begin], f"$({body})" if value is None else value]
        at = end + 1
    return "".join([*parts, text[at:]])[:_LONGEST]


def _closing(text: str, at: int) -> int:
    """Return the place of the bracket that closes one that was opened before `at`; -1 where there is none."""
    depth, quote = 1, ""
    for place in range(at, len(text)):
        letter = text[place]
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"`":
            quote = letter
        elif letter == "(":
            depth += 1
        elif letter == ")":
            depth -= 1
            if not depth:
                return place
    return -1


_NAME = expression(r"[A-Za-z_][\w-]*")
_STATIC = expression(r"\[([\w.]+)\]::(\w+)")
_MEMBER = expression(r"\.(\w+)")


def _value(body: str, scope: Scope, depth: int) -> str | None:
    """Return the value of what stands in the brackets; None where it is not known."""
    if static := _STATIC.match(body):
        arguments, rest = _arguments(body[static.end() :], scope, depth)
        if arguments is None:
            return None
        value = _called(f"{static[1]}::{static[2]}".lower(), arguments, scope)
    elif name := _NAME.match(body):
        value, rest = scope.property(name[0]), body[name.end() :]
    else:
        return None
    while value is not None and rest.strip():
        member = _MEMBER.match(rest.strip())
        if member is None:
            return None
        arguments, rest = _arguments(rest.strip()[member.end() :], scope, depth)
        value = None if arguments is None else _of_text(value, member[1].lower(), arguments)
        value = value and value[:_LONGEST]
    return value


def _arguments(text: str, scope: Scope, depth: int) -> tuple[list[str] | None, str]:
    """Return the arguments in brackets that a text begins with (None where one is not known), and what follows them."""
    if not text.startswith("("):
        return [], text
    end = _closing(text, 1)
    if end < 0:
        return None, ""
    found = [_unquoted(expand(each.strip(), scope, depth + 1)) for each in _split(text[1:end])]
    return (found if all(map(is_known, found)) else None), text[end + 1 :]


def _split(text: str) -> list[str]:
    """Return the parts between commas that no quotes and no brackets hold."""
    parts, depth, quote = [""], 0, ""
    for letter in text:
        if letter == "," and not depth and not quote:
            parts.append("")
            continue
        parts[-1] += letter
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"`":
            quote = letter
        else:
            depth += {"(": 1, ")": -1}.get(letter, 0)
    return parts if text.strip() else []


def _unquoted(text: str) -> str:
    return text[1:-1] if len(text) > 1 and text[0] == text[-1] and text[0] in "'\"`" else text


def _truth(value: bool) -> str:
    return "True" if value else "False"


_OF_TEXT: Mapping[str, Callable[..., str]] = {
    "startswith": lambda text, part, *_: _truth(text.startswith(part)),
    "endswith": lambda text, part, *_: _truth(text.endswith(part)),
    "contains": lambda text, part, *_: _truth(part in text),
    "equals": lambda text, other, *_: _truth(text == other),
    "replace": lambda text, old, new, *_: text.replace(old, new) if old else text,
    "tolower": lambda text: text.lower(),
    "toupper": lambda text: text.upper(),
    "tolowerinvariant": lambda text: text.lower(),
    "toupperinvariant": lambda text: text.upper(),
    "trim": lambda text, letters=None: text.strip(letters),
    "trimstart": lambda text, letters=None: text.lstrip(letters),
    "trimend": lambda text, letters=None: text.rstrip(letters),
    "length": lambda text: str(len(text)),
    "indexof": lambda text, part, *_: str(text.find(part)),
    "lastindexof": lambda text, part, *_: str(text.rfind(part)),
    "substring": lambda text, begin, length=None: (
        text[int(begin) :][: int(length)] if length is not None else text[int(begin) :]
    ),
    "tostring": lambda text, *_: text,
}


def _of_text(value: str, member: str, arguments: list[str]) -> str | None:
    """Return what a member of a text gives (learn.microsoft.com, "String Class"); None where it is not known."""
    function = _OF_TEXT.get(member)
    try:
        return function(value, *arguments) if function else None
    except (TypeError, ValueError):
        return None


_MONIKER = expression(r"(?i)(netcoreapp|netstandard|net)(\d[\d.]*)(?:-([a-z]+)([\d.]*))?")


def framework_parts(moniker: str) -> tuple[str, str, str]:
    """Return the identifier, the version and the platform of a target framework: `.NETCoreApp`, `8.0`, `windows`."""
    found = _MONIKER.fullmatch(moniker.strip())
    if not found:
        return "", "", ""
    kind, version, platform = found[1].lower(), found[2], (found[3] or "").lower()
    if "." not in version and kind == "net":  # net472, net50
        version = ".".join(version) if int(version[0]) < 5 else f"{version[0]}.{version[1:] or 0}"
    if kind == "net":
        kind = "netcoreapp" if int(version.partition(".")[0]) >= 5 else "netframework"
    return _IDENTIFIERS[kind], version, platform


_IDENTIFIERS = {"netstandard": ".NETStandard", "netcoreapp": ".NETCoreApp", "netframework": ".NETFramework"}


def _numbers(version: str) -> tuple[int, ...]:
    parts = [int(part) for part in version.lstrip("vV").partition("-")[0].split(".")]
    while parts and not parts[-1]:
        parts.pop()
    return tuple(parts)


def _is_compatible(target: str, candidate: str) -> bool:
    """Whether a target framework may use another one (learn.microsoft.com, "Target frameworks in SDK-style projects")."""
    kind, version, platform = framework_parts(target)
    other, its_version, its_platform = framework_parts(candidate)
    if kind != other or (its_platform and platform != its_platform):
        return False
    return _numbers(version) >= _numbers(its_version)


def _file_above(name: str, begin: str, scope: Scope) -> str:
    """Return the nearest file of a name from a folder upward, within the checkout; empty where there is none."""
    folder = Path(os.path.normpath(scope.file.parent / begin.replace("\\", "/")))
    while folder.is_relative_to(scope.root):
        path = Path(os.path.normpath(folder / name))
        if path.is_relative_to(scope.root) and path.is_file():
            return str(path)
        folder = folder.parent
    return ""


def _is_platform(name: str) -> str:
    names = {"macos": "osx", "osx": "osx", "unix": SYSTEM if SYSTEM != "windows" else "unix"}
    return _truth(names.get(name.lower(), name.lower()) == SYSTEM)


def _joined(*parts: str) -> str:
    return posixpath.join(*(part.replace("\\", "/") for part in parts)) if parts else ""


def _compared(test: Callable[[tuple[int, ...], tuple[int, ...]], bool]) -> Callable[..., str]:
    return lambda a, b: _truth(test(_numbers(a), _numbers(b)))


_STATICS: Mapping[str, Callable[..., str]] = {
    "msbuild::isosplatform": _is_platform,
    "msbuild::isosunixlike": lambda: _truth(SYSTEM != "windows"),
    "system.operatingsystem::iswindows": lambda: _is_platform("windows"),
    "system.operatingsystem::islinux": lambda: _is_platform("linux"),
    "system.operatingsystem::ismacos": lambda: _is_platform("osx"),
    "system.runtime.interopservices.osplatform::linux": lambda: "linux",
    "system.runtime.interopservices.osplatform::windows": lambda: "windows",
    "system.runtime.interopservices.osplatform::osx": lambda: "osx",
    "system.runtime.interopservices.runtimeinformation::isosplatform": _is_platform,
    "msbuild::versionequals": _compared(lambda a, b: a == b),
    "msbuild::versionnotequals": _compared(lambda a, b: a != b),
    "msbuild::versiongreaterthan": _compared(lambda a, b: a > b),
    "msbuild::versiongreaterthanorequals": _compared(lambda a, b: a >= b),
    "msbuild::versionlessthan": _compared(lambda a, b: a < b),
    "msbuild::versionlessthanorequals": _compared(lambda a, b: a <= b),
    "msbuild::gettargetframeworkidentifier": lambda moniker: framework_parts(moniker)[0],
    "msbuild::gettargetframeworkversion": lambda moniker, *_: framework_parts(moniker)[1],
    "msbuild::gettargetplatformidentifier": lambda moniker: framework_parts(moniker)[2],
    "msbuild::istargetframeworkcompatible": lambda target, other: _truth(_is_compatible(target, other)),
    "msbuild::valueordefault": lambda value, other: value or other,
    "msbuild::ensuretrailingslash": lambda path: path if path.endswith("/") or not path else f"{path}/",
    "msbuild::normalizepath": lambda *parts: posixpath.normpath(_joined(*parts)),
    "msbuild::normalizedirectory": lambda *parts: f"{posixpath.normpath(_joined(*parts))}/",
    "system.io.path::combine": _joined,
    "system.io.path::getfullpath": posixpath.normpath,
    "system.io.path::getfilename": lambda path: posixpath.basename(_joined(path)),
    "system.io.path::getfilenamewithoutextension": lambda path: Path(_joined(path)).stem,
    "system.io.path::getdirectoryname": lambda path: posixpath.dirname(_joined(path)),
    "system.io.path::getextension": lambda path: Path(path).suffix,
    "system.string::isnullorempty": lambda text: _truth(not text),
    "system.string::isnullorwhitespace": lambda text: _truth(not text.strip()),
    "system.string::concat": lambda *parts: "".join(parts),
    "system.string::copy": lambda text: text,
    "system.string::new": lambda text: text,
    "system.environment::getenvironmentvariable": lambda _: "",
    "msbuild::add": lambda a, b: str(int(a) + int(b)),
    "msbuild::subtract": lambda a, b: str(int(a) - int(b)),
}


def _called(name: str, arguments: list[str], scope: Scope) -> str | None:
    """Return what a function gives; None where it is none of those that are known."""
    if name == "msbuild::getpathoffileabove" and arguments:
        return _file_above(arguments[0], (*arguments[1:], ".")[0], scope)
    if name == "msbuild::getdirectorynameoffileabove":
        found = _file_above(arguments[1], arguments[0], scope) if len(arguments) == 2 else ""
        return str(Path(found).parent) if found else ""
    function = _STATICS.get(name)
    try:
        return function(*arguments) if function else None
    except (TypeError, ValueError, IndexError):
        return None
