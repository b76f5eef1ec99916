"""Answers that say with a success that they failed: JSON with an error in it, a health that is down, a stack as text."""

from __future__ import annotations

import re
from typing import Any

from dokimon.core.checks.fetching import Response
from dokimon.core.expressions import expression
from dokimon.core.processes.trouble import kind_of
from dokimon.core.text import clean

_DOWN = frozenset(
    {"down", "error", "fail", "failed", "failing", "failure", "unhealthy", "critical", "fatal", "unavailable"}
)
_STATES = ("status", "state", "health")
_SAYS_NO = ("success", "ok", "healthy")
_NO_ERROR: tuple[Any, ...] = (None, False, 0, "", [], {}, "null", "none", "None")
_BEGINNING = 4000

_NOTHING_ELSE = expression(
    r"(?i)^\s*(?:\d{3}:? )?(?:internal server error|service unavailable|bad gateway|gateway timeout|application error"
    r"|something went wrong|an (?:unexpected |internal )?error (?:has )?occurred|server error|error)\b.{0,80}\s*$"
)
"""A whole text that says no more than that it failed."""


def told_error(answer: Response) -> str | None:
    """Return what an answer that is no page says of its own failure, in words; None where it says nothing of it."""
    text = answer.text[: 64 * _BEGINNING].strip()
    if answer.type.endswith("json") or text[:1] in ("{", "["):
        return _told_in_json(text)
    if answer.type in ("text/plain", "") and text:
        return _told_in_text(text)
    return None


def broken_json(answer: Response) -> str | None:
    """Return where an answer that says it is JSON, and begins as such (RFC 8259), is none; None where it is well.

    Values one after another are let pass: servers stream them under that name.
    """
    is_json = answer.type == "application/json" or answer.type.endswith("+json")
    text = answer.text.lstrip("\ufeff \t\r\n")
    if not (is_json and answer.complete and text[:1] in ("{", "[")):
        return None
    import json

    try:
        json.loads(text)
    except json.JSONDecodeError as wrong:
        return None if wrong.msg == "Extra data" else f"line {wrong.lineno}, column {wrong.colno}: {wrong.msg}"
    except (ValueError, RecursionError):
        return None
    return None


def _told_in_json(text: str) -> str | None:
    import json

    try:
        data: Any = json.loads(text)
    except (ValueError, RecursionError):
        return None
    if not isinstance(data, dict):
        return None
    for key in _STATES:
        value = data.get(key)
        if isinstance(value, str) and value.strip().lower() in _DOWN:
            return f'"{key}" is "{clean(value, 60)}"'
    for key in _SAYS_NO:
        if data.get(key) is False:
            return f'"{key}" is false{_and_why(data)}'
    errors = data.get("errors")
    if isinstance(errors, list) and errors and not data.get("data"):
        return f'it has "errors": {clean(json.dumps(errors[0]), 160)}'
    error = data.get("error")
    if error not in _NO_ERROR and isinstance(error, str | dict | bool) and len(data) <= _FEW_KEYS:
        return f'it has "error": {clean(json.dumps(error), 160)}'
    return None


_FEW_KEYS = 6
"""An answer with an error in it says little else."""


def _and_why(data: dict[str, Any]) -> str:
    why = next((data[key] for key in ("error", "message", "reason", "detail") if isinstance(data.get(key), str)), None)
    return f": “{clean(why, 120)}”" if why else ""


def _told_in_text(text: str) -> str | None:
    if _NOTHING_ELSE.search(text):
        return f"“{clean(text, 120)}”"
    first = [line for line in text[:_BEGINNING].splitlines() if line.strip()][:3]
    kinds = [(line, kind_of(line)) for line in first]
    line = next((line for line, kind in kinds if kind and kind.name == "uncaught"), None)
    return f"“{clean(line.strip(), 160)}”" if line and re.search(r"\w", line) else None
