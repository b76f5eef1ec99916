"""Ecosystems that need but one command: Deno, Swift, Elixir, Dart, firmware, and a folder of plain pages."""

from __future__ import annotations

import re
import sys
from pathlib import Path

from dokimon.core.checks.artefact import Artefact
from dokimon.core.checks.carrying_out import Asked
from dokimon.core.files import text_of
from dokimon.core.planning.plan import Plan, RunPlan, Setting, Step


def deno(setting: Setting) -> Plan | None:
    """A task of `deno.json`, by the names that are usual for scripts."""
    for name in ("deno.json", "deno.jsonc"):
        path = setting.folder / name
        if not path.is_file():
            continue
        text = text_of(path)
        for task in ("dev", "start", "serve"):
            if found := re.search(rf'"{task}"\s*:\s*["{{]', text):
                line = text.count("\n", 0, found.start()) + 1
                return Plan((), (RunPlan(task, ("deno", "task", task), setting.folder, setting.source(path, line)),))
        return Plan()
    return None


def swift(setting: Setting) -> Plan | None:
    """The executable targets of a package (docs.swift.org, "PackageDescription")."""
    path = setting.folder / "Package.swift"
    if not path.is_file():
        return None
    text = text_of(path)
    found = re.finditer(r"\.executable(?:Target)?\s*\(\s*name:\s*\"([^\"]+)\"", text)
    lines = {match[1]: text.count("\n", 0, match.start()) + 1 for match in found}
    runs = (
        RunPlan(name, ("swift", "run", name), setting.folder, setting.source(path, line))
        for name, line in lines.items()
    )
    return Plan((), tuple(runs))


def elixir(setting: Setting) -> Plan | None:
    """Mix: dependencies, then Phoenix's server or the application itself."""
    path = setting.folder / "mix.exs"
    if not path.is_file():
        return None
    text = text_of(path)
    steps: tuple[Step, ...] = ()
    if re.search(r"\{\s*:\w+\s*,", text):
        needed = None if (setting.folder / "deps").is_dir() else "there is no folder deps"
        steps = (Step("fetch dependencies", ("mix", "deps.get"), setting.folder, setting.source(path), needed),)
    if ":phoenix" in text:
        run = RunPlan("phoenix", ("mix", "phx.server"), setting.folder, setting.source(path), kind="server", port=4000)
    else:
        run = RunPlan("mix", ("mix", "run", "--no-halt"), setting.folder, setting.source(path))
    return Plan(steps, (run,))


def dart(setting: Setting) -> Plan | None:
    """A program in `bin`; of a Flutter project, its form for the web, which needs no device."""
    path = setting.folder / "pubspec.yaml"
    if not path.is_file():
        return None
    if re.search(r"^\s+sdk:\s*flutter", text_of(path), re.MULTILINE):
        command = ("flutter", "run", "-d", "web-server", "--web-hostname", "127.0.0.1", "--web-port", "{port}")
        web = RunPlan("web", command, setting.folder, setting.source(path), kind="server", port=8080, may_move=True)
        return Plan((), (web,) if (setting.folder / "web").is_dir() else ())
    programs = [each for each in sorted(setting.folder.glob("bin/*.dart")) if "main(" in text_of(each)]
    needed = (
        None if (setting.folder / ".dart_tool/package_config.json").is_file() else "there is no package configuration"
    )
    step = Step("fetch packages", ("dart", "pub", "get"), setting.folder, setting.source(path), needed)
    runs = (
        RunPlan(each.stem, ("dart", "run", f"bin/{each.name}"), setting.folder, setting.source(each))
        for each in programs
    )
    return Plan((step,), tuple(runs))


def firmware(setting: Setting) -> Plan | None:
    """Firmware is built; what it does shows on a board (ESP-IDF and PlatformIO)."""
    folder = setting.folder
    lists = folder / "CMakeLists.txt"

    def built(command: tuple[str, ...], asked_by: Path, *images: str) -> Plan:
        checks = tuple(Asked(Artefact(built=pattern)) for pattern in images)
        source = setting.source(asked_by)
        return Plan((), (RunPlan("firmware", command, folder, source, kind="program", within=1800, checks=checks),))

    if "tools/cmake/project.cmake" in text_of(lists):
        return built(("idf.py", "build"), lists, "build/*.elf", "build/*.bin")
    platformio = folder / "platformio.ini"
    if platformio.is_file():
        return built(("pio", "run"), platformio, ".pio/build/*/firmware.*")
    return None


def static(setting: Setting) -> Plan | None:
    """A folder of plain pages, served by the Python that Dokimon runs on."""
    for name in ("index.html", "public/index.html", "site/index.html", "docs/index.html"):
        page = setting.folder / name
        if page.is_file():
            where = str(page.parent.relative_to(setting.folder))
            command = (sys.executable, "-m", "http.server", "{port}", "--bind", "127.0.0.1", "--directory", where)
            run = RunPlan(
                "pages", command, setting.folder, setting.source(page), kind="server", port=8000, may_move=True
            )
            return Plan((), (run,))
    return None
