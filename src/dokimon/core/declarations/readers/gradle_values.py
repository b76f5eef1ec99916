"""Values that a Gradle script takes from elsewhere: its own variables, properties, and the catalogue of versions.

They are looked up, never worked out: a script is not run.
"""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import msgspec

from dokimon.core.expressions import expression
from dokimon.core.reading.manifest import Manifest, ManifestFault, as_toml, open_manifest
from dokimon.core.reading.text import properties, without_block_comments

_VALUE = r"([\"']?[\w.-]{1,40}[\"']?)(?=\s*(?:[,;)\]}]|$|//))"
_VARIABLE = expression(
    rf"(?m)(?:^|[{{;(,])[ \t]*(?:(?:def|val|var|const[ \t]+val|int|String|Integer)[ \t]+|(?:project\.)?(?:ext|extra)\.)?"
    rf"([A-Za-z_]\w*)(?:[ \t]*:[ \t]*\w+\??)?[ \t]*=[ \t]*{_VALUE}"
)
_EXTRA = expression(rf"\b(?:extra|ext)(?:\[|\.set\()[\"'](\w+)[\"'](?:\][ \t]*=|,)[ \t]*{_VALUE}", re.MULTILINE)
_BY_EXTRA = expression(rf"\bval[ \t]+(\w+)[ \t]+by[ \t]+extra(?:\([ \t]*|[ \t]*\{{[ \t]*){_VALUE}", re.MULTILINE)
_CONVERTED = (
    r"(?:\.get\(\))?(?:\.(?:toInt|toInteger|toString|asInt|intValue)\(\)|\.majorVersion|[ \t]+as[ \t]+[Ii]nt(?:eger)?)*"
)
_REFERENCE = expression(
    r"(?P<text>[\"']?\$\{?(?:rootProject\.|project\.)?(?:ext\.|extra\.)?(?P<inside>[A-Za-z_]\w*)\}?[\"']?)"
    r"|(?P<called>(?:(?:rootProject|project|rootProject\.project|providers)\.)?(?:findProperty|property|gradleProperty|extra\.get)"
    r"\(\s*[\"'](?P<property>[\w.-]+)[\"']\s*\)(?:!!)?(?:\.get\(\))?)"
    r"|\blibs\.versions\.(?P<catalog>[\w.]+?)(?=\.get\(\)|[^\w.]|$)"
    r"|(?<![\w.\"'])(?:(?:rootProject|project)\.)?(?:(?:ext|extra)\.|(?:ext|extra)\[[\"'])?(?P<name>[A-Za-z_]\w*)(?:[\"']\])?"
)
_SPEAKS = expression(
    r"JavaLanguageVersion|[jJ](?:vm|dk)Toolchain|Compatibility|jvmTarget|release|[cC]ompileSdk|buildTools|ndkVersion|minSdk"
    r"|JavaVersion|version|classpath"
)
_DEEPEST = 6
_QUOTES = "\"'"


def filled_in(manifest: Manifest) -> Manifest:
    """Return the script with the values of the names it uses, where the checkout says them plainly; lines stay."""
    if not _SPEAKS.search(manifest.text):
        return manifest
    known, catalog = _names(manifest), _catalog(manifest)
    if not known and not catalog:
        return manifest
    lines = [
        _line(line, known, catalog) if len(line) < 400 and _SPEAKS.search(line) else line
        for line in manifest.text.split("\n")
    ]
    return msgspec.structs.replace(manifest, text="\n".join(lines))


def _line(line: str, known: dict[str, str], catalog: dict[str, str]) -> str:
    def value(found: re.Match[str]) -> str:
        rest = line[found.end() :]
        if found["catalog"]:
            return catalog.get(re.sub(r"[-_.]", ".", found["catalog"]).lower(), found[0])
        name = found["inside"] or found["property"] or found["name"]
        is_named = found["name"] and (not line[: found.start()].strip() or re.match(r"\s*(?:=(?!=)|\()", rest))
        if is_named or name not in known:  # what is given a value, or called, is no use of it
            return found[0]
        if found["text"] and not re.fullmatch(r"([\"']).*\1", found["text"]):  # a part of a longer text
            before, after = found["text"][: found["text"].index("$")], found["text"][-1:]
            return f"{before}{known[name].strip(_QUOTES)}{after if after in _QUOTES else ''}"
        return known[name]

    text = _REFERENCE.sub(value, line)
    return re.sub(rf"([\"']?\d+(?:\.\d+)*[\"']?){_CONVERTED}", r"\1", text)


def _names(manifest: Manifest) -> dict[str, str]:
    """Return the names that have one plain value: in the script, in those above it, and in gradle.properties."""
    known: dict[str, str] = {}
    folder, scripts = manifest.path.parent, [manifest]
    for _ in range(_DEEPEST):
        for name in ("build.gradle", "build.gradle.kts"):
            if folder != manifest.path.parent:
                scripts += _opened(folder / name, manifest.root)
        for each in _opened(folder / "gradle.properties", manifest.root):
            for name, (value, _) in properties(each).items():
                known.setdefault(name, value if re.fullmatch(r"[\w.-]{1,40}", value) else "")
        if folder == manifest.root or manifest.root not in folder.parents:
            break
        folder = folder.parent
    for script in reversed(scripts):
        text = script.text if script is manifest else without_block_comments(script).text
        for pattern in (_VARIABLE, _EXTRA, _BY_EXTRA):
            known |= {found[1]: found[2] for found in pattern.finditer(text[:200_000])}
    return {name: value for name, value in known.items() if re.search(r"\d", value)}


def _catalog(manifest: Manifest) -> dict[str, str]:
    """Return the versions of the nearest `gradle/libs.versions.toml`, by their names with dots, in small letters."""
    folder = manifest.path.parent
    for _ in range(_DEEPEST):
        for each in _opened(folder / "gradle/libs.versions.toml", manifest.root):
            try:
                versions = as_toml(each).get("versions")
            except (ManifestFault, tomllib.TOMLDecodeError):
                return {}
            given = versions.items() if isinstance(versions, dict) else ()
            return {re.sub(r"[-_.]", ".", name).lower(): value for name, value in given if isinstance(value, str)}
        if folder == manifest.root or manifest.root not in folder.parents:
            break
        folder = folder.parent
    return {}


def _opened(path: Path, root: Path) -> list[Manifest]:
    try:
        return [open_manifest(path, root)]
    except ManifestFault:
        return []
