"""Proposals: what a README, a container file or an editor says of starting; carried out only when asked for by name."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, Rank, RunPlan
from dokimon.core.reading.json_places import without_comments
from dokimon.core.text import clean

_READMES = ("README.md", "Readme.md", "readme.md", "README.rst", "README", "README.markdown")
_HEADING = expression(
    r"(?i)^#{1,6}\s+.*\b(?:run|running|usage|getting started|quick ?start|start|starting|development|how to)\b"
)
_STARTS = expression(
    r"^(?:\$|>|%)?\s*((?:npm (?:start|run (?:dev|start|serve))|(?:yarn|pnpm|bun)(?: run)? (?:dev|start|serve)"
    r"|node \S+\.[cm]?js|python3? (?:-m )?[\w./-]+|flask |uvicorn |gunicorn |streamlit run |php -S |php artisan serve"
    r"|go run |cargo run|make (?:run|serve|start|dev)|java -jar |mvn \S*:run|\./mvnw |\./gradlew |dotnet run"
    r"|ruby \S+\.rb|bundle exec |rails s|perl \S+\.p[lm]|lua \S+\.lua|Rscript \S+\.[rR]|escript [\w./-]+|elixir \S+\.exs?"
    r"|julia \S+\.jl|deno (?:run|task) |\./[\w./-]+)[^\n`]*)$"
)
_MOST = 6


def plan(context: PlanContext) -> Plan | None:
    """Return the commands that are shown to people, in the order in which they are met, each once."""
    runs: dict[str, RunPlan] = {}
    for run in (*_of_readme(context), *_of_container(context), *_of_editor(context), *_of_examples(context)):
        runs.setdefault(str(run.command), run)
    return Plan(runs=tuple(runs.values())[:_MOST]) if runs else None


def _proposal(context: PlanContext, name: str, command: str, path: Path, line: int) -> RunPlan:
    source = context.source(path, line, clean(command, 160))
    return RunPlan(name=name, command=command, folder=context.folder, source=source, rank=Rank.PROPOSAL)


def _of_readme(context: PlanContext) -> Iterator[RunPlan]:
    path = next((context.folder / name for name in _READMES if (context.folder / name).is_file()), None)
    if path is None:
        return
    speaks, fenced, number = False, False, 0
    for line, text in enumerate(text_of(path, 200_000).split("\n"), 1):
        if text.lstrip().startswith(("```", "~~~")):
            fenced = not fenced
        elif text.startswith("#") and not fenced:
            speaks = bool(_HEADING.match(text))
        elif speaks and len(text) < 300 and (fenced or text.startswith(("    ", "\t"))):
            found = _STARTS.match(text.strip())
            if found and not re.search(r"[<>|&;]|install|\btest\b|\.\.\.", found[1]) and _is_there(found[1], context):
                number += 1
                yield _proposal(context, f"readme-{number}" if number > 1 else "readme", found[1].strip(), path, line)


def _is_there(command: str, context: PlanContext) -> bool:
    """Whether what a command names is in the checkout: READMEs also show what lies in other projects."""
    file = re.match(
        r"(?:node|python3?|ruby|perl|php|lua|Rscript|escript|elixir|julia)\s+(?!-)([\w./-]+\.\w+)\b|(\./[\w./-]+)",
        command,
    )
    if file:
        return (context.folder / (file[1] or file[2])).is_file()
    script = re.match(r"(?:npm|yarn|pnpm|bun)(?: run)? (start|dev|serve)\b", command)
    return script is None or f'"{script[1]}"' in text_of(context.folder / "package.json")


def _of_container(context: PlanContext) -> Iterator[RunPlan]:
    """The last CMD or ENTRYPOINT of a container file: read, not run in a container."""
    path = context.folder / "Dockerfile"
    text = text_of(path) if path.is_file() else ""
    found = list(re.finditer(r"^[ \t]*(?:CMD|ENTRYPOINT)[ \t]+(\S.*)$", text, re.MULTILINE | re.IGNORECASE))
    if not found:
        return
    command = found[-1][1].strip()
    if command.startswith("["):
        try:
            words = json.loads(command)
        except ValueError:
            return
        command = " ".join(map(str, words)) if isinstance(words, list) else ""
    if command and "/app" not in command:
        yield _proposal(context, "container", command, path, text.count("\n", 0, found[-1].start(1)) + 1)


_EXAMPLES = ("examples", "example", "samples", "demo")
_BY_ENDING = {".py": "python3", ".js": "node", ".mjs": "node", ".rb": "ruby -Ilib", ".php": "php", ".pl": "perl -Ilib"}
_MOST_EXAMPLES = 3


def _of_examples(context: PlanContext) -> Iterator[RunPlan]:
    """The first examples of a library: what can be tried of it."""
    folder = next((context.folder / name for name in _EXAMPLES if (context.folder / name).is_dir()), None)
    if folder is None:
        return
    found = [path for path in sorted([*folder.glob("*.*"), *folder.glob("*/main.go")]) if path.is_file()]
    found = [path for path in found if path.suffix in _BY_ENDING or path.name == "main.go"]
    for path in found[:_MOST_EXAMPLES]:
        where = path.relative_to(context.folder)
        command = f"go run ./{where.parent}" if path.name == "main.go" else f"{_BY_ENDING[path.suffix]} {where}"
        yield _proposal(
            context, f"example {path.parent.name if path.name == 'main.go' else path.stem}", command, path, 1
        )


def _of_editor(context: PlanContext) -> Iterator[RunPlan]:
    """`.vscode/launch.json`: programs of Node.js and Python that an editor starts."""
    path = context.folder / ".vscode/launch.json"
    try:
        listed = json.loads(without_comments(text_of(path)) or "{}").get("configurations", []) if path.is_file() else []
    except (ValueError, AttributeError, RecursionError):
        return
    for entry in listed if isinstance(listed, list) else []:
        program = entry.get("program") if isinstance(entry, dict) else None
        tool = {"node": "node", "pwa-node": "node", "python": "python3", "debugpy": "python3"}.get(
            str(entry.get("type"))
        )
        if tool and isinstance(program, str):
            program = re.sub(r"^\$\{workspace(?:Folder|Root)\}/", "", program)
            if "$" not in program and (context.folder / program).is_file():
                yield _proposal(context, "editor", f"{tool} {program}", path, 1)
