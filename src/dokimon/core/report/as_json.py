"""The report as JSON, and the JSON Schema (2020-12) that every such report is valid against."""

from __future__ import annotations

import json
from inspect import cleandoc
from pathlib import Path
from typing import Any

import msgspec

from dokimon.core.report.model import FORMAT, Report

SCHEMA_FILE = Path(__file__).parent / "dokimon-report-1.schema.json"


def encode(report: Report) -> str:
    """Return the report as indented JSON text that ends with a newline."""
    return msgspec.json.format(msgspec.json.encode(report), indent=2).decode() + "\n"


def schema() -> dict[str, Any]:
    """Return the JSON Schema of the report, made from its types."""
    types = msgspec.json.schema(Report)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"A report of Dokimon ({FORMAT})",
        **described(types),
    }


def described(schema: dict[str, Any]) -> dict[str, Any]:
    """Return a schema without indentation in its descriptions: of docstrings, Python 3.13 removes it and 3.12 does not."""
    for key, value in schema.items():
        if key == "description" and isinstance(value, str):
            schema[key] = cleandoc(value)
        elif isinstance(value, dict):
            described(value)
    return schema


def write_schema(file: Path, made: dict[str, Any]) -> None:
    """Write a schema that the package ships, the way all of them are written."""
    file.write_text(json.dumps(made, indent=2) + "\n", "utf-8")


if __name__ == "__main__":
    write_schema(SCHEMA_FILE, schema())
