"""The commands that installing a Python project makes, read from its files."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from dokimon.core.planning.plan import PlanContext
from dokimon.core.reading.manifest import ManifestFault, as_toml, open_manifest
from dokimon.core.reading.toml_lines import toml_line
from dokimon.core.source import Source

_TABLES = (
    ("project", "scripts"),
    ("project", "gui-scripts"),
    ("tool", "poetry", "scripts"),
    ("tool", "flit", "scripts"),
)
_COMMAND = r"([A-Za-z0-9][\w.-]*)\s*=\s*[\w.]+\s*:\s*[\w.]+"


def entry_points(context: PlanContext) -> Iterator[tuple[str, Source]]:
    """Yield the name and the source of each command of `pyproject.toml`, `setup.cfg` and `setup.py`."""
    try:
        manifest = open_manifest(context.folder / "pyproject.toml", context.root)
        data: Any = as_toml(manifest)
    except ManifestFault:
        data = {}
    for keys in _TABLES:
        table = data
        for key in keys:
            table = table.get(key) if isinstance(table, dict) else None
        for name in table if isinstance(table, dict) else ():
            yield str(name), manifest.source(toml_line(manifest.text, (*keys, name)))
    for file, pattern in (("setup.cfg", rf"(?m)^[ \t]+{_COMMAND}\s*$"), ("setup.py", rf"[\"']{_COMMAND}\s*[\"']")):
        try:
            text = open_manifest(context.folder / file, context.root).text
        except ManifestFault:
            continue
        start = re.search(r"console_scripts|gui_scripts", text)
        if start is None:
            continue
        section = re.split(r"\n\[", text[start.end() :], maxsplit=1)[0][:4000]
        for found in re.finditer(pattern, section):
            line = text.count("\n", 0, start.end() + found.start(1)) + 1
            yield found[1], context.source(context.folder / file, line, found[0].strip())
