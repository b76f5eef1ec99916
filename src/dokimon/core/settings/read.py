"""`dokimon.toml`: its text in, the settings or everything that is wrong with them out."""

from __future__ import annotations

from typing import Any

import msgspec

from dokimon.core.reading.manifest import Manifest, ManifestFault, as_toml
from dokimon.core.reading.toml_lines import toml_line
from dokimon.core.settings.model import NeedTable, PrepareTable, ProjectTable, RunTable, Settings, ToolTable
from dokimon.core.settings.tables import Problem, SettingsFault, TableReader

_TABLES: dict[str, type[msgspec.Struct]] = {
    "need": NeedTable, "tool": ToolTable, "prepare": PrepareTable, "run": RunTable,
}  # fmt: skip


def read_settings(manifest: Manifest) -> Settings:
    """Return the settings that the text holds; raises `SettingsFault` with everything that is wrong in it."""
    try:
        data = as_toml(manifest)
    except ManifestFault as wrong:
        raise SettingsFault(manifest.name, [Problem(wrong.line, wrong.reason)]) from None
    reader = TableReader(manifest.text)
    reader.unknown_keys(data, ["format", "project", *_TABLES, "smoke"], (), "dokimon.toml")
    if data.get("format") != 1:
        line = toml_line(manifest.text, ("format",)) if "format" in data else 1
        reader.problem_at(line, "the file must say `format = 1`, the only format that this Dokimon reads")
    project = reader.table(data.get("project", {}), ProjectTable, ("project",), "[project]") or ProjectTable()
    tables: dict[str, list[Any]] = {
        name: reader.array(data.get(name, []), kind, name) for name, kind in _TABLES.items()
    }
    tables["smoke"] = []
    if data.get("smoke"):
        from dokimon.core.settings.checks import read_checks

        tables["smoke"] = read_checks(data["smoke"], reader)
    if not reader.problems:
        from dokimon.core.settings.meaning import check_meaning

        check_meaning(project, tables, reader)
    if reader.problems:
        raise SettingsFault(manifest.name, reader.problems)
    lines = {name: [toml_line(manifest.text, (name, i)) for i in range(len(tables[name]))] for name in tables}
    return Settings(format=1, project=project, **tables, lines=lines)
