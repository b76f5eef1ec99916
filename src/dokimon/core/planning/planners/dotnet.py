""".NET: which of the projects of a folder or solution is started, and what is done before it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import islice
from pathlib import Path

from dokimon.core.declarations.msbuild.project import MsProject, read_ms_project
from dokimon.core.declarations.solutions import ENDINGS, projects_named, solutions_in
from dokimon.core.declarations.walking import files_near
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunKind, RunPlan
from dokimon.core.planning.planners.dotnet_addresses import named_paths, usual_port
from dokimon.core.planning.planners.freshness import older_than

_QUIET = {
    "DOTNET_CLI_TELEMETRY_OPTOUT": "1", "DOTNET_NOLOGO": "1", "DOTNET_USE_POLLING_FILE_WATCHER": "0",
    "MSBUILDDISABLENODEREUSE": "1", "UseSharedCompilation": "false", "UseRazorBuildServer": "false",
    "DOTNET_CLI_USE_MSBUILD_SERVER": "0",
}  # fmt: skip
"""What leaves no server of a build behind."""

_MOST = 2000
_MOST_RUNS = 12


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for the projects of the folder; None where there are none."""
    found = _projects(context)
    if not found:
        file = _file_program(context)
        return Plan(runs=(file,)) if file else None
    ways = _in_order(found, context)
    runs = [_run(context, project) for project in ways[:_MOST_RUNS]]
    if not ways:
        return Plan(runs=())
    steps = _steps(context, ways[0]) if runs[0].command[0] == "dotnet" else [_mono_build(context, runs[0])]
    if steps and runs[0].command[0] == "dotnet":
        runs[0] = _run(context, ways[0], built=True)
    return Plan(prepare=tuple(steps), runs=tuple(runs))


def _projects(context: PlanContext) -> list[MsProject]:
    """The projects that a solution in the folder names, however deep; else those in the folder; else those just below."""
    folder = context.folder
    named = [folder / name for each in solutions_in(folder)[:1] for name, _ in projects_named(each, context.root)]
    inside = [path for path in named if path.is_relative_to(folder) and ".." not in path.parts and path.is_file()]
    here = sorted(path for path in folder.iterdir() if path.suffix in ENDINGS)
    paths = inside or here or list(files_near(folder, ENDINGS, 2))
    read = (read_ms_project(path, context.root) for path in dict.fromkeys(paths[:_MOST]))
    return [project for project in read if project]


_TESTS = ("microsoft.net.test.sdk", "xunit", "nunit", "mstest", "tunit")
_ASIDE = re.compile(r"(?i)(?:^|/)(?:samples?|examples?|demos?|playground|sandbox|tools?|build|eng)/")


def _is_tests(project: MsProject) -> bool:
    """Whether a project holds tests, or measurements: it is never what is started."""
    packages = project.packages
    return (
        project.says("istestproject")
        or any(sdk.lower().startswith("mstest") for sdk in project.sdks)
        or any(name == each or name.startswith(f"{each}.") for name in packages for each in _TESTS)
        or "benchmarkdotnet" in packages
    )


def _is_web(project: MsProject) -> bool:
    """Whether a project serves pages or an interface."""
    web = ("Microsoft.NET.Sdk.Web", "Microsoft.NET.Sdk.BlazorWebAssembly")
    return any(sdk in web for sdk in project.sdks) and project.value("outputtype").lower() != "library"


def _is_host(project: MsProject) -> bool:
    """Whether a project starts all the others of a distributed application (aspire.dev, "AppHost")."""
    return any(sdk.startswith("Aspire.AppHost") for sdk in project.sdks) or project.says("isaspirehost")


def _is_worker(project: MsProject) -> bool:
    if "Microsoft.NET.Sdk.Worker" in project.sdks:
        return project.value("outputtype").lower() != "library"
    return _is_program(project) and "microsoft.extensions.hosting" in project.packages


def _is_program(project: MsProject) -> bool:
    return project.value("outputtype").lower() in ("exe", "winexe")


def _in_order(found: Sequence[MsProject], context: PlanContext) -> list[MsProject]:
    """Return the projects that can be started, the one that is meant first.

    A host of the others, then web, workers, programs; what another one references is a part of it. Samples and tools come
    last. Where the README names one, that one is meant.
    """
    kinds = (_is_host, _is_web, _is_worker, _is_program)
    ways = [each for each in found if not _is_tests(each) and any(is_kind(each) for is_kind in kinds)]
    referenced = {path for each in found if not _is_tests(each) and not _is_host(each) for path in each.references}
    own = [each for each in ways if each.path.resolve() not in referenced] or ways
    readme = _named_in_readme(context)

    def place(project: MsProject) -> tuple[bool, bool, int]:
        where = project.path.relative_to(context.folder).as_posix()
        kind = next(number for number, is_kind in enumerate(kinds) if is_kind(project))
        return where not in readme and f"{Path(where).parent}" not in readme, bool(_ASIDE.search(where)), kind

    return sorted(own, key=place)


def _named_in_readme(context: PlanContext) -> set[str]:
    """The projects, or their folders, that the README starts."""
    text = "\n".join(text_of(path, 200_000) for path in islice(sorted(context.folder.glob("README*")), 2))
    named = re.findall(r"dotnet (?:run|watch)[^\n`]*?(?:--project|-p)[= ]+\"?([\w./\\\\ -]+?)\"?(?=\s|`|$)", text)
    named += re.findall(r"(?m)^\s*(?:\$ )?cd ([\w./\\\\-]+)\s*(?:\n|&&)\s*(?:\$ )?dotnet run", text)
    return {each.replace("\\", "/").removeprefix("./").rstrip("/") for each in named}


def _runnable(project: MsProject) -> str | None:
    """The target framework that is started here, of several: the newest of .NET itself that is for no other system."""
    plain = [each for each in project.frameworks if re.fullmatch(r"net(?:coreapp)?\d+\.\d+", each)]
    newest = sorted(plain, key=lambda each: [int(part) for part in re.findall(r"\d+", each)])
    return newest[-1] if newest and len(project.frameworks) > 1 else None


def _run(context: PlanContext, project: MsProject, *, built: bool = False) -> RunPlan:
    if not project.sdks:
        return _of_framework(context, project)
    framework = _runnable(project)
    port = usual_port(project.path.parent) if _is_web(project) else None
    kind: RunKind = "server" if _is_web(project) else None
    return RunPlan(
        rank=Rank.FRAMEWORK,
        name=project.path.stem,
        command=(
            "dotnet", "run", *(("--no-build",) if built else ()), *_named(context, project, "--project"),
            *(("--framework", framework) if framework else ()),
        ),
        folder=context.folder,
        source=context.source(project.path, project.line),
        kind=kind,
        port=port,
        environment=_QUIET,
        paths=named_paths(project.path.parent) if _is_web(project) else (),
    )  # fmt: skip


def _named(context: PlanContext, project: MsProject, *option: str) -> tuple[str, ...]:
    """The words that name a project, after an option, where the folder alone does not."""
    beside = [path for path in project.path.parent.iterdir() if path.suffix in (*ENDINGS, ".sln", ".slnx", ".slnf")]
    if project.path.parent == context.folder and len(beside) == 1:
        return ()
    return (*option, project.path.relative_to(context.folder).as_posix())


def _steps(context: PlanContext, project: MsProject) -> list[PrepareStep]:
    """Restoring tools and packages, the packages of a page of its own, and the build: each with its own time and verdict."""
    where = _named(context, project)
    framework = _runnable(project)
    folder = project.path.parent
    made = folder / "bin/Debug" / (framework or next(iter(project.frameworks), "")) / f"{project.assembly}.dll"
    made = made if ".." not in made.parts and made.is_relative_to(folder) else folder / "bin"
    inside = [path for path in project.references if path.is_relative_to(context.root)]
    sources = [each for path in (project.path, *inside) for each in _sources(path)]
    assets = folder / "obj/project.assets.json"
    manifests = [project.path, *(folder / name for name in ("packages.lock.json", "Directory.Build.props"))]
    restore, build = older_than(assets, manifests), older_than(made, sources)

    def step(title: str, command: tuple[str, ...], needed: str | None, reason: str) -> PrepareStep:
        source = context.source(project.path, project.line)
        return PrepareStep(
            title=title, command=command, folder=context.folder, source=source, needed=needed, reason=reason,
            environment=_QUIET,
        )  # fmt: skip

    build_command = ("dotnet", "build", *where, "--no-restore", "--nologo", "-verbosity:quiet")
    build_command += ("--framework", framework) if framework else ()
    return [
        *_tools(context),
        step("restore packages", ("dotnet", "restore", *where), restore, "obj has what the project names"),
        *_page(context, project),
        step("build", build_command, build or restore, f"{made.name} is newer than its sources"),
    ]


def _sources(project: Path) -> list[Path]:
    try:
        return [path for path in project.parent.iterdir() if path.name not in ("bin", "obj")]
    except OSError:
        return []


_TOOL = re.compile(r'"([\w.-]+)"\s*:\s*\{\s*"version"\s*:\s*"([\w.+-]+)"')


def _tools(context: PlanContext) -> list[PrepareStep]:
    """The local tools (learn.microsoft.com, "dotnet tool restore"), where one is not among the packages of this user."""
    above = [folder for folder in (context.folder, *context.folder.parents) if folder.is_relative_to(context.root)]
    manifests = [folder / name for folder in above for name in (".config/dotnet-tools.json", "dotnet-tools.json")]
    manifest = next((path for path in manifests if path.is_file()), None)
    named = _TOOL.findall(text_of(manifest, 100_000)) if manifest else []
    if manifest is None or not named:
        return []
    home = Path(context.environment.get("HOME", "/"))
    packages = Path(context.environment.get("NUGET_PACKAGES") or home / ".nuget/packages")
    missing = next((name for name, version in named if not (packages / name.lower() / version.lower()).is_dir()), None)
    return [
        PrepareStep(
            title="restore tools", command=("dotnet", "tool", "restore"), folder=context.folder,
            source=context.source(manifest), needed=missing and f"{missing} is not among the packages of this user",
            reason="each is among the packages of this user", environment=_QUIET,
        )
    ]  # fmt: skip


def _page(context: PlanContext, project: MsProject) -> list[PrepareStep]:
    """The packages of a page in JavaScript that the project serves (`SpaRoot`)."""
    place = project.value("sparoot").replace("\\", "/").rstrip("/")
    folder = project.path.parent / place
    inside = folder.is_relative_to(project.path.parent) and ".." not in folder.parts
    if not place or not inside or not (folder / "package.json").is_file():
        return []
    locked = (folder / "package-lock.json").is_file()
    needed = None if (folder / "node_modules").is_dir() else f"there is no node_modules in {place}"
    return [
        PrepareStep(
            title=f"install packages of {place}", command=("npm", "ci" if locked else "install", "--no-audit", "--no-fund"),
            folder=folder, source=context.source(folder / "package.json"), needed=needed, reason="node_modules is there",
        )
    ]  # fmt: skip


_FILE_DIRECTIVE = re.compile(r"(?m)^#:(?:sdk|package|property|project)\b|\A#!.*\bdotnet\b")


def _file_program(context: PlanContext) -> RunPlan | None:
    """A program that is one file of C# (learn.microsoft.com, "File-based apps"): a directive or its first line says so."""
    files = sorted(path for path in context.folder.glob("*.cs") if path.is_file())
    said = [path for path in files if _FILE_DIRECTIVE.search(text_of(path, 100_000))]
    usual = ("apphost", "app", "main", "program")
    path = next((each for each in said if each.stem.lower() in usual), next(iter(said), None))
    if path is None and len(files) == 1 and files[0].stem.lower() in usual:
        path = files[0]
    if path is None:
        return None
    text = text_of(path, 100_000)
    serves = re.search(r"(?m)^#:sdk\s+Microsoft\.NET\.Sdk\.Web\b", text)
    return RunPlan(
        rank=Rank.FRAMEWORK,
        name=path.stem,
        command=("dotnet", "run", path.name),
        folder=context.folder,
        source=context.source(path),
        kind="server" if serves else None,
        port=usual_port(context.folder) if serves else None,
        environment=_QUIET,
        paths=named_paths(context.folder) if serves else (),
    )


def _of_framework(context: PlanContext, project: MsProject) -> RunPlan:
    """A program of .NET Framework, which `dotnet` cannot start: Mono runs what MSBuild has made of it."""
    where = project.path.parent.relative_to(context.folder)
    place = (project.value("outputpath") or "bin/Debug").replace("\\", "/").rstrip("/")
    place = "bin/Debug" if "$" in place else place
    return RunPlan(
        rank=Rank.FRAMEWORK,
        name=project.path.stem,
        command=("mono", (where / place / f"{project.assembly}.exe").as_posix()),
        folder=context.folder,
        source=context.source(project.path, project.line),
    )


def _mono_build(context: PlanContext, run: RunPlan) -> PrepareStep:
    project = context.root / run.source.file
    made = context.folder / run.command[1]
    where = project.relative_to(context.folder).as_posix()
    return PrepareStep(
        title="build",
        command=("msbuild", "-restore", "-verbosity:quiet", where),
        folder=context.folder,
        source=run.source,
        needed=older_than(made, [project.parent]),
        makes=(made,),
    )
