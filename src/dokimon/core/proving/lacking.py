"""What a clone lacks that the folder has, told by what the failure names: files, packages, variables."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from pathlib import Path, PurePosixPath

from dokimon.core.files import text_of
from dokimon.core.proving.clean_home import left_out
from dokimon.core.proving.cloning import Clone, uncommitted_files
from dokimon.core.records.contents import variables_in
from dokimon.core.records.failing import Failing
from dokimon.core.records.packages import installed_in
from dokimon.core.report.model import Report
from dokimon.core.text import clean

_MOST_FILES = 5
_ENDINGS_LEFT_OUT = frozenset({".js", ".mjs", ".cjs", ".ts", ".tsx", ".jsx", ".json", ".py", ".rb", ".php", ".vue"})
"""Modules are often named without them."""


def lacks(
    report: Report, root: Path, project: Path, clone: Clone, environment: Mapping[str, str], given: Mapping[str, str]
) -> tuple[str, ...]:
    """Return in sentences what the failed clone lacks, and that its failure names.

    `root` is the checkout and `project` the folder in it that counts, `environment` what the user has, `given` what the
    clone was given.
    """
    failing = Failing(report)
    unmet = [each for each in report.requirements if each.verdict not in ("met", None) and each.strength == "required"]
    words = f"{failing.printed}\n" + "\n".join(f"{each.tool} {each.reason}" for each in unmet)
    variables = list(_variables(failing, root, project, left_out(environment, given), [each.tool for each in unmet]))
    found = [*_files(words, root, clone), *_packages(failing, root, project, clone), *variables]
    if not found and ".env" in words and (project / ".env").is_file():
        found.append(".env is not committed")
    return tuple(dict.fromkeys(clean(each) for each in found))


def _files(words: str, root: Path, clone: Clone) -> Iterator[str]:
    named = [path for path in uncommitted_files(root, clone) if _is_named(path, words)]
    for path in named[:_MOST_FILES]:
        other = _other_case(clone.root / path)
        if other:
            yield f"{path} is committed as {other}: upper and lower case are not the same everywhere"
        else:
            yield f"{path} is not committed" if clone.commit else f"{path} was not copied"
    if len(named) > _MOST_FILES:
        yield f"and {len(named) - _MOST_FILES} more files that are not committed"


def _other_case(path: Path) -> str | None:
    """Return the name that a clone has where only the case of letters differs, or None."""
    try:
        return next((each.name for each in path.parent.iterdir() if each.name.lower() == path.name.lower()), None)
    except OSError:
        return None


def _is_named(path: str, words: str) -> bool:
    """Whether a failure names a file: its path or name, a module as its language writes it, without its ending."""
    pure = PurePosixPath(path)
    if pure.name.startswith(".env"):
        return False  # what lacks then is a variable
    names = [path, pure.name]
    if pure.suffix in _ENDINGS_LEFT_OUT:
        stem = path.removesuffix(pure.suffix)
        names += [f"/{pure.stem}'", f'/{pure.stem}"', f"'{pure.stem}'", f"'{stem.replace('/', '.')}'"]
    return any(name in words for name in names if len(name) > 3)


def _packages(failing: Failing, root: Path, project: Path, clone: Clone) -> Iterator[str]:
    below = project.relative_to(root)
    there = installed_in(project)
    here = installed_in(clone.root / below)
    for place, packages in there.items():
        for name in packages:
            if name in here.get(place, {}) or not failing.names([name, name.replace("-", "_")]):
                continue
            if declared := declaring(project, name):
                yield f"it uses {name}, which {declared} declares and which was not installed in the clone"
            else:
                yield f"it uses {name}, which only lies in {place} and is declared nowhere"


_MANIFESTS = (
    "pyproject.toml", "requirements*.txt", "requirements/*.txt", "setup.cfg", "setup.py", "Pipfile", "environment.y*ml",
    "package.json", "composer.json", "Gemfile", "go.mod", "Cargo.toml",
)  # fmt: skip


def declaring(project: Path, name: str) -> str | None:
    """Return the file and line of the project that names a package, or None."""
    word = re.compile(rf"(?i)(?<![\w./-]){re.sub(r'[-_.]+', '[-_.]+', name)}(?![\w-])")
    for pattern in _MANIFESTS:
        for path in sorted(project.glob(pattern))[:20]:
            text = text_of(path)
            if found := word.search(text):
                return f"{path.relative_to(project).as_posix()}:{text.count(chr(10), 0, found.start()) + 1}"
    return None


def _variables(failing: Failing, root: Path, project: Path, missing: frozenset[str], asked: list[str]) -> Iterator[str]:
    written = {
        name: path.relative_to(root).as_posix()
        for folder in dict.fromkeys((root, project))
        for path in sorted(folder.glob(".env*"))
        if path.is_file()
        for name in variables_in(path)
    }
    for name in sorted({*missing, *written}):
        if name not in asked and not failing.names([name]):
            continue
        if name in missing:
            yield f"it needs the variable {name}, which your shell sets"
        else:
            yield f"it needs the variable {name}, which only {written[name]} sets"
