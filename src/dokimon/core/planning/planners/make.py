"""C and C++ built by make, with or without the Autotools before it."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners import native
from dokimon.core.planning.planners.freshness import older_than
from dokimon.core.planning.planners.native import BESIDE

MAKEFILES = ("GNUmakefile", "makefile", "Makefile")
_NAMED = re.compile(
    r"^(?:TARGET|PROG|PROGRAM|PROGNAME|BIN|BINARY|EXE|EXEC|EXECUTABLE|NAME|APP|OUT|OUTPUT)\s*[:?]?=\s*([\w./+-]+)\s*$",
    re.MULTILINE,
)
_TARGET = re.compile(r"^([A-Za-z][\w./+-]*)[ \t]*:(?![:=])([^\n]*)\n((?:\t[^\n]*\n?)*)", re.MULTILINE)
_COMPILES = re.compile(r"\$[({](?:CC|CXX|LINK\.o|LD|cmd_\w+)[)}]|\b(?:gcc|g\+\+|cc|c\+\+|clang(?:\+\+)?)\b|-o\s+\$@")


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a folder that `configure` and make build, or make alone; None for any other."""
    other = native.plan(context)
    if other and other.runs:
        return None
    has_cmake = (context.folder / "CMakeLists.txt").is_file()  # then a Makefile only helps the developers
    return _autotools(context) or (None if has_cmake else _plain(context))


def _autotools(context: PlanContext) -> Plan | None:
    """`autoreconf` where there is no `configure` yet, then `./configure` and make (the Autoconf manual)."""
    folder = context.folder
    made = folder / "configure"
    script = next((folder / name for name in ("configure.ac", "configure.in") if (folder / name).is_file()), made)
    if not script.is_file() or not (made.is_file() or script != made):
        return None
    source = context.source(script)
    steps = []
    if not made.is_file():
        own = next((name for name in _MAKES_CONFIGURE if (folder / name).is_file()), None)
        command: tuple[str, ...] = ("sh", own) if own else ("autoreconf", "--install", "--force")
        needed = "there is no configure"
        steps.append(
            PrepareStep(
                title="make configure", command=command, folder=folder, source=source, needed=needed, makes=(made,)
            )
        )
    written = next((folder / name for name in MAKEFILES if (folder / name).is_file()), folder / "Makefile")
    status = folder / "config.status"
    steps.append(
        PrepareStep(
            title="configure",
            command=("./configure",),
            folder=folder,
            source=source,
            needed=None if status.is_file() and written.is_file() else "it has not been configured",
            makes=(written,),
        )
    )
    listed = _of_automake(context)
    programs = listed or [(_name_of(script, folder), script, 1)]
    names = " ".join(shlex.quote(name) for name in dict.fromkeys([programs[0][0], folder.name]))
    target = folder / programs[0][0]
    sources = [each for each in folder.iterdir() if each != target and not each.name.startswith(".")]
    steps.append(
        PrepareStep(
            title="build",
            command=("make",),
            folder=folder,
            source=source,
            needed=older_than(target, [each for each in sources if each.suffix in _SOURCES or each.is_dir()]),
        )
    )
    runs = tuple(
        RunPlan(
            name=Path(name).name,
            command=(f"./{name}",) if listed else ("sh", "-c", _WHEREVER.format(names=names), "sh"),
            folder=folder,
            source=context.source(path, line),
            shown_as=f"./{name}",
            rank=Rank.COMMAND,
        )
        for name, path, line in programs
    )
    return Plan(prepare=tuple(steps), runs=runs)


_WHEREVER = (
    'for name in {names}; do for each in "./$name" "./src/$name" "./build/$name"; do '
    '[ -f "$each" ] && [ -x "$each" ] && exec "$each" "$@"; done; done; echo "$name was not built"; exit 127'
)
"""Without Automake's word for it, the program is called as the project, and lies in one of the usual places."""

_MAKES_CONFIGURE = ("autogen.sh", "bootstrap", "bootstrap.sh", "buildconf")
_SOURCES = frozenset({".c", ".h", ".cc", ".cpp", ".cxx", ".hpp", ".s", ".S", ".y", ".l"})


def _of_automake(context: PlanContext) -> list[tuple[str, Path, int]]:
    """The programs that Automake installs (its manual, "Program and Library Variables"), the project's own first."""
    folder = context.folder
    found = []
    top = folder / "Makefile.am"
    below = [path for path in sorted(folder.glob("*/Makefile.am")) if not BESIDE.search(path.parent.name)]
    for path in [top, *below] if top.is_file() else []:
        text = text_of(path) if path.is_file() else ""
        for match in re.finditer(r"^s?bin_PROGRAMS\s*\+?=\s*((?:[\w./+-]+[ \t]*)+)", text, re.MULTILINE):
            where = path.parent.relative_to(folder)
            line = text.count("\n", 0, match.start()) + 1
            found += [((where / name).as_posix(), path, line) for name in match[1].split()]
    return sorted(found, key=lambda each: Path(each[0]).name != folder.name)


def _name_of(script: Path, folder: Path) -> str:
    """Return where the program is likely to be: it is called as the project."""
    found = re.search(r"\bAC_INIT\(\s*\[?\s*([A-Za-z][\w.+-]*)\s*\]?\s*,", text_of(script))
    return found[1].lower() if found else folder.name


def _plain(context: PlanContext) -> Plan | None:
    """The program that make builds: a target that compiles one, here or in `src` (GNU make, "How make Works")."""
    for folder in (context.folder, context.folder / "src"):
        path = next((folder / name for name in MAKEFILES if (folder / name).is_file()), None)
        found = _program(text_of(path), folder) if path else None
        if path is None or found is None:
            continue
        name, line = found
        program = folder / name
        sources = [each for each in folder.iterdir() if each != program and not each.name.startswith(".")]
        step = PrepareStep(
            title="build",
            command=("make",),
            folder=folder,
            source=context.source(path),
            needed=older_than(program, [each for each in sources if each.suffix != ".o"]),
            makes=(program,),
        )
        run = RunPlan(
            name=Path(name).name,
            command=(f"./{name}",),
            folder=folder,
            source=context.source(path, line),
            rank=Rank.COMMAND,
        )
        return Plan(prepare=(step,), runs=(run,))
    return None


def _program(text: str, folder: Path) -> tuple[str, int] | None:
    """Return the file that a Makefile builds as a program, and its line."""
    text = text.replace("\\\n", " ")
    plain = dict(re.findall(r"^(\w+)\s*[:?]?=\s*([\w./+-]+)\s*$", text, re.MULTILINE))
    text = re.sub(r"(?m)^\$[({](\w+)[)}](?=[ \t]*:)", lambda found: plain.get(found[1], found[0]), text)
    phony = set(" ".join(re.findall(r"^\.PHONY\s*:(.*)$", text, re.MULTILINE)).split())
    named = [(match[1], match.start()) for match in _NAMED.finditer(text)]
    first = [
        (word, match.start())
        for match in _TARGET.finditer(text)
        if match[1] in ("all", "default", "build")
        for word in match[2].split()
    ]
    targets = [(match[1], match.start()) for match in _TARGET.finditer(text) if _builds(match, folder)]
    known = {name for name, _ in targets}
    implicit = [
        each for each in first if any((folder / f"{each[0]}{ending}").is_file() for ending in (".c", ".cpp", ".cc"))
    ]
    for name, place in [*(each for each in first if each[0] in known), *implicit, *named, *targets]:
        if (
            name not in phony
            and name not in _NO_PROGRAMS
            and not name.endswith((".o", ".a", ".so", ".d", ".app", ".js", ".html"))
            and "$" not in name
        ):
            return name, text.count("\n", 0, place) + 1
    return None


_NO_PROGRAMS = frozenset(
    {"all", "clean", "install", "uninstall", "test", "tests", "check", "help", "dist", "run", "default"}
)


def _builds(target: re.Match[str], folder: Path) -> bool:
    """Whether a target links a program: its recipe compiles, or it is made of objects, or of a source of its name."""
    if re.search(r"\$[({]MAKE[)}]|(?:^|\s)make\s", target[3]):
        return False  # it hands over to another target
    if re.search(r"\.[oa]\b|\$[({]\w*(?:OBJ|_O\b|_A\b)", target[2]) and (not target[3] or _COMPILES.search(target[3])):
        return True
    return bool(_COMPILES.search(target[3])) and "." not in target[1]
