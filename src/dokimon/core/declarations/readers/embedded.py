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


def read_sdkconfig(manifest: Manifest) -> list[Requirement]:
    """Read the choices that a boot log shows again: facts, not needs."""
    found = []
    for match, line in matches(manifest, r"^CONFIG_([A-Z0-9_]+)=\"?([^\"]*)\"?$", comment=""):
        if match[1] in _FACTS and match[2] not in ("", "n"):
            found.append(fact(_FACTS[match[1]], match[2], manifest.source(line)))
    return found


def read_platformio(manifest: Manifest) -> list[Requirement]:
    """Read the platform of each environment, with the versions behind its `@`."""
    as_ini(manifest)
    found = [any_version("platformio", manifest.source(1), "a platformio.ini is its own")]
    for match, line in matches(manifest, r"^\s*platform\s*=\s*([\w./:-]+?)\s*(?:@\s*(\S[^;]*?))?\s*$", comment=";"):
        name, wanted, source = match[1], match[2], manifest.source(line)
        if re.match(r"https?:|file:|symlink:", name):
            continue
        if wanted:
            need = requirement("platformio", wanted, "npm", source, component=f"platform {name}")
            found.append(beside_others(need))  # each environment has its own
        else:
            found.append(any_version("platformio", source, component=f"platform {name}"))
    return found
