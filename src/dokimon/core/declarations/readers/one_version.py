"""Files that name the versions of one tool in one place (`one_version.toml`): Terraform, Zig, Julia, Perl, Lua …"""

from __future__ import annotations

import re
import tomllib
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.declarations.requirement import Requirement, any_version, brought, requirement, unreadable
from dokimon.core.declarations.shapes import misfits
from dokimon.core.reading.manifest import Manifest, as_toml
from dokimon.core.reading.text import matches, version_line
from dokimon.core.reading.toml_lines import toml_line


@cache
def _entries() -> list[dict[str, Any]]:
    needs: list[dict[str, Any]] = tomllib.loads(Path(__file__).with_name("one_version.toml").read_text("utf-8"))["need"]
    return needs


def read_one(manifest: Manifest) -> list[Requirement]:
    """Read what the entries for this file look for; the first place that a pattern matches counts."""
    name = manifest.path.name
    found: list[Requirement] = []
    for entry in _entries():
        pattern = entry["file"].rpartition("/")[2]
        if pattern != name and not (pattern.startswith("*") and name.endswith(pattern[1:])):
            continue
        if (other := entry.get("unless")) and (manifest.path.parent / other).is_file():
            continue
        if entry.get("top") and manifest.path.parent != manifest.root:
            continue
        need = _first(manifest, entry)
        said = "when" not in entry or re.search(entry["when"], manifest.text[:_LONGEST_LOOK], re.MULTILINE)
        if need is None and entry.get("needed") and said:
            need = any_version(entry["tool"], manifest.source(1), f"a {name} is its own")
        if need:
            found.append(need)
    return found


_LONGEST_LOOK = 100_000


def _first(manifest: Manifest, entry: dict[str, Any]) -> Requirement | None:
    if "pattern" in entry:
        comment = "#" if manifest.path.suffix in (".tf", ".yml", ".nimble") else ""
        found = matches(manifest, entry["pattern"], comment)
        places = [(next(filter(None, match.groups())), line) for match, line in found]
    elif entry.get("needed"):
        return None
    else:
        places = [version_line(manifest)]
    if not places:
        spoken = matches(manifest, entry["speaks"]) if "speaks" in entry else ()
        says = f'the versions of {entry["tool"]} must be text such as "1.9"'
        return next((unreadable(entry["tool"], manifest.source(line), says) for _, line in spoken), None)
    text, line = places[0]
    source = manifest.source(line)
    if "pattern" not in entry and not re.match(r"v?\d", text):
        return any_version(entry["tool"], source, f"the version file says {text[:60]}")
    language, wanted = entry.get("language", "plain"), entry.get("wanted", "{}").format(text.strip().removeprefix("v"))
    if language in _WRITTEN:
        language, wanted = _WRITTEN[language](wanted)
    need = requirement(entry["tool"], wanted, language, source)
    if entry.get("as") == "fact":
        return brought(msgspec.structs.replace(need, why="the project's own tools bring it"))
    return msgspec.structs.replace(need, strength="advised") if entry.get("as") == "advice" else need


def read_julia(manifest: Manifest) -> list[Requirement]:
    """Read `julia` below `[compat]`: a version alone is a caret range, a comma means or (pkgdocs.julialang.org,
    "Compatibility").
    """
    data = as_toml(manifest)
    compat = data.get("compat")
    wanted = compat.get("julia") if isinstance(compat, dict) else None
    if not isinstance(wanted, str):
        return misfits(manifest, data, {"compat": "table", "compat.julia": "text"}, "julia")
    parts = [part.strip() for part in wanted.split(",")]
    parts = [f"^{part}" if re.fullmatch(r"\d[\d.]*", part) else part for part in parts]
    text = " || ".join(part.removeprefix("=").replace("≥", ">=") for part in parts)
    return [requirement("julia", text, "npm", manifest.source(toml_line(manifest.text, ("compat", "julia"))))]


def _as_perl(text: str) -> tuple[str, str]:
    """`5.008001` is 5.8.1, a number with three digits for each part (perldoc version)."""
    whole, _, fraction = text.replace("_", "").partition(".")
    if "." not in fraction and len(fraction) >= 3:
        padded = fraction.ljust(-(-len(fraction) // 3) * 3, "0")
        parts = [str(int(padded[at : at + 3])) for at in range(0, len(padded), 3)]
        return "plain", f">={'.'.join([whole, *parts])}"
    return "plain", f">={text}"


_WRITTEN = {"perl": _as_perl}
"""How versions are written that no constraint language of its own is kept for."""
