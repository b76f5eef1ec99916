"""`dokimon needs --suggest`: what would be declared by what `smoke --across` proved, as a patch that nobody applies."""

from __future__ import annotations

import difflib
from collections.abc import Mapping, Sequence
from contextlib import closing
from pathlib import Path

import msgspec

from dokimon.core.declarations.requirement import Requirement
from dokimon.core.faults import Fault
from dokimon.core.jobs.needs import Declared
from dokimon.core.proving.across import of_tool
from dokimon.core.proving.suggesting import proven_by, suggestion, undeclared
from dokimon.core.reading.manifest import ManifestFault, open_manifest
from dokimon.core.records.proofs import Proof, proofs_of
from dokimon.core.records.remembering import shown_time, store_of
from dokimon.core.records.store import RecordsFault
from dokimon.core.report.model import Across, Report, Suggested, Suggestion
from dokimon.core.report.reading import ReportFault, read_report
from dokimon.core.text import clean


class SuggestFault(Fault):
    """Nothing was proven that a suggestion could go by."""


_WRITTEN_BY_TOOLS = frozenset({"package-lock.json", "npm-shrinkwrap.json", "composer.lock", "Gemfile.lock", "uv.lock",
    "poetry.lock", "Cargo.lock", "pnpm-lock.yaml", "yarn.lock"})  # fmt: skip


def with_suggestions(
    report: Report, declared: Declared, environment: Mapping[str, str], reports: Sequence[Path] = ()
) -> Report:
    """Return the report of `needs` with what would be declared by what was proven: in `reports`, else in this checkout.

    Raises `SuggestFault` where nothing was, and `ReportFault`.
    """
    proofs = _read(reports) if reports else _remembered(declared, environment)
    if not proofs:
        raise SuggestFault(
            "nothing was proven of this checkout yet: dokimon smoke --across TOOL tries it under each version"
        )
    files = _Files(declared.checkout.root)
    found: dict[str, list[Suggestion]] = {}
    for proof in proofs:
        across = proof.across
        for tool in (across.tool, *(each.tool for each in across.beside)):
            proven = proven_by(of_tool(tool, across.tool, across.tried))
            if proven is None:
                found[tool] = [Suggestion(tool=tool, says=f"no version of {tool} passed: nothing can be suggested")]
                continue
            needs = [each for each in declared.requirements if _counts(each, tool)]
            made = [made for each in needs if (made := suggestion(each, proven, files.lines(each.source.file)))]
            if unread := next((each for each in needs if each.fault), None):
                says = f"what is declared of {tool} cannot be read ({unread.source.place}): nothing can be suggested"
                found[tool] = [Suggestion(tool=tool, says=clean(says))]
                continue
            narrowed = any(each.constraint for each in needs)
            found[tool] = _first_of_each_file(made) if narrowed else [undeclared(tool, proven)]
    every = [each for made in found.values() for each in dict.fromkeys(made)]
    by = tuple(clean(_in_words(proof)) for proof in proofs)
    change = _patch(files, every)
    return msgspec.structs.replace(report, suggested=Suggested(by=by, suggestions=tuple(every), change=change))


def _first_of_each_file(made: Sequence[Suggestion]) -> list[Suggestion]:
    """Return the suggestions, of each file the one that can be made: the others follow from what a file implies."""
    found: dict[str | None, Suggestion] = {}
    changes = [each for each in made if each.before]
    for each in (*changes, *made):
        found.setdefault(each.file, each)
    return [each for each in made if each.before or found[each.file] is each]


def _counts(need: Requirement, tool: str) -> bool:
    name = need.source.file.rpartition("/")[2]
    return need.tool == tool and need.strength == "required" and not need.component and name not in _WRITTEN_BY_TOOLS


def _read(reports: Sequence[Path]) -> list[Proof]:
    found = []
    for path in reports:
        report = read_report(path)
        if report.across is None:
            raise ReportFault("is no report of smoke --across", file=str(path))
        made = report.made
        found.append(Proof(across=report.across, at=made.at if made else "", commit=made.commit if made else None))
    return found


def _remembered(declared: Declared, environment: Mapping[str, str]) -> list[Proof]:
    checkout = declared.checkout
    store = store_of(environment, checkout.untrusted)
    if store is None:
        return []
    try:
        with closing(store):
            return proofs_of(store, checkout.root, checkout.project.relative_to(checkout.root).as_posix())
    except RecordsFault as wrong:
        raise SuggestFault(str(wrong)) from None


def _in_words(proof: Proof) -> str:
    when = f" on {shown_time(proof.at)}" if proof.at else ""
    at = f" at commit {proof.commit[:7]}" if proof.commit else ""
    return f"tried{when}{at}: {_first(proof.across)}"


def _first(across: Across) -> str:
    return across.says[0] if across.says else f"{across.tool}: nothing was tried"


class _Files:
    """The lines of files of the checkout, each read once; none of one that cannot be read."""

    def __init__(self, root: Path) -> None:
        self._root = root
        self._read: dict[str, list[str]] = {}

    def lines(self, name: str) -> list[str]:
        """Return the lines with their ends."""
        if name not in self._read:
            try:
                text = open_manifest(self._root / name, self._root).text
            except ManifestFault:
                text = ""
            parts = text.split("\n")  # as the readers count lines
            self._read[name] = [f"{line}\n" for line in parts[:-1]] + ([parts[-1]] if parts[-1] else [])
        return self._read[name]


def _patch(files: _Files, suggestions: Sequence[Suggestion]) -> str | None:
    """Return the change of the files that the suggestions come to, as `git apply` and `patch` take it; None for none."""
    by_file: dict[str, list[Suggestion]] = {}
    for each in suggestions:
        if each.file and each.before:
            by_file.setdefault(each.file, []).append(each)
    patch: list[str] = []
    for name, made in sorted(by_file.items()):
        lines = files.lines(name)
        changed = list(lines)
        for each in made:
            if each.line and each.before and each.after:
                changed[each.line - 1] = changed[each.line - 1].replace(each.before, each.after, 1)
        of_file = list(difflib.unified_diff(lines, changed, f"a/{name}", f"b/{name}", n=2))
        patch += of_file if all(map(_can_be_shown, of_file)) else []
    return "".join(_ended(line) for line in patch) or None


_LONGEST_LINE = 500


def _can_be_shown(line: str) -> bool:
    """Whether a line of a file is fit for a terminal as it is: of a patch nothing may be left out."""
    bare = line.removesuffix("\n").removesuffix("\r").replace("\t", " ")
    return len(bare) <= _LONGEST_LINE and bare.isprintable()


def _ended(line: str) -> str:
    return line if line.endswith("\n") else f"{line}\n\\ No newline at end of file\n"
