"""Ruby: gems that Bundler installs, Rails, Rack applications, scripts."""

from __future__ import annotations

import re
from pathlib import Path

from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, RunPlan, Setting, Step

_SCRIPTS = ("app.rb", "server.rb", "main.rb")


def plan(setting: Setting) -> Plan | None:
    """Return the plan for a Ruby project, or None when the folder is none."""
    folder = setting.folder
    gemfile = folder / "Gemfile"
    script = next((folder / name for name in _SCRIPTS if (folder / name).is_file()), _only_script(folder))
    rack = folder / "config.ru"
    if not gemfile.is_file() and not rack.is_file() and script is None:
        return None
    bundled = re.search(r"^\s*gem\s", text_of(gemfile), re.MULTILINE) is not None
    prefix = ("bundle", "exec") if bundled else ()
    steps: tuple[Step, ...] = ()
    if bundled:
        needed = "only Bundler knows whether its gems are there"
        steps = (Step("install gems", ("bundle", "install", "--quiet"), folder, setting.source(gemfile), needed),)
    if (folder / "bin/rails").is_file():
        command: tuple[str, ...] = ("ruby", "bin/rails", "server", "-b", "127.0.0.1", "-p", "{port}")
        run = RunPlan(
            "rails", command, folder, setting.source(folder / "bin/rails"), kind="server", port=3000, may_move=True
        )
    elif rack.is_file():
        command = (*prefix, "rackup", "-o", "127.0.0.1", "-p", "{port}")
        run = RunPlan("rack", command, folder, setting.source(rack), kind="server", port=9292, may_move=True)
    elif script:
        run = RunPlan(script.stem, (*prefix, "ruby", script.name), folder, setting.source(script))
    else:
        return Plan(steps)
    return Plan(steps, (run,))


def _only_script(folder: Path) -> Path | None:
    """Return the one script of a folder that is Ruby's, or that holds nothing else but words on it."""
    scripts = sorted(folder.glob("*.rb"))
    if len(scripts) != 1:
        return None
    of_ruby = any((folder / name).is_file() for name in ("Gemfile", ".ruby-version"))
    visible = [path for path in folder.iterdir() if not path.name.startswith(".")]
    others = [path for path in visible if not path.name.upper().startswith(("README", "LICENSE", "LICENCE"))]
    return scripts[0] if of_ruby or others == scripts else None
