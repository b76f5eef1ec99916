"""Ruby: gems that Bundler installs, Rails, Rack applications, scripts."""

from __future__ import annotations

import re
from pathlib import Path

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, PlanContext, PrepareStep, Rank, RunPlan

_SCRIPTS = ("app.rb", "server.rb", "main.rb")


def plan(context: PlanContext) -> Plan | None:
    """Return the plan for a Ruby project, or None when the folder is none."""
    folder = context.folder
    gemfile = folder / "Gemfile"
    script = next((folder / name for name in _SCRIPTS if (folder / name).is_file()), _only_script(folder))
    rack = folder / "config.ru"
    gem = next(iter(folder.glob("*.gemspec")), None)
    if not gemfile.is_file() and not rack.is_file() and script is None and gem is None:
        return None
    bundled = re.search(r"^[ \t]*gem(?:spec)?\b", text_of(gemfile), re.MULTILINE) is not None
    prefix = ("bundle", "exec") if bundled else ()
    steps: tuple[PrepareStep, ...] = ()
    if bundled:
        needed = "only Bundler knows whether its gems are installed"
        steps = (
            PrepareStep(
                title="install gems",
                command=("bundle", "install", "--quiet"),
                folder=folder,
                source=context.source(gemfile),
                needed=needed,
            ),
        )
    if (folder / "bin/rails").is_file():
        command: tuple[str, ...] = ("ruby", "bin/rails", "server", "-b", "127.0.0.1", "-p", "{port}")
        run = RunPlan(
            name="rails",
            command=command,
            folder=folder,
            source=context.source(folder / "bin/rails"),
            kind="server",
            port=3000,
            may_move=True,
            rank=Rank.FRAMEWORK,
        )
    elif rack.is_file():
        command = (*prefix, "rackup", "-o", "127.0.0.1", "-p", "{port}")
        run = RunPlan(
            name="rack",
            command=command,
            folder=folder,
            source=context.source(rack),
            kind="server",
            port=9292,
            may_move=True,
            rank=Rank.FRAMEWORK,
        )
    elif script:
        run = RunPlan(
            name=script.stem, command=(*prefix, "ruby", script.name), folder=folder, source=context.source(script)
        )
    else:
        return Plan(prepare=steps, runs=tuple(_executables(context, prefix)))
    return Plan(prepare=steps, runs=(run, *_executables(context, prefix)))


def _executables(context: PlanContext, prefix: tuple[str, ...]) -> list[RunPlan]:
    """The programs that a gem brings: `exe` by custom of Bundler, or `bin` (guides.rubygems.org)."""
    found = []
    for path in sorted([*context.folder.glob("exe/*"), *context.folder.glob("bin/*")]):
        if path.name in ("console", "setup", "rails", "rake", "bundle", "spring", "yarn", "dev") or not path.is_file():
            continue
        if re.match(r"#!.*\bruby\b", text_of(path, 200)):
            command = (*prefix, "ruby", "-Ilib", path.relative_to(context.folder).as_posix())
            source = context.source(path)
            found.append(
                RunPlan(name=path.stem, command=command, folder=context.folder, source=source, rank=Rank.COMMAND)
            )
    return found


def _only_script(folder: Path) -> Path | None:
    """Return the one script of a folder that is Ruby's, or that holds nothing else but words on it."""
    scripts = sorted(folder.glob("*.rb"))
    if len(scripts) != 1:
        return None
    of_ruby = any((folder / name).is_file() for name in ("Gemfile", ".ruby-version"))
    visible = [path for path in folder.iterdir() if not path.name.startswith(".")]
    others = [path for path in visible if not path.name.upper().startswith(("README", "LICENSE", "LICENCE"))]
    return scripts[0] if of_ruby or others == scripts else None
