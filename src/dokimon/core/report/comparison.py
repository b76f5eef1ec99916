"""What is other between two states of a checkout, as data; its JSON Schema lies beside this file."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Final, Literal

import msgspec

from dokimon.core.report.as_json import described, write_schema
from dokimon.core.report.as_markdown import plain_text, table_row
from dokimon.core.report.model import Difference, Project

FORMAT: Final = "dokimon-comparison/1"
SCHEMA_FILE = Path(__file__).parent / "dokimon-comparison-1.schema.json"


class Side(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """One of the two: what it is `of` in words, `at` which time (RFC 3339), the commit, how it came out, where it ran."""

    of: str
    at: str | None = None
    commit: str | None = None
    command: str | None = None
    verdict: str | None = None
    system: str | None = None


class Comparison(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """What differs, the most telling first. `results` came out otherwise: they are what the `differences` may explain.

    `matters` says whether anything differs that may matter. `not_compared` says what one of the two says nothing of.
    """

    format: Literal["dokimon-comparison/1"]
    project: Project
    before: Side
    after: Side
    matters: bool
    differences: tuple[Difference, ...] = ()
    results: tuple[Difference, ...] = ()
    not_compared: tuple[str, ...] = ()


MATTERS = ("named", "used", "major")
"""The weights of differences that may matter."""


def encode(comparison: Comparison) -> str:
    """Return the comparison as indented JSON text that ends with a newline."""
    return msgspec.json.format(msgspec.json.encode(comparison), indent=2).decode() + "\n"


def as_markdown(comparison: Comparison) -> str:
    """Return the comparison as Markdown: a table of what came out otherwise, and one of what differs."""
    before, after = comparison.before, comparison.after
    lines = [f"## dokimon compare: {plain_text(comparison.project.name)}", ""]
    lines += [plain_text(f"{after.of}, compared with {before.of}"), ""]
    for title, found in (("came out otherwise", comparison.results), ("differs", comparison.differences)):
        if found:
            lines += [f"| {title} | weight |", "|---|---|"]
            lines += [table_row(plain_text(each.says), each.weight) for each in found]
            lines += [""]
    if not comparison.differences and not comparison.results:
        lines += ["Nothing differs.", ""]
    return "\n".join(lines)


def schema() -> dict[str, Any]:
    """Return the JSON Schema of a comparison, made from its types."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"A comparison of Dokimon ({FORMAT})",
        **described(msgspec.json.schema(Comparison)),
    }


if __name__ == "__main__":
    write_schema(SCHEMA_FILE, schema())
