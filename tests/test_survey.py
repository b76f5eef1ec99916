"""Where versions are read, what stands behind a shim, and why a file cannot be run: tables, surveyed directly."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from conftest import World, surveyed, surveyor
from dokimon.core.machine import search_path as places
from dokimon.core.machine import unrunnable
from dokimon.core.machine.catalogue import Catalogue, find_tool
from dokimon.core.machine.components import same_name

LINUX_ONLY = pytest.mark.skipif(not sys.platform.startswith("linux"), reason="ELF files are Linux's")


def elf(machine: int, loader: str = "") -> bytes:
    """The head of a 64-bit ELF program for a machine, with the loader it asks for (System V ABI, chapters 4 and 5)."""
    name = loader.encode() + b"\0"
    header = b"\x7fELF\x02\x01\x01" + bytes(9) + (2).to_bytes(2, "little") + machine.to_bytes(2, "little") + bytes(4)
    header += bytes(8) + (64).to_bytes(8, "little") + bytes(14) + (56).to_bytes(2, "little")
    header += (1 if loader else 0).to_bytes(2, "little")
    entry = (
        (3).to_bytes(4, "little") + bytes(4) + (120).to_bytes(8, "little") + bytes(16) + len(name).to_bytes(8, "little")
    )
    return header.ljust(64, b"\0") + entry.ljust(56, b"\0") + name


OTHER = 62 if unrunnable.architecture_name() != "x86_64" else 183
HERE = 62 if OTHER == 183 else 183


@pytest.mark.parametrize(
    "content, mode, kind, says, command",
    [
        (b"#!/bin/sh\necho v20.0.0\n", 0o644, "not executable", "is there but not executable", "chmod +x {path}"),
        (b"-> /nowhere/node", 0, "dangling", "is a link that leads nowhere (to /nowhere/node)", "rm {path}"),
        (b"#!/opt/gone/bin/node\n", 0o755, "no interpreter", "is a script for /opt/gone/bin/node, which is not here",
            None),
        (b"#!/bin/sh\r\necho\r\n", 0o755, "line ends", "whose lines end as on Windows", "sed -i 's/\\r$//' {path}"),
        (b"#!/usr/bin/env node\r\n", 0o755, "line ends", "whose lines end as on Windows", "sed -i 's/\\r$//' {path}"),
        (b"#!/usr/bin/env -S gone --x\n", 0o755, "no interpreter", "is a script for gone, which no folder on PATH",
            None),
        (b"MZ\x90\0", 0o755, "other system", "is built for Windows", None),
        (b"\xcf\xfa\xed\xfe\x07\0\0\1", 0o755, "other system", "is built for macOS", None),
        (elf(OTHER), 0o755, "other architecture", "is built for", None),
        (elf(HERE, "/lib/ld-musl-gone.so.1"), 0o755, "no loader", "(musl, another C library), which is not here", None),
        (elf(HERE, "/bin/sh"), 0o755, None, "", None),
        (elf(HERE)[:30], 0o755, None, "", None),
    ],
)  # fmt: skip
@LINUX_ONLY
def test_why_a_file_cannot_be_run(
    world: World, content: bytes, mode: int, kind: str | None, says: str, command: str | None
) -> None:
    path = world.tools / "deno"
    if content.startswith(b"-> "):
        path.symlink_to(content[3:].decode())
    else:
        path.write_bytes(content)
        path.chmod(mode)
    fault = unrunnable.why_unrunnable(path, world.environment)
    assert (fault.kind if fault else None) == kind, fault
    if fault is None:
        return
    assert says in fault.says
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "deno"\n'})
    world.environment["PATH"] = str(world.tools)
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == "missing" and str(path) in finding["reason"] and says in finding["reason"]
    assert finding["remedies"][0].get("command") == (command.format(path=path) if command else None)


def test_a_script_that_names_no_interpreter_runs_in_a_shell(world: World) -> None:
    (world.tools / "bun").write_text('echo "1.1.38"\n')
    (world.tools / "bun").chmod(0o755)
    (copy,) = world.dokimon("tools", "bun", "--format", "json").report["installations"]
    assert copy["version"] == "1.1.38" and copy["reached"]


@pytest.mark.parametrize(
    "prints, library",
    [
        ("deno: error while loading shared libraries: libtide.so.3: cannot open shared object file", "libtide.so.3"),
        ("Error loading shared library libkelp.so.1: No such file (needed by deno)", "libkelp.so.1"),
    ],
)
def test_a_program_whose_library_is_missing_says_which(world: World, prints: str, library: str) -> None:
    world.tool("deno", f"echo '{prints}' >&2; exit 127")
    world.tool("deno", "echo deno 2.1.0", world.home / ".deno/bin")
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "deno"\n'})
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == "missing" and f"needs the library {library}, which is not here" in finding["reason"]
    assert "2.1.0 is in" in finding["reason"]  # the copy that would do
    assert any(each.get("command", "").startswith("export PATH") for each in finding["remedies"])


def test_a_broken_file_does_not_hide_what_comes_after_it(world: World, tmp_path: Path) -> None:
    world.tool("deno", "exit").chmod(0o644)
    world.tool("deno", "echo deno 2.1.0", tmp_path / "later")
    world.environment["PATH"] += f":{tmp_path / 'later'}"
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "deno"\nversion = "2"\n'})
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == "met"


PYENV = ".pyenv/versions/{}/bin/python"
RUST = ".rustup/toolchains/{}-x86_64-unknown-linux-gnu/bin/rustc"


@pytest.mark.parametrize(
    "command, shim, homes, files, variables, behind",
    [
        ("python", ".pyenv/shims", [PYENV.format("3.9.1")], {".python-version": "3.9.1\n"}, {}, PYENV.format("3.9.1")),
        ("python", ".pyenv/shims", [PYENV.format("3.9.1"), PYENV.format("3.9.12")], {".python-version": "3.9"}, {},
            PYENV.format("3.9.12")),
        ("python", ".pyenv/shims", [PYENV.format("3.9.1"), PYENV.format("3.8.2")], {".python-version": "3.9.1"},
            {"PYENV_VERSION": "3.8.2"}, PYENV.format("3.8.2")),
        ("python", ".pyenv/shims", [PYENV.format("3.8.2")], {".python-version": "2.7\n3.8.2 # two\n"}, {},
            PYENV.format("3.8.2")),
        ("python", ".pyenv/shims", [PYENV.format("3.8.2")], {"~/.pyenv/version": "3.8.2"}, {}, PYENV.format("3.8.2")),
        ("python", ".pyenv/shims", [PYENV.format("3.8.2")], {".python-version": "3.7"}, {},
            "is a shim of pyenv, which has no python for 3.7"),
        ("python", ".pyenv/shims", [], {".python-version": "../../../checkout"}, {},
            "is a shim of pyenv, which has no python"),
        ("node", ".nodenv/shims", [".nodenv/versions/20.1.0/bin/node"], {".node-version": "20"}, {},
            "is a shim of nodenv, which has no node for 20"),  # it takes whole versions alone, as rbenv does
        ("ruby", ".rbenv/shims", [".rbenv/versions/3.3.0/bin/ruby"], {".ruby-version": "3.3"}, {},
            "is a shim of rbenv, which has no ruby for 3.3"),
        ("ruby", ".rbenv/shims", [".rbenv/versions/3.3.0/bin/ruby"], {".ruby-version": "ruby-3.3.0"}, {},
            ".rbenv/versions/3.3.0/bin/ruby"),
        ("python", ".pyenv/shims", [".pyenv/versions/quay/bin/python"], {".python-version": "quay"}, {},
            ".pyenv/versions/quay/bin/python"),
        ("python", ".pyenv/shims", [".pyenv/versions/3.9.1/envs/quay/bin/python"],
            {".python-version": "3.9.1/envs/quay"}, {}, ".pyenv/versions/3.9.1/envs/quay/bin/python"),
        ("node", ".nodenv/shims", [".nodenv/versions/20.1.0/bin/node"], {".node-version": "v20.1.0"}, {},
            ".nodenv/versions/20.1.0/bin/node"),
        ("ruby", ".rbenv/shims", [".rbenv/versions/3.3.0/bin/ruby"], {"~/.rbenv/version": "3.3.0"}, {},
            ".rbenv/versions/3.3.0/bin/ruby"),
        ("node", ".asdf/shims", [".asdf/installs/nodejs/20.1.0/bin/node"],
            {".tool-versions": "ruby 3\nnodejs 20.1.0\n"}, {}, ".asdf/installs/nodejs/20.1.0/bin/node"),
        ("node", ".asdf/shims", [".asdf/installs/nodejs/20.1.0/bin/node"], {"~/.tool-versions": "nodejs 20.1.0\n"}, {},
            ".asdf/installs/nodejs/20.1.0/bin/node"),
        ("node", ".asdf/shims", [".asdf/installs/nodejs/20.1.0/bin/node"], {}, {},
            "is a shim of asdf, and no version is chosen"),
        ("node", "somewhere/shims", [], {}, {}, "is a shim of a version manager that Dokimon does not know"),
        ("rustc", "rustup", [RUST.format("stable"), RUST.format("1.70")],
            {"~/.rustup/settings.toml": 'default_toolchain = "stable-x86_64-unknown-linux-gnu"\n'}, {},
                RUST.format("stable")),
        ("rustc", "rustup", [RUST.format("stable"), RUST.format("1.70")],
            {"rust-toolchain.toml": '[toolchain]\nchannel = "1.70"\n',
                "~/.rustup/settings.toml": 'default_host_triple = "x86_64-unknown-linux-gnu"'}, {},
                    RUST.format("1.70")),
        ("rustc", "rustup", [RUST.format("stable")], {"rust-toolchain": "nightly"}, {},
            "has no rustc in the toolchain nightly"),
        ("rustc", "rustup", [RUST.format("stable")], {"rust-toolchain.toml": '[toolchain]\npath = "./evil"\n',
            "evil/bin/rustc": "#!/bin/sh\n"}, {}, "has no rustc in the toolchain ./evil"),
        ("rustc", "rustup", [], {}, {}, "no toolchain is chosen"),
        ("yarn", "corepack", [".cache/node/corepack/v1/yarn/4.1.0/yarn.js"],
            {"package.json": '{"packageManager": "yarn@4.1.0+sha224.ab"}'}, {}, ".cache/node/corepack/v1/yarn/4.1.0"),
        ("yarn", "corepack", [], {"package.json": '{"packageManager": "yarn@4.2.0"}'}, {},
            "has not fetched yarn 4.2.0 yet"),
        ("yarn", "corepack", [], {"package.json": '{"packageManager": "pnpm@9.0.0"}'}, {}, "no yarn is chosen"),
    ],
)  # fmt: skip
def test_what_stands_behind_a_shim(
    world: World,
    command: str,
    shim: str,
    homes: list[str],
    files: dict[str, str],
    variables: dict[str, str],
    behind: str,
) -> None:
    """The manager's own files say which copy a shim would start; neither the shim nor the copy in the table is run."""
    mark = world.home / "was-run"
    plugin = "# asdf-plugin: nodejs 20.1.0\n" if "asdf" in shim else ""
    if shim == "rustup":
        (world.tools / command).symlink_to(world.tool("rustup", f"touch {mark}", world.home / ".cargo/bin"))
    elif shim == "corepack":
        script = world.tool("yarn.js", f"touch {mark}", world.home / "lib/node_modules/corepack/dist")
        (world.tools / command).symlink_to(script)
    else:
        world.tool(command, f"{plugin}touch {mark}; exec real {command}", world.home / shim)
        variables = {**variables, "PATH": f"{world.home / shim}:{world.basics}"}
    for home in homes:
        world.tool(
            Path(home).name, r"printf 'v9.9.9\nPython 9.9.9\nrustc 9.9.9\nruby 9.9.9\n'", (world.home / home).parent
        )
    world.write({name: text for name, text in files.items() if not name.startswith("~/")})
    for name, text in files.items():
        if name.startswith("~/"):
            (world.home / name[2:]).write_text(text)
    environment = {**world.environment, "PATH": f"{world.tools}:{world.basics}", **variables}
    copy = surveyed([command], world.checkout, world.checkout, environment)[command][0]
    assert not mark.exists() and copy.shim
    if copy.reason:
        assert behind in copy.reason and copy.fault == "shim without a version" and copy.version is None
    else:
        assert copy.via == str(world.home / behind) and copy.chosen_by and copy.reached


def test_a_manager_that_must_be_asked_is_asked_in_the_folder_of_the_project(world: World) -> None:
    real = world.tool("node", "echo v22.1.0", world.home / "versions/22.1.0/bin")
    world.tool("node", "exec mise", world.home / ".local/share/mise/shims")
    world.tool("mise", f'[ "$1 $2" = "which node" ] && [ -f mise.toml ] && echo {real}')
    world.write({"mise.toml": ""})
    environment = {**world.environment, "PATH": f"{world.home}/.local/share/mise/shims:{world.tools}:{world.basics}"}
    copy = surveyed(["node"], world.checkout, world.checkout, environment)["node"][0]
    assert (copy.version, copy.via, copy.shim) == ("22.1.0", str(real), "mise")
    world.tool("mise", f"echo {world.tool('node', 'echo v9.9.9', world.checkout)}")  # it points into the checkout
    copy = surveyed(["node"], world.checkout, world.checkout, environment)["node"][0]
    assert copy.own and copy.version is None


@pytest.mark.parametrize(
    "tool, program, files, version",
    [
        ("java", "jdk/bin/java", {"jdk/release": 'IMPLEMENTOR="x"\nJAVA_VERSION="21.0.4"\n'}, "21.0.4"),
        ("javac", "jdk/bin/javac", {"jdk/release": 'JAVA_VERSION="1.8.0_392"\n'}, "1.8.0_392"),
        ("npm", "lib/node_modules/npm/bin/npm-cli.js", {"lib/node_modules/npm/package.json": '{\n "version": '
            '"10.8.2"\n}'}, "10.8.2"),
        ("yarn", "lib/node_modules/yarn/bin/yarn.js", {"lib/node_modules/yarn/package.json": '{"version": "1.22.22"}'},
            "1.22.22"),
        ("angular", "lib/node_modules/@angular/cli/bin/ng.js",
            {"lib/node_modules/@angular/cli/package.json": '{"version": "18.2.0"}'}, "18.2.0"),
        ("go", "go/bin/go", {"go/VERSION": "go1.22.3\ntime 2024\n"}, "1.22.3"),
        ("gradle", "gradle-8.8/bin/gradle", {"gradle-8.8/lib/gradle-installation-beacon-8.8.jar": ""}, "8.8"),
        ("maven", "maven/bin/mvn", {"maven/lib/maven-core-3.9.6.jar": ""}, "3.9.6"),
        ("groovy", "groovy/bin/groovy", {"groovy/lib/groovy-4.0.21.jar": "", "groovy/lib/groovy-ant-4.0.21.jar": ""},
            "4.0.21"),
        ("kotlin", "kotlinc/bin/kotlinc", {"kotlinc/build.txt": "2.0.0-release-341"}, "2.0.0-release-341"),
        ("scala", "scala/bin/scala", {"scala/lib/scala-compiler.jar": "", "scala/VERSION": "version:=3.4.2\n"},
            "3.4.2"),
        ("erlang", "erlang/bin/erl", {"erlang/releases/25/OTP_VERSION": "25.3\n",
            "erlang/releases/26/OTP_VERSION": "26.2.5\n"}, "26.2.5"),
        ("flutter", "flutter/bin/flutter", {"flutter/version": "3.22.1\n"}, "3.22.1"),
        ("dotnet", "dotnet/dotnet", {"dotnet/sdk/8.0.301/dotnet.dll": "", "dotnet/sdk/9.0.100/dotnet.dll": ""},
            "9.0.100"),
        ("poetry", "venv/bin/poetry", {"venv/lib/python3.11/site-packages/poetry-1.8.3.dist-info/METADATA": ""},
            "1.8.3"),
        ("cmake", "venv/bin/cmake", {"venv/lib/python3.11/site-packages/cmake-3.29.2.dist-info/METADATA": ""},
            "3.29.2"),
        ("code", "app/bin/code", {"app/package.json": '{"version": "1.90.0"}'}, "1.90.0"),
        ("rustc", "tc/bin/rustc", {"tc/lib/rustlib/multirust-channel-manifest.toml": '[pkg.cargo]\nversion = "0.1"\n'
            '[pkg.rust]\nversion = "1.79.0 (ab 2024)"\n'}, "1.79.0"),
        ("cargo", "tc/bin/cargo", {"tc/lib/rustlib/multirust-channel-manifest.toml": '[pkg.cargo]\nversion = "0.80.0 '
            '(ab)"\n[pkg.rust]\nversion = "1.79.0 (ab)"\n'}, "1.79.0"),
        ("sbt", "sbt/bin/sbt", {}, None),
    ],
)  # fmt: skip
def test_files_that_tell_a_version(
    world: World, tool: str, program: str, files: dict[str, str], version: str | None
) -> None:
    """The program of the table would leave a mark, so it is not run where a file tells."""
    mark = world.home / "was-run"
    real = world.tool(Path(program).name, f"touch {mark}", world.home / "made" / Path(program).parent)
    for name, text in files.items():
        (world.home / "made" / name).parent.mkdir(parents=True, exist_ok=True)
        (world.home / "made" / name).write_text(text)
    entry = find_tool(tool)
    assert entry
    (world.tools / entry.commands[0]).symlink_to(real)
    environment = {**world.environment, "PATH": f"{world.tools}:{world.basics}"}
    copy = surveyed([tool], world.checkout, world.checkout, environment)[tool][0]
    assert (copy.version, copy.known_by) == ((version, "file") if version else (None, None))
    assert mark.exists() == (version is None)


@pytest.mark.parametrize(
    "tool, prints, version, facts",
    [
        ("maven", "Apache Maven 3.9.6 (bc02)\nMaven home: /opt/m\nJava version: 21.0.2, vendor: x, runtime: /opt/j",
            "3.9.6", {"java": "21.0.2"}),
        ("gradle", "\n----\nGradle 8.8\n----\n\nKotlin:        1.9.22\nGroovy:        3.0.21\nLauncher JVM:  17.0.11 "
            "(x)", "8.8", {"kotlin": "1.9.22", "groovy": "3.0.21", "jvm": "17.0.11"}),
        ("elixir", "Erlang/OTP 26 [erts-14.2.5]\n\nElixir 1.16.3 (compiled with Erlang/OTP 26)", "1.16.3",
            {"otp": "26"}),
        ("gcc", "Using built-in specs.\nTarget: arm-none-eabi\nThread model: single\ngcc version 13.2.1 20231009 (x)",
            "13.2.1", {"target": "arm-none-eabi", "threads": "single"}),
        ("php", "PHP 8.3.6 (cli) (built: x)\nZend Engine v4.3.6, Copyright", "8.3.6", {"zend-engine": "4.3.6"}),
        ("composer", "Composer version 2.7.6 2024\nPHP version 8.3.6 (/usr/bin/php8.3)", "2.7.6", {"php": "8.3.6"}),
        ("java", 'openjdk version "21.0.2" 2024-01-16\nOpenJDK Runtime Environment (build 21.0.2+13-58)\nOpenJDK '
            '64-Bit Server VM (build 21.0.2+13-58, mixed)', "21.0.2",
                {"runtime": "21.0.2+13-58", "vm": "21.0.2+13-58"}),
        ("git", "git version 2.43.0.windows.1", "2.43.0.windows.1", {}),
        ("cmake", "cmake warning: old\nCMake suite\ncmake version 3.28.3\n", "3.28.3", {}),
        ("redis", "Redis server v=7.2.4 sha=0:0 malloc=x", "7.2.4", {}),
        ("sqlite", "3.45.1 2024-01-30 16:01:20 e87", "3.45.1", {}),
        ("kubectl", "Client Version: v1.30.1\nKustomize Version: v5", "1.30.1", {}),
    ],
)  # fmt: skip
def test_one_tool_tells_several_versions(
    world: World, tool: str, prints: str, version: str, facts: dict[str, str]
) -> None:
    entry = find_tool(tool)
    assert entry
    (world.home / "says").write_text(prints + "\n")
    world.tool(entry.commands[0], f"cat {world.home / 'says'} >&2")
    copy = surveyed([tool], world.checkout, world.checkout, world.environment)[tool][0]
    assert (copy.version, copy.facts, copy.known_by) == (version, facts, "asked"), copy


def test_a_command_that_is_another_tool_is_told_as_such(world: World) -> None:
    world.tool("mysql", "echo 'mysql  Ver 15.1 Distrib 10.11.6-MariaDB, for debian'")
    environment = {**world.environment, "PATH": f"{world.tools}:/bin"}
    found = surveyed(["mysql", "mariadb"], world.checkout, world.checkout, environment)
    assert found["mysql"][0].reason == "is MariaDB, not MySQL"
    assert next(copy for copy in found["mariadb"] if copy.path == str(world.tools / "mysql")).version == "10.11.6"


def test_tools_are_asked_where_no_project_has_a_say(world: World) -> None:
    """Several tools start what the settings of the folder name in which they are asked."""
    world.tool("yarn", "[ -f .yarnrc.yml ] && echo 9.9.9 || echo 1.22.22")
    world.write({".yarnrc.yml": "yarnPath: evil.cjs\n"})
    copy = surveyed(["yarn"], world.checkout, world.checkout, world.environment)["yarn"][0]
    assert copy.version == "1.22.22"


@pytest.mark.parametrize("name", ["LD_LIBRARY_PATH", "PYTHONPATH", "NODE_OPTIONS", "RUBYOPT", "PERL5LIB", "CLASSPATH"])
def test_variables_that_load_code_do_not_reach_a_tool(world: World, name: str) -> None:
    """Libraries lie where the user says; nothing else that a program would load first is what it needs."""
    world.tool("git", f"echo git version 1.${{#{name}}}")
    for value in (str(world.checkout / "x"), "--require=./x", "x", "/opt/x"):
        environment = {**world.environment, name: value}
        copy = surveyed(["git"], world.checkout, world.checkout, environment)["git"][0]
        assert copy.version == ("1.6" if value == "/opt/x" and name == "LD_LIBRARY_PATH" else "1.0")


@pytest.mark.parametrize(
    "name, folder, known",
    [
        ("go", "sdk/go1.22.3/bin", True),
        ("node", ".nvm/versions/node/v20.1.0/bin", True),
        ("rustc", ".rustup/toolchains/stable-x86_64-unknown-linux-gnu/bin", True),
        ("php", ".phpenv/versions/8.3.1/bin", True),
        ("ng", ".npm-global/bin", False),
        ("laravel", ".config/composer/vendor/bin", False),
        ("tidectl", ".local/bin", False),
        ("tidectl", ".cargo/bin", False),
        ("tidectl", "go/bin", False),
        ("tidectl", ".dotnet/tools", False),
        ("tidectl", ".local/share/gem/ruby/3.1.0/bin", False),
    ],
)
def test_what_was_just_installed_is_found_off_path(world: World, name: str, folder: str, known: bool) -> None:
    world.tool(name, "echo go version go1.22.3; echo 1.2.3", world.home / folder)
    tool = {"ng": "angular"}.get(name, name)
    world.write({"dokimon.toml": f'format = 1\n[[need]]\ntool = "{tool}"\n'})
    world.environment["PATH"] = str(world.tools)
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    if known or name in ("ng", "laravel"):
        assert finding["verdict"] in ("off-path", "met"), finding
    assert str(world.home / folder) in finding["reason"] and "which is not on PATH" in finding["reason"]
    assert finding["remedies"][0]["command"] == world.put_first(world.home / folder)


def test_other_names_of_a_tool(world: World) -> None:
    """A copy that only another name reaches is told with that name, and no folder is said to help."""
    world.environment["PATH"] = str(world.tools)
    (world.tools / "python").unlink()  # a link to the interpreter that runs this test
    world.tool("python", "echo Python 2.7.18")
    world.tool("python3", "echo Python 3.9.2")
    world.tool("python3.12", "echo Python 3.12.4")
    world.tool("python3.12-config", "echo 3.12")
    world.tool("sh", 'exec /bin/sh "$@"')
    found = surveyed(["python"], world.checkout, world.checkout, world.environment)["python"]
    shown = {
        Path(copy.path).name: (copy.version, copy.reached, copy.other_name)
        for copy in found
        if copy.path.startswith(str(world.tools))
    }
    assert shown == {
        "python": ("2.7.18", True, None),
        "python3": ("3.9.2", False, "python3"),
        "python3.12": ("3.12.4", False, "python3.12"),
    }
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "python"\nversion = "3.12.4"\n'})
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == "unmet" and "call it by that name" in finding["remedies"][0]["say"]
    folder = Path(world.dokimon("path").out.partition("=")[2].partition(":")[0].replace('"$HOME"', str(world.home)))
    assert (folder / "python").resolve() == world.tools / "python3.12"


def test_the_copies_of_the_project_are_shown_and_never_run(world: World) -> None:
    mark = world.home / "was-run"
    world.tool("tsc", f"touch {mark}", world.checkout / "node_modules/typescript/bin")
    (world.checkout / "node_modules/.bin").mkdir()
    (world.checkout / "node_modules/.bin/tsc").symlink_to("../typescript/bin/tsc")
    world.tool("mvnw", f"touch {mark}", world.checkout)
    world.tool("python", f"touch {mark}", world.checkout / ".venv/bin")
    world.write(
        {
            "node_modules/typescript/package.json": '{"version": "5.4.5"}',
            ".mvn/wrapper/maven-wrapper.properties": "distributionUrl=https://x/apache-maven-3.9.6-bin.zip\n",
            ".venv/pyvenv.cfg": "home = /usr/bin\nversion = 3.12.3\n",
            "dokimon.toml": 'format = 1\n[[need]]\ntool = "tsc"\n',
        }
    )
    environment = {**world.environment, "PATH": str(world.tools)}
    found = surveyed(["tsc", "maven", "python"], world.checkout, world.checkout, environment)
    own = {name: [copy.version for copy in copies if copy.own] for name, copies in found.items()}
    assert own == {"tsc": ["5.4.5"], "maven": ["3.9.6"], "python": ["3.12.3"]}
    assert not any(copy.reached for copy in found["tsc"]) and not mark.exists()
    world.environment["PATH"] = str(world.tools)
    found = world.dokimon("verify", "--format", "json").report["requirements"]
    finding = next(each for each in found if each["tool"] == "tsc")
    assert finding["verdict"] == "missing" and "the project has its own" in finding["reason"]


@pytest.mark.parametrize(
    "file, line, says",
    [
        (".bashrc", '[ -s "$NVM_DIR/nvm.sh" ] && . "$NVM_DIR/nvm.sh"', "~/.bashrc:2 loads nvm, which gives node"),
        (".zshrc", 'eval "$(fnm env --use-on-cd)"', "~/.zshrc:2 loads fnm"),
        (".bash_aliases", "alias node='/opt/x/node'", "~/.bash_aliases:2 makes node an alias"),
        (".config/fish/config.fish", "function node", "makes node an alias or a function"),
        (".bashrc", "# . nvm.sh", None),
    ],
)
def test_what_only_interactive_shells_have(world: World, file: str, line: str, says: str | None) -> None:
    (world.home / file).parent.mkdir(parents=True, exist_ok=True)
    (world.home / file).write_text(f"# my shell\n{line}\n")
    world.environment["PATH"] = str(world.tools)
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "node"\n'})
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert (says or "only") in finding["reason"] or says is None
    assert ("in interactive shells only" in finding["reason"]) == (says is not None)
    if "node is" not in finding["reason"] and finding["verdict"] == "missing":
        notes = world.dokimon("tools", "node", "--format", "json").report.get("notes", [])
        assert any((says or "") in note for note in notes) == (says is not None) or says is None


@pytest.mark.parametrize(
    "one, other, same",
    [("ext-pdo_mysql", "ext-PDO-MySQL", True), ("Pkg.Name", "pkg-name", True), ("ext-xml", "ext-xmlreader", False)],
)
def test_names_of_components_are_compared_as_their_ecosystems_do(one: str, other: str, same: bool) -> None:
    assert (same_name(one) == same_name(other)) == same


def test_a_path_of_thousands_of_odd_entries_is_looked_through(world: World, tmp_path: Path) -> None:
    for number in range(400):
        (tmp_path / f"f{number}").mkdir()
    world.tool("git", "echo git version 2.40.1", tmp_path / "f399")
    world.tool("git", "echo git version 9.9.9", world.checkout)
    many = ":".join(str(tmp_path / f"f{number}") for number in range(1000))
    environment = {**world.environment, "PATH": f"::relative:\x01\udcff:{world.checkout}:{many}:{world.basics}"}
    survey = surveyor(world.checkout, world.checkout, environment).survey(["git"])
    first, second = survey.installations["git"][:2]
    assert (first.own, first.reached, first.version) == (True, True, None)
    assert (second.version, second.reached) == ("2.40.1", False)
    notes = " ".join(survey.notes)
    assert (
        "an empty or relative entry" in notes
        and "leads into the checkout" in notes
        and "folders that are not there" in notes
    )


def test_every_entry_of_the_catalogue_says_how_and_has_a_way_for_every_machine() -> None:
    catalogue = Catalogue()
    for name in catalogue.names():
        tool = catalogue.find(name)
        assert tool and (tool.commands or tool.part)
        assert not tool.part or any(recipe.part for recipe in tool.remedy), f"{name}: no remedy for a component"
        for part in tool.part:
            assert part.files or part.ask, name


def test_a_folder_of_path_that_may_not_be_looked_into_is_told(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whoever runs the tests may be allowed everything: the system's answer is played."""
    world.tool("git", "echo git version 2.40.1")
    closed = world.home / "closed"
    closed.mkdir()
    allowed = places.os.access
    monkeypatch.setattr(places.os, "access", lambda path, mode: str(path) != str(closed) and allowed(path, mode))
    environment = {**world.environment, "PATH": f"{closed}:{world.tools}:/bin"}
    survey = surveyor(world.checkout, world.checkout, environment).survey(["git"])
    assert survey.installations["git"][0].version == "2.40.1"
    assert f"PATH names {closed}, which you may not look into" in survey.notes


def test_tools_speak_plain_english_without_colours_whatever_the_user_prefers(world: World) -> None:
    world.tool("git", 'echo "git version 1.0/$LC_ALL/$LANGUAGE/$NO_COLOR/$TERM"')
    environment = {**world.environment, "LC_ALL": "de_DE.UTF-8", "LANGUAGE": "de", "TERM": "xterm-256color"}
    copy = surveyed(["git"], world.checkout, world.checkout, environment)["git"][0]
    assert copy.version == "1.0/C.UTF-8//1/dumb"
