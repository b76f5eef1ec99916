"""What is other of the needs, of the tools that are reached, and of their components."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from dokimon.core.records.found import Found, step
from dokimon.core.records.record import Record
from dokimon.core.report.folding import subject_of
from dokimon.core.report.model import Finding, Reached, Report


def needs_differ(before: Report, after: Report, apart: bool) -> tuple[list[Found], frozenset[str]]:
    """Return what is asked for otherwise, or judged otherwise; and the files that this tells of."""
    then, now = _by_place(before.requirements), _by_place(after.requirements)
    tools_before, tools_after = _versions(before), _versions(after)
    found: list[Found] = []
    told: set[str] = set()
    for key in dict.fromkeys([*then, *now]):
        old, new = then.get(key), now.get(key)
        if old is None or new is None:
            found += [_asked(old, new)]
        elif old.wanted != new.wanted or old.accepts != new.accepts:
            found += [_asked_otherwise(old, new, _was(apart))]
        elif old.verdict != new.verdict and old.verdict and new.verdict:
            # Where another version of the tool is reached, that difference says it.
            if new.kind != "tool" or tools_before.get(new.tool) == tools_after.get(new.tool):
                found += [_judged_otherwise(old, new, _was(apart))]
            continue
        else:
            continue
        told |= {each.source.file for each in (old, new) if each}
    return found, frozenset(told)


def _about(need: Finding) -> Found:
    subject, required = subject_of(need), need.strength == "required"
    return Found("needs", subject, "", words=(subject,), tool=need.tool, big=required)


def _asked(old: Finding | None, new: Finding | None) -> Found:
    need = new or old
    if need is None:
        raise ValueError("one of the two is a need")
    how = "asked for" if old is None else "no longer asked for"
    says = f"{subject_of(need)} {need.accepts} is {how} ({need.source.place})"
    return _about(need)._replace(says=says, before=old.accepts if old else None, after=new.accepts if new else None)


def _was(apart: bool) -> str:
    return "there it is" if apart else "it was"


def _asked_otherwise(old: Finding, new: Finding, was: str) -> Found:
    judged = ""
    if new.verdict and new.verdict != old.verdict:
        judged = f"; {new.verdict}" + (f": {new.reason}" if new.reason and new.verdict != "met" else "")
    says = f"{subject_of(new)}: {new.accepts} is asked for, {was} {old.accepts} ({new.source.place}){judged}"
    return _about(new)._replace(says=says, before=old.accepts, after=new.accepts)


def _judged_otherwise(old: Finding, new: Finding, was: str) -> Found:
    says = f"{subject_of(new)} {new.accepts}: {new.verdict}, {was} {old.verdict}"
    says += f"; {new.reason}" if new.reason and new.verdict != "met" else ""
    words = (subject_of(new), *re.findall(r"\d{3,5}", f"{new.wanted} {new.reason}"))
    return _about(new)._replace(
        says=says, before=old.verdict, after=new.verdict, words=words, follows=new.kind == "tool"
    )


def _by_place(findings: Iterable[Finding]) -> dict[tuple[str, ...], Finding]:
    """Return the findings by what they are about and where it is asked for; several from one file, by their order."""
    found: dict[tuple[str, ...], Finding] = {}
    for each in findings:
        key = (each.kind, each.tool, each.component or "", each.source.file, each.strength)
        number = sum(1 for other in found if other[:5] == key)
        found[*key, str(number)] = each
    return found


def _versions(report: Report) -> dict[str, str | None]:
    return {each.tool: each.version for each in report.installations if each.reached}


def tools_differ(before: Record, after: Record, apart: bool) -> Iterator[Found]:
    """Yield the tools of which another copy is reached, or none any more."""
    then, now = _reached(before), _reached(after)
    wanted = {each.tool for each in before.report.requirements}
    for name in sorted({*then, *now}):
        old, new = then.get(name), now.get(name)
        if old is None and apart and name not in wanted:
            continue  # the other report was not about it
        about = Found(
            "tools", name, "", words=(name,), tool=name, more=_no_longer_met(name, before.report, after.report)
        )
        if old and new:
            yield from _other_copy(about, old, new, after, apart)
        elif old and _was_asked(name, after):
            says = f"{_named(old)} is no longer reached: {_where_now(old, name, after, apart)}"
            yield about._replace(says=says, before=old.version, big=True)
        elif new and _was_asked(name, before):
            yield about._replace(
                says=f"{_named(new)} is reached ({new.path}), it was not before", after=new.version, big=True
            )


def _named(copy: Reached) -> str:
    return " ".join(word for word in (copy.tool or copy.command, copy.version) if word)


def _where_now(old: Reached, name: str, after: Record, apart: bool) -> str:
    off = next((copy.path for copy in after.report.installations if copy.tool == name), None)
    if off:
        return f"{off} is not on PATH"
    return "there is none here" if apart else f"{old.path} is gone"


def _other_copy(about: Found, old: Reached, new: Reached, after: Record, apart: bool) -> Iterator[Found]:
    name = about.subject
    if old.version != new.version:
        how = "" if apart else f" ({_how(old, new, after)})"
        says = f"{name} {old.version or '?'} → {new.version or '?'}{how}"
        big = step(old.version, new.version) != "patch"
        yield about._replace(says=says, before=old.version, after=new.version, big=big)
    elif apart:
        return
    elif old.path != new.path:
        says = f"{name} is {new.path} (of the same version), it was {old.path}"
        yield about._replace(says=says, before=old.path, after=new.path)
    elif (old.mark and new.mark and old.mark != new.mark) or old.real != new.real:
        says = f"{name} was replaced in place, its version is the same ({new.real or new.path})"
        yield about._replace(says=says, before=old.version, after=new.version)


def _how(old: Reached, new: Reached, after: Record) -> str:
    if old.path == new.path and (old.real == new.real or not old.real or not new.real):
        return f"replaced in place: {new.path}"
    if old.path == new.path:
        return f"{new.path} starts {new.real} now, it was {old.real}"
    there = any(copy.path == old.path for copy in after.report.installations if copy.tool == new.tool)
    if there:
        return f"another entry of PATH comes first: {new.path}"
    return f"{new.path}; {old.path} is no longer reached"


def _reached(record: Record) -> dict[str, Reached]:
    """Return what is reached of each tool: by a need, or by a command of a run."""
    found = {each.tool or each.command: each for each in record.surroundings.commands}
    for copy in record.report.installations:
        if copy.reached:
            known = found.get(copy.tool)
            real = copy.via if copy.via != copy.path and not _is_file_with_version(copy.via) else None
            found[copy.tool] = Reached(
                command=copy.tool, path=copy.path, real=known.real if known else real, tool=copy.tool,
                version=copy.version, mark=known.mark if known else None,
            )  # fmt: skip
    return found


def _is_file_with_version(via: str | None) -> bool:
    return via is None or via.endswith((".json", ".txt", "VERSION", ".cfg", ".toml", "release"))


def _was_asked(name: str, record: Record) -> bool:
    """Whether a record would tell of this tool if it were there."""
    return any(each.tool == name for each in record.report.requirements) or any(
        name in each.command.split() for each in record.report.runs or ()
    )


def _no_longer_met(tool: str, before: Report, after: Report) -> tuple[str, ...]:
    then = {key: each.verdict for key, each in _by_place(before.requirements).items()}
    changed = [
        each
        for key, each in _by_place(after.requirements).items()
        if each.tool == tool and each.kind == "tool" and then.get(key, each.verdict) != each.verdict
    ]
    return tuple(f"{each.accepts} ({each.source.place}) is {each.verdict} now" for each in changed if each.verdict)


def components_differ(before: Report, after: Report) -> Iterator[Found]:
    """Yield the components of tools that have another version, or are there no longer."""
    asked = {(each.tool, each.component) for each in (*before.requirements, *after.requirements) if each.component}
    then = {(each.tool, each.name): each.version for each in before.components}
    now = {(each.tool, each.name): each.version for each in after.components}
    # A list that is empty was not asked for: that it lacks one says nothing.
    for key in sorted({*then, *now}):
        tool, name = key
        if then.get(key, "") == now.get(key, "") or not (then and now):
            continue
        if (key in then) != (key in now) and key not in asked:
            continue
        subject = f"{tool} {name}"
        old, new = then.get(key), now.get(key)
        says = f"{subject} {old or 'there'} → {new or ('there' if key in now else 'gone')}"
        if key not in then:
            says = f"{subject} {new or ''} is there, it was not before".replace("  ", " ")
        big = key in asked or step(old, new) == "major"
        yield Found("tools", subject, says, old, new, words=(name,), tool=tool, big=big)
