"""PHP: the platform requirements of `composer.json`, and `.php-version`."""

from __future__ import annotations

from typing import Any

import msgspec

from dokimon.core.declarations.requirement import Requirement, Strength, any_version, fact, requirement, unreadable
from dokimon.core.declarations.shapes import misfits
from dokimon.core.reading.json_places import Keys
from dokimon.core.reading.manifest import Manifest, as_json
from dokimon.core.reading.text import version_line
from dokimon.core.versions.faults import VersionFault

_SHAPE = {
    "config": "table",
    "config.platform": "table",
    "config.platform.*": "text or true or false",
    "conflict": "table",
    "conflict.*": "text",
}


def read_composer(manifest: Manifest) -> list[Requirement]:
    """Read `require` and `require-dev` for what Composer calls platform packages, and `config.platform`."""
    package = as_json(manifest)
    found: list[Requirement] = []
    # A plain `composer install` takes in the packages for development too, and checks the platform for them.
    tables: tuple[tuple[str, Strength], ...] = (("require", "required"), ("require-dev", "required"))
    for table, strength in tables:
        given = package.get(table, {})
        if not isinstance(given, dict):
            source = manifest.json_source(table)
            found.append(unreadable("php", source, f'"{table}" must be an object such as {{"php": "^8.1"}}'))
            continue
        for name, wanted in given.items():
            found += _platform_package(manifest, (table, name), name, wanted, strength)
    if not any(each.tool == "php" and not each.component for each in found):
        found.insert(0, any_version("php", manifest.source(1), "a composer.json is PHP's"))
    if not any(each.tool == "composer" for each in found):
        found.append(any_version("composer", manifest.source(1), "it installs what composer.json names"))
    found += _conflicts(manifest, package)
    found += _refused_by_simulation(found, package)
    return [*found, *misfits(manifest, package, _SHAPE, "php"), *_simulated(manifest, package)]


def _conflicts(manifest: Manifest, package: dict[str, Any]) -> list[Requirement]:
    """`conflict` names versions that must not be there: of PHP and its extensions, those are left out."""
    given = package.get("conflict")
    found = []
    for name, wanted in given.items() if isinstance(given, dict) else ():
        if name == "php" and isinstance(wanted, str):
            source = manifest.json_source("conflict", name)
            refused = requirement("php", wanted, "composer", source, why="composer.json says that it conflicts")
            if refused.constraint:
                allowed = msgspec.structs.replace(refused.constraint, versions=~refused.constraint.versions, rule=None)
                refused = msgspec.structs.replace(refused, constraint=allowed, wanted=f"not {wanted}")
            found.append(refused)
    return found


def _refused_by_simulation(found: list[Requirement], package: dict[str, Any]) -> list[Requirement]:
    """What `config.platform` makes Composer assume and `require` does not accept fails on every machine."""
    config = package.get("config")
    platform = config.get("platform") if isinstance(config, dict) else None
    wrong = []
    for each in found:
        name = each.component or each.tool
        assumed = platform.get(name) if isinstance(platform, dict) else None
        if assumed is False and each.strength == "required":
            says = f"config.platform hides {name}, which this asks for: Composer fails everywhere"
            wrong.append(unreadable(each.tool, each.source, says, each.component))
        if isinstance(assumed, str) and each.strength == "required" and each.constraint:
            try:
                fits = each.constraint.admits(assumed)
            except VersionFault:
                continue
            if not fits:
                says = (
                    f"config.platform assumes {name} {assumed}, which this does not accept: Composer fails everywhere"
                )
                wrong.append(unreadable(each.tool, each.source, says))
    return wrong


def _platform_package(manifest: Manifest, keys: Keys, name: str, wanted: Any, strength: Strength) -> list[Requirement]:
    """Return what a platform package asks for (getcomposer.org, "Platform packages"); an ordinary package nothing."""
    known = {"php": ("php", None), "php-64bit": ("php", "64bit"), "php-zts": ("php", "zts")}
    known |= {"composer-runtime-api": ("composer", "runtime-api"), "composer-plugin-api": ("composer", "plugin-api")}
    known["composer"] = ("composer", None)
    if name in known:
        tool, component = known[name]
    elif name.startswith(("ext-", "lib-")):
        tool, component = "php", name
    else:
        return []
    source = manifest.json_source(*keys)
    if not isinstance(wanted, str):
        return [unreadable(tool, source, f'"{name}" must be text such as "^8.1"')]
    found = requirement(tool, wanted, "composer", source, strength=strength, component=component)
    if name == "php-64bit" and not found.fault:  # the version is PHP's own, and PHP must be a 64-bit one
        return [requirement("php", wanted, "composer", source, strength=strength), found]
    return [found]


def _simulated(manifest: Manifest, package: dict[str, Any]) -> list[Requirement]:
    """`config.platform` makes Composer assume versions that the machine may not have: reported as a fact."""
    config = package.get("config")
    platform = config.get("platform") if isinstance(config, dict) else None
    found = []
    for name, value in platform.items() if isinstance(platform, dict) else ():
        source = manifest.json_source("config", "platform", name)
        found.append(fact(f"simulated {name}", str(value), source))
    return found


def read_version_file(manifest: Manifest) -> list[Requirement]:
    """Read `.php-version`: a version, or the beginning of one."""
    wanted, line = version_line(manifest)
    return [requirement("php", wanted.removeprefix("php-"), "plain", manifest.source(line))]
