"""Files that a build must leave: there, not empty, newer than what they are made from, and of the right kind."""

from __future__ import annotations

import fnmatch
import os
from collections.abc import Iterator
from pathlib import Path
from typing import ClassVar

from dokimon.core.checks.context import CheckContext
from dokimon.core.checks.file_kinds import KINDS as FILE_KINDS
from dokimon.core.checks.file_kinds import kind_of_file, machine_of
from dokimon.core.checks.measuring import within
from dokimon.core.checks.spec import CheckSpec
from dokimon.core.files import bytes_of_file, inside
from dokimon.core.measures import any_size
from dokimon.core.report.model import Check, CheckVerdict
from dokimon.core.text import clean

_MOST_FILES = 20_000
_MOST_ENTRIES = 100_000


class Artefact(CheckSpec, frozen=True, kw_only=True):
    """`built = "dist/*.js"`: one or several patterns below the root, each of which must match a file that is not empty.

    `kind` is what they are (`elf`, `zip`, `png`, …), `machine` what an ELF file is for, `newer_than` files or folders that
    none of them may be older than, `size` bounds for all together, `entries` patterns for what an archive holds. With
    `parts`, a page must find the scripts, styles and images that it names beside itself.
    """

    kind_name: ClassVar[str] = "artefact"

    built: str | list[str] = []
    kind: str | None = None
    machine: str | None = None
    newer_than: list[str] = []
    size: str | None = None
    entries: list[str] = []
    parts: bool = False

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return "built " + ", ".join(self.patterns)

    @property
    def patterns(self) -> list[str]:
        """The patterns, one or several, as several."""
        return [self.built] if isinstance(self.built, str) else self.built

    def problems(self) -> Iterator[tuple[str, str]]:
        """The kind of file must be one that Dokimon recognises."""
        if self.kind is not None and self.kind not in (*FILE_KINDS, "text"):
            known = ", ".join([*FILE_KINDS, "text"])
            yield "kind", f'"{self.kind}" is not a kind of file that Dokimon recognises; it knows {known}'

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen."""
        return _look(self, context)


def _look(spec: Artefact, context: CheckContext) -> list[Check]:
    """Look at the files."""
    found: list[Path] = []
    checks: list[Check] = []
    for pattern in spec.patterns:
        mine = _matching(context.root, context.filled(pattern))
        found += [path for path in mine if path not in found]
        checks.append(_there(pattern, mine, context.root))
    if not found:
        return checks
    if spec.kind is not None:
        checks += [_of_kind(path, spec.kind, context.root) for path in found]
    if spec.machine is not None:
        checks += [_for_machine(path, spec.machine, context.root) for path in found]
    if spec.newer_than:
        checks.append(_newer(found, spec.newer_than, context.root))
    if spec.size is not None:
        total = sum(path.stat().st_size for path in found)
        right = within(total, spec.size, any_size)
        checks.append(
            Check(
                name="size",
                verdict="passed" if right else "failed",
                expected=spec.size,
                seen=f"{total:,} bytes".replace(",", " "),
            )
        )
    if spec.entries:
        checks += [_holds(path, pattern, context.root) for path in found for pattern in spec.entries]
    if spec.parts:
        checks += [_with_parts(path, context.root) for path in found]
    return checks


def _matching(root: Path, pattern: str) -> list[Path]:
    try:
        found = sorted(path for path in root.glob(pattern) if path.is_file())
    except (ValueError, NotImplementedError, OSError):
        return []
    return [path for path in found if inside(path, root)][:_MOST_FILES]


def _name(path: Path, root: Path) -> str:
    return clean(path.relative_to(root).as_posix(), 100)


def _there(pattern: str, found: list[Path], root: Path) -> Check:
    name = clean(f"built {pattern}", 100)
    empty = [path for path in found if not path.stat().st_size]
    if not found:
        return Check(
            name=name, verdict="failed", expected="a file that is not empty", seen="no such file in the checkout"
        )
    if empty:
        return Check(
            name=name, verdict="failed", expected="a file that is not empty", seen=f"{_name(empty[0], root)} is empty"
        )
    one = f"{_name(found[0], root)}, {found[0].stat().st_size} bytes"
    return Check(
        name=name,
        verdict="passed",
        expected="a file that is not empty",
        seen=one if len(found) == 1 else f"{len(found)} files",
    )


def _of_kind(path: Path, spec: str, root: Path) -> Check:
    kind = kind_of_file(path)
    seen = f"{_name(path, root)} is {kind or 'of no kind that is known'}"
    return Check(name="kind", verdict="passed" if kind == spec else "failed", expected=spec, seen=seen)


def _for_machine(path: Path, spec: str, root: Path) -> Check:
    machine = machine_of(path)
    seen = f"{_name(path, root)} is for {machine}" if machine else f"{_name(path, root)} does not say"
    return Check(name="machine", verdict="passed" if machine == spec else "failed", expected=spec, seen=seen)


def _newer(found: list[Path], than: list[str], root: Path) -> Check:
    """No artefact may be older than the newest source."""
    newest: tuple[int, Path] | None = None
    for name in than:
        for path in _files_of(root / name, root):
            time = path.stat().st_mtime_ns
            if newest is None or time > newest[0]:
                newest = (time, path)
    expected = f"newer than {', '.join(than)}"
    if newest is None:
        return Check(
            name="current",
            verdict="unsure",
            expected=clean(expected),
            seen=f"there is nothing at {clean(', '.join(than))}",
        )
    old = [path for path in found if path.stat().st_mtime_ns < newest[0]]
    if old:
        seen = f"{_name(old[0], root)} is older than {_name(newest[1], root)}"
        return Check(name="current", verdict="failed", expected=clean(expected), seen=seen)
    return Check(
        name="current",
        verdict="passed",
        expected=clean(expected),
        seen=f"newer than {_name(newest[1], root)}, the newest of them",
    )


def _files_of(path: Path, root: Path) -> list[Path]:
    if not inside(path, root):
        return []
    if path.is_file():
        return [path]
    found: list[Path] = []
    for folder, _, names in os.walk(path):
        found += [Path(folder, name) for name in names if Path(folder, name).is_file()]
        if len(found) > _MOST_FILES:
            break
    return found


def _holds(path: Path, pattern: str, root: Path) -> Check:
    expected = clean(f"holds {pattern}")
    entries = _entries(path)
    if entries is None:
        return Check(
            name="entries",
            verdict="failed",
            expected=expected,
            seen=f"{_name(path, root)} is not an archive that can be read",
        )
    found = [entry for entry in entries if fnmatch.fnmatchcase(entry, pattern)]
    seen = f"{clean(found[0], 100)}" if len(found) == 1 else f"{len(found)} of {len(entries)} entries"
    return Check(name="entries", verdict="passed" if found else "failed", expected=expected, seen=seen)


def _entries(path: Path) -> list[str] | None:
    """Return the names in a zip or tar archive, packed or not; None where it is none. Nothing is unpacked to disk."""
    import tarfile
    import zipfile

    try:
        if zipfile.is_zipfile(path):
            with zipfile.ZipFile(path) as archive:
                return archive.namelist()[:_MOST_ENTRIES]
        names = []
        with tarfile.open(path) as tar:
            for member in tar:
                names.append(member.name.removeprefix("./"))
                if len(names) >= _MOST_ENTRIES:
                    break
        return names
    except (OSError, zipfile.BadZipFile, tarfile.TarError, EOFError, ValueError, NotImplementedError):
        return None


def _with_parts(path: Path, root: Path) -> Check:
    """See that the scripts, styles and images of a page are beside it: `/x` is looked for where the page is."""
    from dokimon.core.checks.fetching import decoded
    from dokimon.core.checks.html import parsed

    soup = parsed(decoded(bytes_of_file(path)))
    named = [
        str(tag.get("src") or tag.get("href") or "")
        for tag in soup.select("script[src], link[rel=stylesheet][href], img[src]")
    ]
    local = [
        each.partition("?")[0].partition("#")[0]
        for each in named
        if each and "//" not in each and not each.startswith("data:")
    ]
    gone = [each for each in local if not (path.parent / each.lstrip("/")).is_file()]
    verdict: CheckVerdict = "failed" if gone else "passed"
    seen = (
        f"{_name(path, root)} names {clean(gone[0], 100)}, which is not there"
        if gone
        else f"all {len(local)} are there"
    )
    return Check(name="parts", verdict=verdict, expected="all that the page names", seen=seen)
