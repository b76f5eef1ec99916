"""Components: found where the catalogue says, and judged. Tools that cannot be had here are played by stand-ins."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path
from typing import Any

import pytest

from conftest import World, surveyor

PHP = """case "$*" in
*-r*) printf 'ext-mbstring\\t8.3.6\\next-redis\\t5.3.7\\n64bit\\t8.3.6\\nlib-icu\\t72.1\\n';;
*) echo 'PHP 8.3.6 (cli)';; esac"""

ANDROID = {
    f"~/Android/Sdk/{name}/source.properties": f"Pkg.Desc=x\nPkg.Revision={revision}\n"
    for name, revision in {
        "platforms/android-34": "3",
        "build-tools/34.0.0": "34.0.0",
        "platform-tools": "35.0.1",
    }.items()
}
DOTNET = {
    "~/net/sdk/6.0.400/dotnet.dll": "", "~/net/sdk/8.0.301/dotnet.dll": "", "~/net/sdk/9.0.100/x": "",
    "~/net/sdk/9.0.200.bak/dotnet.dll": "", "~/net/shared/Microsoft.NETCore.App/9.0.1/x": "",
    "~/net/shared/Microsoft.NETCore.App/8.0.6/Microsoft.NETCore.App.deps.json": "",
    "~/.dotnet/tools/.store/dotnet-ef/8.0.1/x": "",
}  # fmt: skip
WRAPPED = """case "$*" in
--list-sdks) echo '6.0.400 [/opt/net/sdk]'; echo '8.0.404 [/opt/net/sdk]';;
--list-runtimes) echo 'Microsoft.AspNetCore.App 8.0.11 [/opt/net/x]'; echo 'Microsoft.NETCore.App 8.0.11 [/opt/net/y]';;
*) echo 8.0.404;; esac"""
GLOBAL = "~/node/lib/node_modules"
NPM = {
    f"{GLOBAL}/npm/package.json": '{"version": "10.8.2"}',
    f"{GLOBAL}/serve/package.json": '{"name": "serve",\n "version": "14.2.0"}',
    f"{GLOBAL}/@tide/cli/package.json": '{"version": "3.0.0"}',
    f"{GLOBAL}/odd/package.json": "no JSON",
}
RUST = {
    "~/rust/lib/rustlib/components": "clippy-preview-x86_64-unknown-linux-gnu\nrust-src\n"
    "rust-std-wasm32-unknown-unknown\n",
    "~/rust/lib/rustlib/multirust-channel-manifest.toml": '[pkg.rust]\nversion = "1.79.0"\n',
    "~/rust/lib/rustlib/wasm32-unknown-unknown/lib/x": "",
}
PIP = {
    "~/py/lib/python3.11/site-packages/pip-24.0.dist-info/METADATA": "Version: 24.0\n",
    "~/py/lib/python3.11/site-packages/Flask_Login-0.6.3.dist-info/METADATA": "",
}
PYTHON = {"~/py/lib/python3.9/venv/__init__.py": "", "~/py/lib/python3.10/ensurepip/__init__.py": ""}


@pytest.mark.parametrize(
    "tool, component, programs, files, verdict, says, command",
    [
        ("php", "ext-mbstring", {"php": PHP}, {}, "met", "8.3.6 is there", None),
        ("php", "ext-redis >=6", {"php": PHP}, {}, "unmet", "5.3.7 is too old; accepted: 6 or newer", None),
        ("php", "ext-intl", {"php": PHP, "apt-get": ""}, {}, "missing", "php has no ext-intl",
            "sudo apt-get install php8.3-intl"),
        ("php", "ext-pdo_mysql", {"php": PHP, "apt-get": ""}, {}, "missing", "has no ext-pdo_mysql",
            "sudo apt-get install php-mysql"),
        ("php", "64bit", {"php": PHP}, {}, "met", "8.3.6 is there", None),
        ("php", "lib-icu >=70", {"php": PHP}, {}, "met", "72.1 is accepted", None),
        ("php", "ext-intl", {"php": "echo 'PHP 8.3.6 (cli)'"}, {}, "unknown", "did not list its components", None),
        ("php", "ext-intl", {}, {}, "missing", "no folder on PATH has php", None),
        ("dotnet", "sdk >=8.0.300", {"~/net/dotnet": ""}, DOTNET, "met", "8.0.301 is accepted", None),
        ("dotnet", "sdk >=9", {"~/net/dotnet": ""}, DOTNET, "unmet",
            "8.0.301 is too old; accepted: 9 or newer; also there: 6.0.400", None),
        ("dotnet", "runtime >=8", {"~/net/dotnet": ""}, DOTNET, "met", "8.0.6 is accepted", None),
        ("dotnet", "aspnetcore", {"~/net/dotnet": ""}, DOTNET, "missing", "has no aspnetcore", None),
        ("dotnet", "tool dotnet-ef", {"~/net/dotnet": ""}, DOTNET, "met", "8.0.1 is there", None),
        ("dotnet", "sdk", {"~/net/dotnet": "exit 1"},
            {"~/net/shared/Microsoft.NETCore.App/8.0.6/Microsoft.NETCore.App.deps.json": ""}, "missing",
            "is there, but no SDK is (only runtime 8.0.6)", None),
        ("dotnet", "sdk >=8", {"dotnet": WRAPPED}, {}, "met", "8.0.404 is accepted", None),
        ("dotnet", "aspnetcore >=8", {"dotnet": WRAPPED}, {}, "met", "8.0.11 is accepted", None),
        ("dotnet", "windowsdesktop", {"dotnet": WRAPPED}, {}, "missing", "has no windowsdesktop", None),
        ("npm", "serve >=14", {f"{GLOBAL}/npm/bin/npm-cli.js": "", "npm": "-> " + f"{GLOBAL}/npm/bin/npm-cli.js"}, NPM,
            "met", "14.2.0 is accepted", None),
        ("npm", "@tide/cli", {f"{GLOBAL}/npm/bin/npm-cli.js": "", "npm": "-> " + f"{GLOBAL}/npm/bin/npm-cli.js"}, NPM,
            "met", "3.0.0 is there", None),
        ("npm", "odd >=1", {f"{GLOBAL}/npm/bin/npm-cli.js": "", "npm": "-> " + f"{GLOBAL}/npm/bin/npm-cli.js"}, NPM,
            "unknown", "its version is not known", None),
        ("npm", "gone", {f"{GLOBAL}/npm/bin/npm-cli.js": "", "npm": "-> " + f"{GLOBAL}/npm/bin/npm-cli.js"}, NPM,
            "missing", "has no gone", "npm install --global gone"),
        ("rustc", "component clippy", {"~/rust/bin/rustc": ""}, RUST, "met", "it is there", None),
        ("rustc", "component rust-src", {"~/rust/bin/rustc": ""}, RUST, "met", "it is there", None),
        ("rustc", "component miri", {"~/rust/bin/rustc": "", "rustup": ""}, RUST, "missing", "has no component miri",
            "rustup component add miri"),
        ("rustc", "target wasm32-unknown-unknown", {"~/rust/bin/rustc": ""}, RUST, "met", "it is there", None),
        ("pip", "flask-login", {"~/py/bin/pip": ""}, PIP, "met", "0.6.3 is there", None),
        ("python", "venv", {"~/py/bin/python": "echo Python 3.9.2"}, PYTHON, "met", "it is there", None),
        ("python", "ensurepip", {"~/py/bin/python": "echo Python 3.9.2", "apt-get": ""}, PYTHON, "missing",
            "has no ensurepip", None),
        ("android-sdk", "platforms;android-34", {}, ANDROID, "met", "3 is there", None),
        ("android-sdk", "build-tools;34.0.0", {}, ANDROID, "met", "34.0.0 is there", None),
        ("android-sdk", "ndk;26.1.1", {}, ANDROID, "missing", "android-sdk has no ndk;26.1.1", None),
        ("android-sdk", "platforms;android-34", {}, {}, "missing", "no Android SDK was found; ANDROID_HOME", None),
        ("library", "tideline >=1.2", {}, {"$PKG_CONFIG_PATH/tideline.pc": "base=1\nrel=${base}.4\nName: x\nVersion: "
            "${base}.4\n"}, "met", "1.4 is accepted", None),
        ("library", "gone-away", {}, {}, "unknown", "a build may find it otherwise", None),
        ("gem", "rake >=13", {"gem": "echo 3.4.0"}, {"~/.gem/ruby/3.1.0/specifications/rake-13.0.6.gemspec": ""}, "met",
            "13.0.6 is accepted", None),
        ("composer", "laravel/installer", {"composer": "echo Composer version 2.7.6"},
            {"~/.config/composer/vendor/composer/installed.json": '{"packages": [{"name": "laravel/installer", '
                '"version": "v5.8.0"}]}'}, "met", "5.8.0 is there", None),
        ("cargo", "tide-cli", {"cargo": "echo cargo 1.79.0"},
            {"~/.cargo/.crates.toml": '[v1]\n"tide-cli 0.3.1 (registry+https://x)" = ["tide"]\n'}, "met",
                "0.3.1 is there", None),
        ("code", "harbour.charts", {"code": ""}, {"~/.vscode/extensions/harbour.charts-1.4.2/package.json": "{}"},
            "met", "1.4.2 is there", None),
        ("pipx", "tide", {"pipx": "echo 1.5.0"}, {
            "~/.local/share/pipx/venvs/tide/pipx_metadata.json": '{"main_package": {"package_version": "2.0.1"}}'},
            "met", "2.0.1 is there", None),
        ("elixir", "otp >=27", {"elixir": "echo; echo 'Erlang/OTP 26 [x]'; echo 'Elixir 1.16.3'"}, {}, "unmet",
            "26 is too old", None),
        ("gcc", "target", {"gcc": "echo Target: avr; echo gcc version 7.3.0"}, {}, "met", "avr is there", None),
        ("git", "lfs", {"git": "echo git version 2.40.1"}, {}, "unknown",
            "does not know where to find components of git", None),
    ],
)  # fmt: skip
def test_a_component_and_what_is_made_of_it(
    world: World,
    tool: str,
    component: str,
    programs: dict[str, str],
    files: dict[str, str],
    verdict: str,
    says: str,
    command: str | None,
) -> None:
    if tool == "android-sdk" and not files and Path("/usr/lib/android-sdk").exists():
        pytest.skip("this machine has an Android SDK of its own")

    def place(name: str) -> Path:
        name = name.replace("$PKG_CONFIG_PATH", "~/pc")
        return world.home / name[2:] if name.startswith("~/") else world.tools / name

    (world.tools / "python").unlink()
    folders = [world.tools]
    for name, script in programs.items():
        if script.startswith("-> "):
            place(name).symlink_to(place(script[3:]))
            continue
        made = world.tool(place(name).name, script or "exit 1", place(name).parent)
        folders.append(made.parent)
    for name, text in files.items():
        place(name).parent.mkdir(parents=True, exist_ok=True)
        place(name).write_text(text)
    world.environment |= {
        "PATH": ":".join(map(str, dict.fromkeys(folders))) + ":/bin",
        "PKG_CONFIG_PATH": str(world.home / "pc"),
    }
    if not programs:
        world.environment["PATH"] = str(world.tools)
    world.tool("cat", 'exec /bin/cat "$@"')
    world.write({"dokimon.toml": f'format = 1\n[[need]]\ntool = "{tool}"\nwith = ["{component}"]\n'})
    found = world.dokimon("verify", "--format", "json").report["requirements"]
    finding = next(each for each in found if each.get("kind") == "component")
    assert (finding["verdict"], says in finding["reason"]) == (verdict, True), finding
    if command:
        assert finding["remedies"][0]["command"] == command
    assert verdict == "met" or finding["remedies"]


def test_components_of_what_is_named_are_shown(world: World) -> None:
    world.tool("php", PHP)
    drawn = world.dokimon("tools", "php").out
    assert "php extension, 4:" in drawn and "ext-redis 5.3.7" in drawn
    report = world.dokimon("tools", "php", "--format", "json").report
    assert {
        "tool": "php",
        "name": "ext-redis",
        "what": "extension",
        "version": "5.3.7",
        "of": str(world.tools / "php"),
        "known_by": "asked",
    } in report["components"]
    assert "ext-redis" in world.dokimon("tools", "php", "--format", "markdown").out
    assert "components" not in world.dokimon("tools", "--format", "json").report


def test_settings_that_lie_in_the_checkout_have_no_say_in_what_a_tool_has_loaded(world: World) -> None:
    world.tool("php", 'case "$*" in *-r*) printf "ext-x\\t${PHPRC:-none}\\n";; *) echo PHP 8.3.6;; esac')
    for value, seen in ((str(world.checkout), "none"), ("relative", "none"), ("/etc/php", "/etc/php")):
        environment = {**world.environment, "PHPRC": value}
        survey = surveyor(world.checkout, world.checkout, environment).survey(["php"], ["php"])
        assert [each.version for each in survey.components if each.what == "extension"] == [seen]


def test_the_python_of_this_test_has_what_it_has(world: World) -> None:
    """A real Python: whether its modules can be imported is what the survey should say."""
    survey = surveyor(world.checkout, world.checkout, world.environment).survey(["python"], ["python"])
    names = {each.name for each in survey.components}
    for module in ("venv", "ensurepip"):
        try:
            __import__(module)
        except ImportError:
            assert module not in names
        else:
            assert module in names, (sys.version, survey)


def needs(world: World, *lines: str) -> list[dict[str, Any]]:
    world.write({"dokimon.toml": "format = 1\n" + "\n".join(lines) + "\n"})
    return json.loads(world.dokimon("verify", "--format", "json").out)["requirements"]


@pytest.mark.parametrize(
    "need, verdict, says, remedy",
    [
        ('memory = "1 MB"', "met", "GB", None),
        (
            'memory = "900 TB"',
            "unmet",
            "this machine has",
            "free some memory, or use a machine that has at least 900 TB",
        ),
        ('disk = "1 MiB"', "met", "GB free", None),
        ('disk = "90000 TB"', "unmet", "GB free", "free some disk"),
    ],
)
def test_the_size_of_the_machine(world: World, need: str, verdict: str, says: str, remedy: str | None) -> None:
    (finding,) = needs(world, "[[need]]", need)
    assert finding["verdict"] == verdict and says in finding["reason"]
    assert remedy is None or finding["remedies"][0]["say"].startswith(remedy)


def test_a_project_for_another_system_is_told_first_with_what_does_work_here(world: World) -> None:
    other = "windows" if sys.platform != "win32" else "macos"
    world.write({"board/package.json": '{"name": "board", "engines": {"node": ">=1"}}'})
    world.tool("node", "echo v20.1.0")
    world.tool("npm", "echo 10.0.0")
    found = needs(world, '[[need]]\ntool = "git"', f'[[need]]\nsystem = "{other}"')
    barred = next(each for each in found if each.get("kind") == "platform")
    assert barred["verdict"] == "unmet"
    assert barred["remedies"][1]["say"] == "these parts ask for no other platform: board"
    drawn = world.dokimon("verify").out
    assert drawn.index("\nsystem ") < drawn.index("\nnode ") and drawn.index("system unmet") > 0


def test_only_packages_that_this_system_has_are_advised(world: World) -> None:
    """What apt's lists have decides; its answers are kept until the lists change."""
    mark = world.home / "asked"
    there = 'printf "%s:\\n  Installed: (none)\\n  Candidate: 8.3.6-1\\n" $p'
    none = 'printf "%s:\\n  Candidate: (none)\\n" $p'
    says = f'for p in "$@"; do case $p in policy) ;; php8.3-intl) {there};; *) {none};; esac; done'
    world.tool("apt-cache", f"echo x >> {mark}; {says}", world.root / "usr/bin")
    (world.root / "var/lib/dpkg").mkdir(parents=True)
    status = world.root / "var/lib/dpkg/status"
    status.write_text("")
    world.tool("apt-get", "exit 1")
    lists = 'case "$*" in *-r*) printf "ext-core\\t8.3.6\\n";; *) echo "PHP 8.3.6 (cli)";; esac'
    world.tool("php", lists)
    world.write({"composer.json": '{"require": {"ext-intl": "*", "ext-swoole": "*"}}'})
    asked: list[int] = []
    for _ in range(2):
        needs = world.dokimon("verify", "--format", "json").report["requirements"]
        commands = {each.get("component"): [step.get("command") for step in each.get("remedies", [])] for each in needs}
        assert commands["ext-intl"] == ["sudo apt-get install php8.3-intl"]
        assert commands["ext-swoole"] == [None]
        asked.append(len(mark.read_text().splitlines()))
    assert asked[0] == asked[1] > 0
    os.utime(status, ns=(1, 1))
    world.dokimon("verify")
    assert len(mark.read_text().splitlines()) > asked[1]
