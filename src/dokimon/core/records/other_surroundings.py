"""What is other around a project: variables, who listens, how it is started, the system."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from dokimon.core.judging.starting import name_at
from dokimon.core.records.found import Found
from dokimon.core.records.record import Record
from dokimon.core.report.model import Report
from dokimon.core.report.sharing import folded

_MANY = 6


def variables_differ(before: Record, after: Record, apart: bool) -> Iterator[Found]:
    """Yield the variables that are set no longer, or otherwise: those of this process and those in `.env` files."""
    yield from _files_of_variables(before, after, apart)
    asked = {each.tool for each in (*before.report.requirements, *after.report.requirements) if each.kind == "variable"}
    changes = list(_changed_names(before.surroundings.variables, after.surroundings.variables, apart))
    if apart or before.looked_around != after.looked_around:
        # Two people set other variables, and verify gives none to runs: those that the project asks for count.
        changes = [each for each in changes if each[0] in asked]
    set_before = before.surroundings.variables
    unasked = [name for name, _ in changes if name not in asked]
    for name, says in changes:
        if name == "PATH" and len(changes) > 1:
            continue
        tool = next((tool for beginning, tool in _OF_TOOLS.items() if name.startswith(beginning)), None)
        # What is set beside breaks seldom, unless a tool is led by it; many at once are another terminal.
        many = len(unasked) > _MANY or name == "PATH" or (name not in set_before and not tool)
        told = Found("variables", name, f"the variable {name} {says}", words=(name,), tool=tool)
        yield told._replace(big=name in asked or not many, used=name in asked)


def _files_of_variables(before: Record, after: Record, apart: bool) -> Iterator[Found]:
    for file in sorted({*before.surroundings.variables_in, *after.surroundings.variables_in}):
        then, now = (each.surroundings.variables_in.get(file) for each in (before, after))
        if then is None or now is None:
            names = tuple(now or then or ())
            says = f"{file} is {'gone' if now is None else 'there, it was not before'} ({_listed(names)})"
            yield Found("variables", file, says, words=(file, *names), big=True, used=now is None)
            continue
        for name, says in _changed_names(then, now, apart):
            yield Found("variables", name, f"{name} {says} in {file}", words=(name,), big=True, used=True)


_OF_TOOLS = {
    "NODE_": "node", "npm_config_": "node", "NPM_CONFIG_": "node", "PYTHON": "python", "PIP_": "python",
    "VIRTUAL_ENV": "python",
    "DJANGO_": "python", "FLASK_": "python", "JAVA_": "java", "JDK_": "java", "MAVEN_": "java", "GRADLE_": "java",
    "RUBY": "ruby", "GEM_": "ruby", "BUNDLE_": "ruby", "RAILS_": "ruby", "RUST": "rustc", "CARGO_": "rustc",
    "GOPATH": "go", "GOROOT": "go", "GOFLAGS": "go", "GOOS": "go", "GOARCH": "go", "GOTOOLCHAIN": "go", "CGO_": "go",
    "PHP": "php", "COMPOSER_": "php", "DOTNET_": "dotnet", "ASPNETCORE_": "dotnet", "MIX_": "elixir",
}  # fmt: skip
"""How the names of variables begin by which tools are led."""


def _listed(names: tuple[str, ...]) -> str:
    return ", ".join(names[:5]) + (f" and {len(names) - 5} more" if len(names) > 5 else "")


def _changed_names(then: Mapping[str, str], now: Mapping[str, str], apart: bool) -> Iterator[tuple[str, str]]:
    if not then or (apart and not now):  # one side says nothing of variables
        return
    for name in sorted({*then, *now}):
        if name not in now:
            yield name, "is no longer set" if not apart else "is set there, and not here"
        elif name not in then:
            yield name, "is set, it was not before" if not apart else "is set here, and not there"
        elif then[name] != now[name] and not apart:
            yield name, "has another value"


def services_differ(before: Record, after: Record) -> Iterator[Found]:
    """Yield the ports on which nothing listens any more, or something else does."""
    then, now = set(before.surroundings.listening), set(after.surroundings.listening)
    own = {at.port for run in before.report.runs or () for at in run.listening}
    strangers = {each.port: each for run in after.report.runs or () for each in run.strangers}
    if not (before.looked_around and after.looked_around):
        return
    for port in sorted(then - now):
        says = f"nothing listens on port {port} any more"
        # Any program of the user's may listen somewhere; what services listen on by custom is more.
        yield Found("services", f"port {port}", says, words=(str(port),), big=name_at(port) is not None)
    for port in sorted((now - then) | {*strangers}):
        holder = strangers.get(port)
        who = f": process {holder.pid}, {holder.command}" if holder and holder.pid else ""
        says = f"something listens on port {port}{who}, nothing did before"
        if port in own:
            says = f"something else listens on port {port}{who}"
        yield Found("services", f"port {port}", says, words=(str(port),), used=port in own or port in strangers)


def plan_differs(before: Report, after: Report) -> Iterator[Found]:
    """Yield the runs that are started otherwise."""
    then, now = _commands(before), _commands(after)
    for name, old in then.items():  # a run that is not there was perhaps only not asked for
        new = now.get(name, old)
        if _plain(old) != _plain(new):
            says = f"{name} is started otherwise: {new} (it was {old})"
            yield Found("plan", name, says, old, new, words=(name,), big=True, used=True)


def _commands(report: Report) -> dict[str, str]:
    if report.runs:
        return {each.name: each.command for each in report.runs}
    return {each.name: each.command for each in report.plan.runs} if report.plan else {}


def _plain(command: str) -> str:
    """Return a command without quotes and the numbers of ports, which may be other each time, and with homes as `~`."""
    bare = command.replace("'", "").replace('"', "")
    return " ".join(folded(re.sub(r"\b\d{4,5}\b|\{port\}", "…", bare)).split())


def system_differs(before: Record, after: Record, apart: bool) -> Iterator[Found]:
    """Yield what is other of the machine and of Dokimon itself."""
    old, new = before.surroundings, after.surroundings
    pairs = [("system", old.system, new.system), ("architecture", old.architecture, new.architecture)]
    for name, was, is_now in [*pairs, ("distribution", old.release, new.release), ("kernel", old.kernel, new.kernel)]:
        if was != is_now and was and is_now:
            yield Found("system", name, f"{name} {was} → {is_now}", was, is_now, big=name in ("system", "architecture"))
    if not apart and old.machine != new.machine and old.machine and new.machine:
        yield Found("system", "machine", "it is another machine", big=True)
    made = before.report.made, after.report.made
    if made[0] and made[1] and made[0].dokimon != made[1].dokimon:
        says = f"Dokimon {made[0].dokimon} → {made[1].dokimon}"
        yield Found("system", "dokimon", says, made[0].dokimon, made[1].dokimon)
