"""A first `dokimon.toml`, from what was read and inferred: `dokimon init`."""

from __future__ import annotations

import re
import shlex
from pathlib import Path
from typing import Any

import tomlkit
from tomlkit.items import AoT, Table

from dokimon.core.jobs.verify import Verified
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, RunPlan
from dokimon.core.report.folding import subject_of
from dokimon.core.smoking.seen import LastSeen, Seen
from dokimon.core.text import clean


def settings_text(verified: Verified, plan: Plan, context: PlanContext, last: LastSeen | None = None) -> str:
    """Return the text of a `dokimon.toml` that says what Dokimon would do without it, ready to be edited.

    What the `last` smoke check saw is proposed as checks.
    """
    document = tomlkit.document()
    document.add(
        tomlkit.comment("What Dokimon read and inferred, written down for you to edit; docs/configuration.md says")
    )
    document.add(tomlkit.comment("what else there is. Whatever you delete is inferred again, as before."))
    document.add("format", tomlkit.item(1))
    project = tomlkit.table()
    project.add("name", clean(verified.checkout.project.name or "project", 80))
    document.add("project", project)
    _add_needs(document, verified)
    if plan.prepare:
        document.add("prepare", _tables([_prepare(step, context, plan) for step in plan.prepare]))
    if plan.runs:
        document.add("run", _tables([_run(run, context, plan) for run in plan.runs]))
    several = len(plan.runs) > 1
    checks = [
        check
        for run in plan.runs
        for check in _checks(run, several, last.runs.get(run.name, Seen()) if last else Seen())
    ]
    if checks and last:
        checks[0].comment(f"what `dokimon smoke` saw on {last.day}: keep what must stay so, delete the rest")
    if checks:
        document.add("smoke", _tables(checks))
    return tomlkit.dumps(document)


def _add_needs(document: tomlkit.TOMLDocument, verified: Verified) -> None:
    """The needs of manifests are read from there each time: they are listed, and an example says how to add one."""
    document.add(tomlkit.nl())
    read = dict.fromkeys(
        f"{subject_of(each)}: {each.accepts} ({each.source.file}:{each.source.line})"
        for each in verified.findings
        if each.kind in ("tool", "component") and each.strength == "required"
    )
    for line in ["Needs that the manifests declare already:", *(f"  {text}" for text in read)] if read else []:
        document.add(tomlkit.comment(clean(line, 110)))
    for line in (
        "One beyond them is written like this:",
        "[[need]]",
        'tool = "git"',
        'version = ">=2.30"',
        'why = "…"',
    ):
        document.add(tomlkit.comment(line))
    document.add(tomlkit.nl())


def _tables(tables: list[Table]) -> AoT:
    array = tomlkit.aot()
    for table in tables:
        array.append(table)
    return array


def _prepare(step: PrepareStep, context: PlanContext, plan: Plan) -> Table:
    table = tomlkit.table()
    table.add("title", step.title)
    table.add("command", _command(step.command, context, plan))
    if step.folder != context.root:
        table.add("in", step.folder.relative_to(context.root).as_posix())
    inside = [path for path in step.makes if path.is_relative_to(context.root)]
    if inside:
        table.add("from", [step.source.file])
        table.add("makes", [path.relative_to(context.root).as_posix() for path in inside])
    return table


def _run(run: RunPlan, context: PlanContext, plan: Plan) -> Table:
    table = tomlkit.table()
    table.add("name", run.name)
    table.add("command", _command(run.command, context, plan))
    if run.folder != context.root:
        table.add("in", run.folder.relative_to(context.root).as_posix())
    if run.kind:
        table.add("kind", run.kind)
    if run.port:
        table.add("port", run.port)
    own = {
        name: value for name, value in run.environment.items() if name not in (*plan.environment, "PATH", "VIRTUAL_ENV")
    }
    if own:
        environment = tomlkit.inline_table()
        environment.update(own)
        table.add("environment", environment)
    if run.after:
        table.add("after", list(run.after))
    return table


def _checks(run: RunPlan, several: bool, seen: Seen) -> list[Table]:
    """The default checks written out, as a beginning, with what the last smoke check saw."""
    found: list[dict[str, Any]] = []
    if run.kind == "server" or seen.title:
        found.append({"get": "/", "status": 200} | ({"title": seen.title} if seen.title else {}))
    elif run.kind == "program":
        found.append({"exit": 0})
    if seen.listens:
        found.append({"listens": list(seen.listens)})
    if seen.banner:
        same = tomlkit.inline_table()
        same.update({"file": seen.banner.file, "at": seen.banner.at})
        pattern = tomlkit.string(seen.banner.pattern, literal="'" not in seen.banner.pattern)
        found.append({"fact": "version", "printed": pattern, "same_as": same})
    tables = []
    for each in found:
        table = tomlkit.table()
        for key, value in (({"of": run.name} if several else {}) | each).items():
            table.add(key, value)
        tables.append(table)
    return tables


def _command(command: str | tuple[str, ...], context: PlanContext, plan: Plan) -> str:
    """Return a command line for the settings: paths below the root, and the words in braces that Dokimon fills in."""
    if isinstance(command, str):
        return command
    words = {value: f"{{{word}}}" for word, value in plan.words.items()}
    parts = [words.get(part, part.removeprefix(f"{context.root}{'/'}")) for part in command]
    parts = [
        f"./{part}" if number == 0 and _is_local(part, context.root) else part for number, part in enumerate(parts)
    ]
    # Names in braces are filled in before a shell sees the text.
    return re.sub(r"'([^' ]*\{\w+\}[^' ]*)'", r"\1", shlex.join(parts))


def _is_local(part: str, root: Path) -> bool:
    return "/" in part and not part.startswith((".", "/", "{")) and not part.startswith("~") and bool(root)
