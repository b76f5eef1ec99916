"""The report as one HTML page that needs nothing from elsewhere: made by Jinja2, which escapes all that it puts in.

The page says by itself (Content Security Policy, Level 3) that it loads nothing and that no script runs but its own.
"""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Iterator, Sequence
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from dokimon.core.files import bytes_of_file, inside
from dokimon.core.report.folding import fold_met, standing, subject_of
from dokimon.core.report.model import Check, Finding, Prepared, Report, Run
from dokimon.core.report.summary import counts_of_checks, counts_of_needs, first_wrong, told_once
from dokimon.core.report.timeline import history_of, timeline_of

if TYPE_CHECKING:
    from jinja2 import Template

    from dokimon.core.report.rows import Row

_FOLDER = Path(__file__).with_name("page")

_LARGEST_PICTURE = 600_000
_MOST_PICTURES = 12

_SAYS = {
    "met": "this machine is fit for it",
    "unmet": "this machine is not fit for it yet",
    "unknown": "whether this machine is fit for it is not known",
    "passed": "it starts here, and every check passed",
    "failed": "it does not work here",
    "unsure": "whether it works here is not known",
}


class Wrong(NamedTuple):
    """Something that failed: what it is called, where on the page it is, and the thing itself."""

    name: str
    anchor: str
    of: Run | Prepared


class Picture(NamedTuple):
    """A picture that a check kept: which check, and the picture as a data URL (RFC 2397)."""

    name: str
    url: str


def encode(report: Report, rows: Sequence[Row] = (), pictures_below: Path | None = None) -> str:
    """Return the page. `rows` are the history to draw; pictures of checks are taken in from below one folder alone."""
    script = _text("page.js")
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    return _template().render(
        report=report,
        says=_says(report),
        wrong=list(_wrong(report)),
        first_wrong=first_wrong(report),
        findings=list(fold_met(_judged_first(report.requirements))),
        unmet=_unmet(report),
        counts_needs=counts_of_needs(report.requirements) if any(each.verdict for each in report.requirements) else "",
        counts_checks=counts_of_checks(report),
        timeline=timeline_of(report),
        history=history_of(rows) if rows else None,
        pictures=_pictures(report, pictures_below),
        style=_text("style.css"),
        script=script,
        script_digest=digest,
        made_at=_shown_time(report.made.at) if report.made else "",
        anchors={run.name: f"run-{number}" for number, run in enumerate(report.runs or ())},
    )


def _text(name: str) -> str:
    return (_FOLDER / name).read_text("utf-8")


@cache
def _template() -> Template:
    from jinja2 import Environment, FileSystemLoader, StrictUndefined

    environment = Environment(
        loader=FileSystemLoader(_FOLDER),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters |= {"subject": subject_of, "standing": standing, "when": _shown_time, "once": told_once}
    return environment.get_template("page.html.jinja")


def _says(report: Report) -> str:
    if report.interrupted:
        return "the smoke check was interrupted"
    if report.command == "tools":
        return "what this machine has"
    if report.command == "needs":
        return "its declarations contradict each other" if report.verdict == "unmet" else "what it declares"
    if report.command == "smoke" and report.verdict in ("unmet", "unknown") and not report.runs:
        return f"{_SAYS[report.verdict]}, so nothing was run"
    return _SAYS[report.verdict]


def _judged_first(findings: Sequence[Finding]) -> list[Finding]:
    """Return the findings with those first that are not met, required ones before advised ones."""
    return sorted(findings, key=lambda each: (each.verdict in ("met", None), each.strength == "advised"))


def _unmet(report: Report) -> list[Finding]:
    found = [
        each for each in report.requirements if each.verdict not in (None, "met") or (each.reason and not each.verdict)
    ]
    return _judged_first(found)


def _wrong(report: Report) -> Iterator[Wrong]:
    for number, step in enumerate(report.prepared or ()):
        if step.verdict in ("failed", "unsure"):
            yield Wrong(step.title, f"step-{number}", step)
    for number, run in enumerate(report.runs or ()):
        if run.verdict in ("failed", "unsure"):
            yield Wrong(run.name, f"run-{number}", run)


def _pictures(report: Report, below: Path | None) -> dict[str, list[Picture]]:
    """Return the pictures of each run, by its name, as far as they are small enough."""
    found: dict[str, list[Picture]] = {}
    left = _MOST_PICTURES
    for run in report.runs or ():
        for check in run.checks:
            url = _data_url(check, below) if left else None
            if url:
                found.setdefault(run.name, []).append(Picture(check.full_name, url))
                left -= 1
    return found


def _data_url(check: Check, below: Path | None) -> str | None:
    path = Path(check.evidence) if check.evidence else None
    # Any report may name any file; only what Dokimon itself kept is taken in.
    if path is None or below is None or path.suffix != ".png" or not inside(path, below):
        return None
    try:
        content = bytes_of_file(path, _LARGEST_PICTURE + 1)
    except OSError:
        return None
    if len(content) > _LARGEST_PICTURE or not content.startswith(b"\x89PNG\r\n\x1a\n"):
        return None
    return f"data:image/png;base64,{base64.b64encode(content).decode()}"


def _shown_time(at: str) -> str:
    try:
        return datetime.fromisoformat(at).strftime("%Y-%m-%d %H:%M UTC")
    except ValueError:
        return at
