"""Any command asked about by name: which package brought it, why it is not reached, and how it will be, now and for good."""

from __future__ import annotations

import json
import struct
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import World
from dokimon.core.machine.brought import brought_by
from dokimon.core.machine.go_binaries import module_of
from dokimon.core.machine.shell import put_first_for_good

SCRIPT = "#!/usr/bin/env node\n"


def lay(root: Path, files: dict[str, str | Path]) -> None:
    """Write files, those of a folder `bin` as programs; a path is a link to it, relative to `root`."""
    for name, content in files.items():
        path = root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        if isinstance(content, Path):
            path.symlink_to(root / content)
            continue
        path.write_text(content)
        path.chmod(0o755 if "bin" in path.parts else 0o644)


def go_program(module: str) -> bytes:
    """What stands in a program that Go built: a header, its version of Go, and its modules."""
    texts = b"".join(bytes([len(text)]) + text for text in (b"go1.22.3", f"0w\npath\t{module}".encode()))
    return b"\x7fELF" + b"\0" * 60 + b"\xff Go buildinf:" + struct.pack("<BB", 8, 2) + b"\0" * 16 + texts


PACKAGES: list[tuple[str, str, dict[str, str | Path], tuple[str, str, str | None]]] = [
    ("npm", "npm/bin/tern", {"npm/bin/tern": Path("npm/lib/node_modules/@quay/tern/cli.js"),
        "npm/lib/node_modules/@quay/tern/cli.js": SCRIPT,
        "npm/lib/node_modules/@quay/tern/package.json": '{"version": "2.1.0"}'}, ("@quay/tern", "npm", "2.1.0")),
    ("a nested npm package", "bin/tern", {"bin/tern": Path("node_modules/gull/node_modules/tern/cli.js"),
        "node_modules/gull/node_modules/tern/cli.js": SCRIPT, "node_modules/gull/package.json": '{"version": "1"}',
        "node_modules/gull/node_modules/tern/package.json": '{"version": "3.0.0"}'}, ("tern", "npm", "3.0.0")),
    ("pnpm", "pnpm/tern", {"pnpm/tern": '#!/bin/sh\nexec node "$basedir/global/5/node_modules/tern/cli.js" "$@"\n',
        "pnpm/global/5/node_modules/tern/cli.js": SCRIPT,
        "pnpm/global/5/node_modules/tern/package.json": '{"version": "4.0.1"}'}, ("tern", "npm", "4.0.1")),
    ("pip --user", ".local/bin/tern", {".local/bin/tern": "#!/usr/bin/python3\nimport tern\n",
        ".local/lib/python3.11/site-packages/tern_quay-1.4.dist-info/entry_points.txt": "[console_scripts]\ntern = t:m\n",
        ".local/lib/python3.11/site-packages/tern_quay-1.4.dist-info/METADATA": "Name: tern-quay\nVersion: 1.4\n"},
            ("tern-quay", "Python", "1.4")),
    ("a compiled program of a wheel", "venv/bin/tern", {"venv/bin/tern": "\x7fELF", "venv/pyvenv.cfg": "",
        "venv/lib/python3.12/site-packages/tern-0.9.dist-info/RECORD": "../../../bin/tern,sha256=x,1\n",
        "venv/lib/python3.12/site-packages/tern-0.9.dist-info/METADATA": "Name: tern\nVersion: 0.9\n"},
            ("tern", "Python", "0.9")),
    ("gem", "gems/bin/tern", {"gems/bin/tern": "#!/usr/bin/ruby\nrequire 'rubygems'\nload Gem.activate_bin_path('tern-rb', "
        "'tern', version)\n", "gems/specifications/tern-rb-3.2.0.gemspec": "",
        "gems/specifications/tern-rb-x-9.gemspec": ""},
            ("tern-rb", "gem", "3.2.0")),
    ("cargo", ".cargo/bin/tern", {".cargo/bin/tern": "\x7fELF", ".cargo/.crates.toml": '[v1]\n"tern-cli 0.3.1 '
        '(registry+https://x)" = ["gull", "tern"]\n'}, ("tern-cli", "crate", "0.3.1")),
    ("composer", "vendor/bin/tern", {"vendor/bin/tern": "#!/usr/bin/env php\n<?php include __DIR__ . '/..'.'/quay/tern/t';",
        "vendor/composer/installed.json": '{"packages": [{"name": "quay/tern", "version": "v5.6"}]}'},
            ("quay/tern", "Composer", "5.6")),
    (".NET", "tools/tern", {"tools/tern": "\x7fELF", "tools/.store/quay.tern/1.2.3/quay.tern/1.2.3/tools/net8.0/any/"
        "DotnetToolSettings.xml": '<Command Name="tern" />'}, ("quay.tern", ".NET tool", "1.2.3")),
    ("Homebrew", "bin/tern", {"bin/tern": Path("Cellar/tern/7.1/bin/tern"), "Cellar/tern/7.1/bin/tern": "x"},
        ("tern", "Homebrew", "7.1")),
    ("Debian", "usr/bin/tern", {"usr/bin/tern": "x", "var/lib/dpkg/info/tern-tools.list": "/.\n/bin/tern\n",
        "var/lib/dpkg/status": "Package: tern\nVersion: 1\n\nPackage: tern-tools\nStatus: x\nVersion: 1:2.3-4+b1\n\n"},
            ("tern-tools", "Debian", "2.3")),
    ("a gem without its specification", "bin/tern", {"bin/tern": "#!/usr/bin/ruby\nrequire 'rubygems'\ngem 'tern'\n"},
        ("tern", "gem", None)),
]  # fmt: skip


@pytest.mark.parametrize("program, files, brought", [each[1:] for each in PACKAGES], ids=[each[0] for each in PACKAGES])
def test_which_package_brought_a_program(
    tmp_path: Path, program: str, files: dict[str, str | Path], brought: tuple[str, str, str | None]
) -> None:
    lay(tmp_path, files)
    path = tmp_path / program
    found = brought_by(path, path.resolve(), {"DOKIMON_ROOT": str(tmp_path)})
    assert found and (found.package, found.kind, found.version) == brought


def test_what_go_built_says_which_module_it_is(tmp_path: Path) -> None:
    path = tmp_path / "tern"
    path.write_bytes(go_program("example.org/tern\nmod\texample.org/tern\tv1.9.0\th1:x"))
    assert module_of(path) == ("example.org/tern", "1.9.0")
    path.write_bytes(go_program("example.org/tern\nmod\texample.org/tern\t(devel)\t"))
    assert module_of(path) == ("example.org/tern", None)
    for content in (b"", b"\x7fELF" + b"\0" * 90, go_program("x")[:100], b"\x7fELF\xff Go buildinf:"):
        path.write_bytes(content)
        assert module_of(path) is None


HOME = "/home/gull"


@pytest.mark.parametrize(
    "shell, files, line, file, there",
    [
        ("bash", {}, 'export PATH="$HOME"/t/bin:"$PATH"', "~/.bashrc", None),
        ("zsh", {".bashrc": "PATH=~/t/bin:$PATH"}, 'export PATH="$HOME"/t/bin:"$PATH"', "~/.zshrc", None),
        ("bash", {".bashrc": "#\nexport PATH=\"$HOME/t/bin:$PATH\"\n"}, None, "~/.bashrc", "~/.bashrc:2"),
        ("bash", {".profile": "PATH=${HOME}/t/bin/:$PATH"}, None, "~/.bashrc", "~/.profile:1"),
        ("bash", {".bashrc": "# PATH=$HOME/t/bin:$PATH\nPATH=$HOME/t/bin2:$PATH\n"}, None, "~/.bashrc", None),
        ("fish", {".config/fish/config.fish": "fish_add_path ~/t/bin"}, 'fish_add_path "$HOME"/t/bin', None,
            "~/.config/fish/config.fish:1"),
        ("ksh", {}, None, "~/.kshrc", None),
        ("dash", {}, None, "~/.profile", None),
        ("powershell", {}, None, "$PROFILE", None),
    ],
)  # fmt: skip
def test_how_a_folder_is_put_on_path_for_good(
    tmp_path: Path, shell: str, files: dict[str, str], line: str | None, file: str | None, there: str | None
) -> None:
    lay(tmp_path, dict(files))
    lasting = put_first_for_good([f"{tmp_path}/t/bin"], shell, str(tmp_path))
    assert (lasting.file, lasting.there) == (file, there) and (line is None or lasting.line == line)


def _global_package(prefix: Path, version: str = "9.1.0") -> None:
    package = prefix / "lib/node_modules/tern"
    lay(prefix, {"lib/node_modules/tern/cli.js": SCRIPT})
    (package / "package.json").write_text(json.dumps({"version": version}))
    (package / "cli.js").chmod(0o755)
    (prefix / "bin").mkdir(parents=True, exist_ok=True)
    (prefix / "bin/tern").symlink_to(package / "cli.js")


PREFIXES: list[tuple[str, Callable[[World], Path]]] = [
    ("npm's own setting", lambda world: world.home / "globals"),
    ("a version manager's Node.js", lambda world: world.home / ".nvm/versions/node/v20.1.0"),
]


@pytest.mark.parametrize("where", [each[1] for each in PREFIXES], ids=[each[0] for each in PREFIXES])
def test_a_command_that_was_just_installed_is_found_where_its_folder_is_not_on_path(
    world: World, where: Callable[[World], Path]
) -> None:
    prefix = where(world)
    _global_package(prefix)
    world.tool("node", "echo v20.1.0", prefix / "bin")  # found by its own script once that folder is first on PATH
    (world.home / ".npmrc").write_text(f"prefix = ${{HOME}}/{prefix.relative_to(world.home)}\n")
    world.environment["SHELL"] = "/bin/zsh"
    ended = world.dokimon("tools", "tern")
    line = world.put_first(prefix / "bin")
    assert ended.status == 0 and "off PATH" in ended.out and "of the npm package tern" in ended.out
    assert ended.out.count(line) == 2 and "add this line to ~/.zshrc" in ended.out
    (answer,) = world.dokimon("tools", "tern", "--format", "json").report["answers"]
    assert answer["verdict"] == "off-path" and "9.1.0" in answer["reason"]
    (world.home / ".zshrc").write_text(f"{line}\n")
    assert "~/.zshrc:1 does so already: open a new terminal" in world.dokimon("tools", "tern").out
    world.environment["PATH"] = f"{prefix}/bin:{world.environment['PATH']}"
    again = world.dokimon("tools", "tern")
    assert again.status == 0 and "reached" in again.out and "export PATH" not in again.out


def test_a_command_off_path_whose_interpreter_is_missing_says_so(world: World) -> None:
    _global_package(world.home / ".npm-global")
    ended = world.dokimon("tools", "tern")
    assert "is a script for node, which no folder on PATH has" in ended.out and "cannot run" in ended.out


def test_an_alias_that_hides_a_tool_is_told(world: World) -> None:
    world.tool("node", "echo v20.1.0")
    (world.home / ".bashrc").write_text("# mine\nalias node='nodejs --inspect'\n")
    assert "~/.bashrc:2 makes node an alias or a function: interactive shells" in world.dokimon("tools", "node").out


def test_what_the_project_wants_of_the_tool_is_said(world: World) -> None:
    world.tool("node", "echo v18.0.0")
    world.write({"package.json": '{"engines": {"node": ">=20"}}'})
    ended = world.dokimon("tools", "node")
    assert ended.status == 0 and "what this project wants" in ended.out and "18.0.0 is too old" in ended.out
    assert "what this project wants" not in world.dokimon("tools", "node", cwd=world.home).out


def test_a_need_of_a_command_that_is_in_no_catalogue_is_judged_by_its_package(world: World) -> None:
    _global_package(world.home / "globals")
    world.tool("node", "echo v20.1.0")
    world.environment["PATH"] = f"{world.home}/globals/bin:{world.environment['PATH']}"
    for version, status in ((">=9", 0), (">=10", 1)):
        world.write({"dokimon.toml": f'format = 1\n[[need]]\ntool = "tern"\nversion = "{version}"\n'})
        assert world.dokimon("verify").status == status


def test_home_is_nobodys_checkout(world: World) -> None:
    """What lies in usual homes is told and asked there as anywhere, also where the home is a repository of its own."""
    world.tool("go", "echo go version go1.22.3 linux/amd64", world.home / "sdk/go1.22.3/bin")
    for _ in range(2):
        copies = world.dokimon("tools", "go", "--format", "json", cwd=world.home).report["installations"]
        assert [(copy["version"], "own" in copy) for copy in copies] == [("1.22.3", False)]
        (world.home / ".git").mkdir(exist_ok=True)
