"""The JSON Schema (2020-12) of `dokimon.toml`, by which editors complete and check it: it ships beside this file."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.checks.registry import KINDS
from dokimon.core.report.as_json import described
from dokimon.core.settings.model import Settings

SCHEMA_FILE = Path(__file__).parent / "dokimon-toml-1.schema.json"

_OUR_OWN = "lines"
"""What `Settings` holds beside what the file says."""


def schema() -> dict[str, Any]:
    """Return the JSON Schema of the file, made from the types that it is read into; unknown keys are not allowed."""
    types = [Settings, *(kind.type for kind in KINDS)]
    _, kinds = msgspec.json.schema_components(types, ref_template="#/$defs/{name}")
    del kinds["Settings"]["properties"][_OUR_OWN]
    kinds["Settings"]["properties"]["format"] = {"const": 1}
    kinds["Settings"]["required"] = ["format"]
    for kind in kinds.values():
        if "properties" in kind:
            kind["additionalProperties"] = False
    kinds["RunTable"]["anyOf"] = [{"required": ["command"]}, {"required": ["serial"]}]
    kinds["Settings"]["properties"]["smoke"]["items"] = _smoke()
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "dokimon.toml (format 1)",
        "$ref": "#/$defs/Settings",
        "$defs": described(kinds),
    }


def _smoke() -> dict[str, Any]:
    """Return the schema of a `[[smoke]]`: which kind it is shows in its keys, looked at in the order of `KINDS`."""
    smoke: dict[str, Any] = {"not": {}}
    for kind in reversed(KINDS):
        has = {"anyOf": [{"required": [key]} for key in kind.keys]}
        smoke = {"if": has, "then": {"$ref": f"#/$defs/{kind.type_name}"}, "else": smoke}
    return smoke


def write_schema() -> None:
    """Write the schema that the package ships: `python -m dokimon.core.settings.schema`."""
    SCHEMA_FILE.write_text(json.dumps(schema(), indent=2) + "\n", "utf-8")


if __name__ == "__main__":
    write_schema()
