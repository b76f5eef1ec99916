"""C and C++ built by make, with or without the Autotools before it."""

from __future__ import annotations

import re
import shlex
from itertools import islice
from pathlib import Path

from dokimon.core.expressions import expression
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan
from dokimon.core.planning.planners import native
from dokimon.core.planning.planners.freshness import older_than
from dokimon.core.planning.planners.names import folder_names
from dokimon.core.planning.planners.native import BESIDE
from dokimon.core.source import Source

MAKEFILES = ("GNUmakefile", "makefile", "Makefile")
_NAMED = expression(
    r"^(?:TARGET|PROG|PROGRAM|PROGNAME|BIN|BINARY|EXE|EXEC|EXECUTABLE|NAME|APP|OUT|OUTPUT)\s*[:?]?=\s*([\w./+-]+)\s*$",
    re.MULTILINE,
)
_TARGET = expression(r"^([A-Za-z][\w./+-]*)[ \t]*:(?![:=])([^\n]*)\n((?:\t[^\n]*\n?)*)", re.MULTILINE)
_COMPILES = expression(r"\$[({](?:CC|CXX|LINK\.o|LD|cmd_\w+)[)}]|\b(?:gcc|g\+\+|cc|c\+\+|clang(?:\+\+)?)\b|-o\s+\$@")


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
    script = _script(folder) or made
    if not script.is_file():
        return None
    listed = _listed(context, script)
    if listed is None or (not listed and _is_library(context, script)):
        return Plan()
    source = context.source(script)
    written = next((folder / name for name in MAKEFILES if (folder / name).is_file()), folder / "Makefile")
    is_configured = (folder / "config.status").is_file() and written.is_file()
    configure = PrepareStep(
        title="configure",
        command=("./configure",),
        folder=folder,
        source=source,
        needed=None if is_configured else "it has not been configured",
        makes=(written,),
    )
    programs = listed or [(_name_of(script, folder), script, 1)]
    target = folder / programs[0][0]
    sources = [each for each in folder.iterdir() if each != target and not each.name.startswith(".")]
    build = PrepareStep(
        title="build",
        command=("make",),
        folder=folder,
        source=source,
        needed=older_than(target, [each for each in sources if each.suffix in _SOURCES or each.is_dir()]),
    )
    names = " ".join(shlex.quote(name) for name in dict.fromkeys([programs[0][0], folder.name]))
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
    return Plan(prepare=(*_make_configure(context, source), configure, build), runs=runs)


def _script(folder: Path) -> Path | None:
    """Return what `configure` is made from, where it is made."""
    return next((folder / name for name in ("configure.ac", "configure.in") if (folder / name).is_file()), None)


def _make_configure(context: PlanContext, source: Source) -> tuple[PrepareStep, ...]:
    folder = context.folder
    made = folder / "configure"
    if made.is_file():
        return ()
    own = next((name for name in _MAKES_CONFIGURE if (folder / name).is_file()), None)
    return (
        PrepareStep(
            title="make configure",
            command=("sh", own) if own else ("autoreconf", "--install", "--force"),
            folder=folder,
            source=source,
            needed="there is no configure",
            makes=(made,),
        ),
    )


def _is_library(context: PlanContext, script: Path) -> bool:
    """Whether what is built is loaded by something else: an extension of Tcl, a module or library called as one."""
    return "TEA_INIT" in text_of(script) or _name_of(script, context.folder).startswith(("lib", "mod_"))


def _listed(context: PlanContext, script: Path) -> list[tuple[str, Path, int]] | None:
    """Return the programs that the project's files name; none where they name none, None where they name only a library."""
    listed = _of_automake(context)
    if listed is None or listed:
        return listed
    if script.name != "configure":
        return _of_makefile(context, "Makefile.in")
    listed = _of_makefile(context, "Makefile")
    # What a script of the project's own makes of it is best called as the project.
    own, here = _own_names(context.folder), (context.folder, context.folder / "src")
    below = any(path.parent not in here for _, path, _ in listed)
    return listed if below or any(Path(name).name.lower() in own for name, _, _ in listed) else []


_WHEREVER = (
    'for name in {names}; do for each in "./$name" "./src/$name" "./build/$name" "./bin/$name" "./objs/$name"; do '
    '[ -f "$each" ] && [ -x "$each" ] && exec "$each" "$@"; done; done; echo "$name was not built"; exit 127'
)
"""Without Automake's word for it, the program is called as the project, and lies in one of the usual places."""

_MAKES_CONFIGURE = ("autogen.sh", "bootstrap", "bootstrap.sh", "buildconf")
_SOURCES = frozenset({".c", ".h", ".cc", ".cpp", ".cxx", ".hpp", ".s", ".S", ".y", ".l"})


def _of_automake(context: PlanContext) -> list[tuple[str, Path, int]] | None:
    """The programs that Automake installs (its manual, "Program and Library Variables"), the project's own first.

    None for a project that installs libraries, headers or data alone.
    """
    folder = context.folder
    found, others = [], False
    top = folder / "Makefile.am"
    below = [path for path in sorted(islice(folder.rglob("Makefile.am"), _MOST_MAKEFILES)) if _is_part(path, folder)]
    for path in [top, *below] if top.is_file() else []:
        text = re.sub(r"\\\n", lambda _: " \v", text_of(path))
        others = (
            others or re.search(r"^\w+_(?:LTLIBRARIES|LIBRARIES|HEADERS|DATA)\s*\+?=", text, re.MULTILINE) is not None
        )
        for match in re.finditer(r"^(?:\w*bin|libexec|games)_(?:PROGRAMS|SCRIPTS)\s*\+?=([^\n]*)", text, re.MULTILINE):
            where = path.parent.relative_to(folder)
            line = text.count("\n", 0, match.start()) + text.count("\v", 0, match.start()) + 1
            words = [word for word in match[1].split() if re.fullmatch(r"[\w./+-]+", word)]
            found += [((where / name).as_posix(), path, line) for name in words]
    if not found and others and not any(folder.glob("*.c")):
        return None
    own = _own_names(folder)
    return sorted(found, key=lambda each: (Path(each[0]).name.lower() not in own, bool(BESIDE.search(each[0]))))


_MOST_MAKEFILES = 300


def _is_part(path: Path, folder: Path) -> bool:
    return path.parent != folder and not BESIDE.search(path.parent.relative_to(folder).as_posix())


def _own_names(folder: Path) -> set[str]:
    """The names by which a project goes: that of its folder, without a release behind it, and that of its script."""
    script = _script(folder)
    named = {_name_of(script, folder).lower()} if script else set()
    return folder_names(folder) | named


def _of_makefile(context: PlanContext, called: str) -> list[tuple[str, Path, int]]:
    """The programs that a Makefile builds, or one that `configure` fills in, here or in `src`."""
    own = _own_names(context.folder)
    for path in (context.folder / called, context.folder / "src" / called):
        found = _programs(text_of(path), path.parent) if path.is_file() else []
        where = path.parent.relative_to(context.folder)
        listed = [((where / name).as_posix(), path, line) for name, line in found if not BESIDE.search(name)]
        if listed:
            return sorted(listed, key=lambda each: Path(each[0]).name.lower() not in own)
    return _of_folders_below(context, called)


def _of_folders_below(context: PlanContext, called: str) -> list[tuple[str, Path, int]]:
    """The programs of the folders into which a Makefile goes (GNU make, "Recursive Use of make")."""
    text = text_of(context.folder / called) if (context.folder / called).is_file() else ""
    named = [value for _, value in re.findall(r"^(\w*(?:SUB)?DIRS)\s*[+:?]?=\s*([^\n#]*)", text, re.MULTILINE)]
    named += [*re.findall(r"-C\s+([\w./-]+)", text), *re.findall(r"\bcd\s+([\w./-]+)\s*(?:&&|;)\s*\S*make", text, re.I)]
    listed = []
    for where in dict.fromkeys(" ".join(named).split()):
        path = context.folder / where / called
        if re.fullmatch(r"[\w./-]+", where) and not BESIDE.search(where) and ".." not in where and path.is_file():
            found = _programs(text_of(path), path.parent)
            listed += [(f"{where.strip('/')}/{name}", path, line) for name, line in found if not BESIDE.search(name)]
    own = _own_names(context.folder)
    return sorted(listed, key=lambda each: Path(each[0]).name.lower() not in own)[:_MOST_MAKEFILES]


def _name_of(script: Path, folder: Path) -> str:
    """Return where the program is likely to be: it is called as the project (the Autoconf manual, "Initializing configure").

    Older scripts name a source file there, and the project to Automake.
    """
    text = text_of(script)
    found = re.search(r"\bAC_INIT\(\s*\[?\s*([A-Za-z][\w.+-]*)\s*\]?\s*,", text)
    found = found or re.search(r"\bAM_INIT_AUTOMAKE\(\s*\[?\s*([A-Za-z][\w.+-]*)\s*\]?\s*,", text)
    found = found or re.search(r"\bAC_INIT\(\s*\[?\s*(?:[\w.+-]+/)*([A-Za-z][\w+-]*)\.\w+\s*\]?\s*\)", text)
    return found[1].lower() if found else re.sub(r"[-_]v?\d[\w.]*$", "", folder.name)


def _plain(context: PlanContext) -> Plan | None:
    """The programs that make builds, here, in `src`, or in the folders that it goes into (GNU make, "How make Works")."""
    for folder in (context.folder, context.folder / "src"):
        path = next((folder / name for name in MAKEFILES if (folder / name).is_file()), None)
        found = _programs(text_of(path), folder) if path else []
        if path and found:
            listed = [found[0], *(each for each in found[1:] if not BESIDE.search(each[0]))]
            return _made(context, folder, path, [(name, path, line) for name, line in listed])
    called = next((name for name in MAKEFILES if (context.folder / name).is_file()), None)
    below = _of_folders_below(context, called) if called else []
    return _made(context, context.folder, context.folder / called, below) if called and below else None


def _made(context: PlanContext, folder: Path, makefile: Path, listed: list[tuple[str, Path, int]]) -> Plan:
    """Return the plan that makes in a folder and starts one of the programs that are built there."""
    program = folder / listed[0][0]
    beside = program.parent if program.parent.is_dir() else folder
    inputs = [each for each in beside.iterdir() if each != program and not each.name.startswith(".")]
    step = PrepareStep(
        title="build",
        command=("make",),
        folder=folder,
        source=context.source(makefile),
        needed=older_than(program, [each for each in inputs if each.suffix != ".o"]),
        makes=(program,),
    )
    runs = tuple(
        RunPlan(
            name=Path(name).name, command=(f"./{name}",), folder=folder, source=context.source(path, line),
            rank=Rank.COMMAND,
        )
        for name, path, line in listed
    )  # fmt: skip
    return Plan(prepare=(step,), runs=runs)


def _programs(text: str, folder: Path) -> list[tuple[str, int]]:
    """Return the files that a Makefile builds as programs, the likeliest first, and their lines."""
    text = _expanded(re.sub(r"\\\n", lambda _: " \v", re.sub(r"@\w*EXEEXT@", "", text)))
    phony = set(" ".join(re.findall(r"^\.PHONY\s*:(.*)$", text, re.MULTILINE)).split())
    named = [(match[1], match.start()) for match in _NAMED.finditer(text) if len(match[1]) < _LONGEST_NAME]
    first = [
        (word, match.start())
        for match in _TARGET.finditer(text)
        if match[1] in ("all", "default", "build", "prog", "programs")
        for word in match[2].split()
        if len(word) < _LONGEST_NAME
    ]
    targets = [
        (match[1], match.start())
        for match in _TARGET.finditer(text)
        if len(match[1]) < _LONGEST_NAME and _builds(match, folder)
    ]
    known = {name for name, _ in targets}
    implicit = [
        each for each in first if any((folder / f"{each[0]}{ending}").is_file() for ending in (".c", ".cpp", ".cc"))
    ]
    found: dict[str, int] = {}
    for name, place in [*(each for each in first if each[0] in known), *implicit, *named, *targets]:
        if (
            name not in phony
            and name not in _NO_PROGRAMS
            and not name.endswith(_NOT_ENDINGS)
            and not re.search(r"[$%\v]|\.so\.", name)
            and not (name.startswith("lib") and re.search(rf"\b{re.escape(name)}\.(?:so|a|la|dylib)\b", text))
        ):
            # A line that went on is one now; each of its pieces was a line.
            found.setdefault(name, text.count("\n", 0, place) + text.count("\v", 0, place) + 1)
    return list(found.items())


_NOT_ENDINGS = (
    ".o", ".a", ".so", ".d", ".app", ".js", ".html", ".1", ".8", ".5", ".lo", ".la", ".pot", ".po", ".mo", ".gmo", ".pdf",
    ".ps", ".txt", ".md", ".c", ".h", ".gz", ".zip", ".tar", ".json", ".xml", ".css", ".png", ".svg", ".dll", ".dylib",
)  # fmt: skip
_LONGEST_NAME = 200  # file systems have a limit of 255 bytes

_VARIABLE = expression(r"^[ \t]*(?:override\s+|export\s+)?([\w.]+)[ \t]*[:?]{0,2}=[ \t]*([^\n#]*)", re.MULTILINE)


def _expanded(text: str) -> str:
    """Fill in the variables of a Makefile where it names targets; one that nothing sets is empty (GNU make, "Reference")."""
    values: dict[str, str] = {}
    for name, value in _VARIABLE.findall(text):
        values.setdefault(name, value.strip())

    def fill(part: str, depth: int = 0) -> str:
        if "$" not in part or depth > _DEEPEST or len(part) > _LONGEST:
            return part
        return re.sub(r"\$[({]([\w.]+)[)}]", lambda found: fill(values.get(found[1], ""), depth + 1), part)

    # Recipes stay as they are: what compiles there is told by the names of variables.
    return re.sub(
        r"(?m)^(?![\t#])([^\n=:]*):(?![:=])([^\n]*)$",
        lambda line: f"{fill(line[1]).strip()}: {_objects(line[2])}{fill(line[2])}",
        text,
    )


_DEEPEST, _LONGEST = 5, 4000


def _objects(prerequisites: str) -> str:
    """Keep that a program is made of objects, where only the name of a variable says so."""
    return ".o " if re.search(r"\$[({]\w*(?:OBJ|_O\b|_A\b)", prerequisites) else ""


_NO_PROGRAMS = frozenset(
    {
        "all", "clean", "install", "uninstall", "test", "tests", "check", "help", "dist", "run", "default", "depend",
        "shared", "static", "compile", "load", "makelib", "makeso", "choose", "hier", "instcheck", "programs", "prog",
        "libraries", "lib", "docs", "doc", "man", "rts", "auto-str", "chkshsgr", "systype",
    }
)  # fmt: skip
"""Names of tasks, by custom, and of small helpers that packages bring to build themselves."""


def _builds(target: re.Match[str], folder: Path) -> bool:
    """Whether a target links a program: its recipe compiles, or it is made of objects, or of a source of its name."""
    if re.search(r"\$[({]MAKE[)}]|(?:^|\s)make\s", target[3]):
        return False  # it hands over to another target
    if re.search(r"\.[oa]\b|\$[({]\w*(?:OBJ|_O\b|_A\b)", target[2]) and (not target[3] or _COMPILES.search(target[3])):
        return True
    return bool(_COMPILES.search(target[3])) and "." not in target[1]
