"""Firmware: the component manifest of ESP-IDF, what `sdkconfig` has settled on, the platforms of `platformio.ini`."""

from __future__ import annotations

import re

from dokimon.core.declarations.requirement import Requirement, any_version, beside_others, fact, requirement, unreadable
from dokimon.core.reading.manifest import Manifest
from dokimon.core.reading.text import as_ini, matches
from dokimon.core.reading.yaml import as_yaml

_FACTS = {
    "IDF_TARGET": "chip",
    "ESPTOOLPY_FLASHSIZE": "flash size",
    "ESPTOOLPY_FLASHFREQ": "flash frequency",
    "ESP_DEFAULT_CPU_FREQ_MHZ": "CPU clock in MHz",
    "ESP_CONSOLE_UART_BAUDRATE": "console speed in baud",
    "PARTITION_TABLE_FILENAME": "partition table",
}
"""The choices of `sdkconfig` that a look at the boot log can confirm."""


def read_component(manifest: Manifest) -> list[Requirement]:
    """Read the framework version that `dependencies.idf` names, alone or below `version`."""
    named = as_yaml(manifest).get("dependencies")
    if named and not named.is_mapping:
        return [
            unreadable("esp-idf", manifest.source(named.line), '"dependencies" must name versions, as idf: ">=5.1"')
        ]
    idf = named.get("idf") if named else None
    if idf is None:
        return []
    wanted = idf.text or (version.text if (version := idf.get("version")) else None)
    source = manifest.source(idf.line)
    if not wanted:
        return [unreadable("esp-idf", source, '"idf" must name versions such as ">=5.1"')]
    return [requirement("esp-idf", wanted, "poetry", source)]


def read_lock(manifest: Manifest) -> list[Requirement]:
    """Read `dependencies.lock`, which the component manager writes: the framework it was resolved for, and the chip."""
    root = as_yaml(manifest)
    idf, chip = root.get("dependencies", "idf", "version"), root.get("target")
    found = []
    if idf and idf.text and re.match(r"\d", idf.text):
        why = "the locked components were chosen for it"
        found.append(requirement("esp-idf", idf.text, "plain", manifest.source(idf.line), why=why))
    if chip and chip.text:
        found.append(fact(_FACTS["IDF_TARGET"], chip.text, manifest.source(chip.line)))
    return found


def read_sdkconfig(manifest: Manifest) -> list[Requirement]:
    """Read the choices that a boot log shows again: facts, not needs."""
    found = []
    for match, line in matches(manifest, r"^CONFIG_([A-Z0-9_]+)=\"?([^\"]*)\"?$", comment=""):
        if match[1] in _FACTS and match[2] not in ("", "n"):
            found.append(fact(_FACTS[match[1]], match[2], manifest.source(line)))
    return found


def read_platformio(manifest: Manifest) -> list[Requirement]:
    """Read the platform of each environment, with the versions behind its `@`; `${common.platform}` is filled in.

    A platform from elsewhere (`https://….git#v6.4.0`) goes by the last part of its address.
    """
    sections = as_ini(manifest)
    found = [any_version("platformio", manifest.source(1), "a platformio.ini is its own")]
    section, used = "", _used_sections(manifest)
    for match, line in matches(manifest, r"^[ \t]*(?:\[([^\]]+)\]|platform[ \t]*=[ \t]*(\S.*))$", comment=";"):
        section = match[1] or section
        if match[1] or (section not in used and section != "env" and not section.startswith("env:")):
            continue
        text = match[2].strip()
        for _ in range(4):
            text = re.sub(r"\$\{([\w:]+)\.(\w+)\}", lambda at: sections.get(at[1], at[2], fallback=at[0]), text)[:300]
        named = re.fullmatch(r"([\w./:~+-]+?)(?:\.git)?(?:#v?(\S+))?\s*(?:@\s*(\S.*))?", text)
        if named is None:
            continue
        name = named[1].rstrip("/").rpartition("/")[2].removeprefix("platform-") if "://" in named[1] else named[1]
        wanted = named[3] or (named[2] if named[2] and re.match(r"\d+(?:\.\d+){1,2}$", named[2]) else None)
        source, component = manifest.source(line), f"platform {name}"
        if wanted:
            need = requirement("platformio", wanted.strip(), "npm", source, component=component)
            found.append(beside_others(need))  # each environment has its own
        else:
            found.append(any_version("platformio", source, component=component))
    kinds = {(each.label, each.wanted): each for each in reversed(found)}
    return list(reversed(kinds.values()))


def _used_sections(manifest: Manifest) -> frozenset[str]:
    """Return the sections that environments take in whole."""
    extended = (match[1].split(",") for match, _ in matches(manifest, r"^[ \t]*extends\s*=\s*(\S.*?)\s*$", comment=";"))
    return frozenset(name.strip() for names in extended for name in names)
