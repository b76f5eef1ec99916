"""The survey compared with real tools: those of this machine, and those that `tests/real/prepare.sh` brings."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import DOKIMON, World, surveyor
from dokimon.core.machine.asking import Asker
from dokimon.core.machine.catalogue import Catalogue

pytestmark = pytest.mark.real
BROUGHT = Path(os.environ.get("DOKIMON_REAL_TOOLS", "/nonexistent"))
brought = pytest.mark.skipif(
    not BROUGHT.is_dir(), reason="DOKIMON_REAL_TOOLS names no folder made by tests/real/prepare.sh"
)


def needs(*programs: str) -> pytest.MarkDecorator:
    missing = [name for name in programs if not shutil.which(name)]
    return pytest.mark.skipif(bool(missing), reason=f"no {' and no '.join(missing)} on this machine")


def says(*command: str | Path, folder: Path | None = None, **variables: str) -> str:
    """What a real program prints."""
    environment = {**os.environ, **variables}
    ended = subprocess.run(
        command, cwd=folder, env=environment, capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL
    )
    return ended.stdout.strip()


@pytest.fixture
def real(world: World) -> World:
    """A world whose PATH and home folders are this machine's, with what was brought in the places of its managers."""
    for name in (".pyenv", ".rustup", ".cargo", ".nvm", "sdk"):
        at = BROUGHT / "home" / name if (BROUGHT / "home" / name).exists() else Path.home() / name
        if at.exists():
            (world.home / name).symlink_to(at)
    for number, folder in enumerate(sorted(BROUGHT.glob("cmake-*"))):
        (world.home / f"cmake{number}").mkdir()
        (world.home / f"cmake{number}/cmake").symlink_to(folder / "bin/cmake")
    del world.environment["DOKIMON_ROOT"]
    cmakes = [str(path) for path in sorted(world.home.glob("cmake*"))]
    own = str(Path(sys.executable).parent)  # an environment would hide the machine's own Python
    rest = [folder for folder in os.environ["PATH"].split(os.pathsep) if folder != own]
    world.environment["PATH"] = os.pathsep.join([*cmakes, *rest])
    for name in ("PYENV_ROOT", "RUSTUP_HOME", "CARGO_HOME", "JAVA_HOME"):
        if value := os.environ.get(name):
            world.environment[name] = value
    return world


def test_what_files_tell_is_what_the_programs_say_themselves(real: World) -> None:
    catalogue = Catalogue()
    found = surveyor(real.checkout, real.checkout, real.environment).survey(catalogue.names()).installations
    asker, compared = Asker(real.environment, real.checkout), 0
    for name, copies in found.items():
        tool = catalogue.find(name)
        assert tool
        for copy in copies:
            if copy.known_by == "file" and not tool.ask.never and not copy.own:
                answer = asker.version(Path(copy.program), tool.ask)
                # What cannot answer (a script without its Java) says nothing else either.
                assert answer.version in (copy.version, None), (copy, answer)
                compared += answer.version is not None
    print(f"{compared} copies compared")


@needs("strace")
def test_no_question_of_the_catalogue_connects_anywhere(real: World) -> None:
    """Each tool that is here is asked as the catalogue says, and the kernel says what it did."""
    catalogue, trace = Catalogue(), real.home / "trace"
    asker, asked, connecting = Asker(real.environment, real.checkout), [], []
    strace = [shutil.which("strace") or "", "-f", "-qq", "-e", "trace=connect,sendto,sendmsg", "-o", str(trace)]
    for name, copies in (
        surveyor(real.checkout, real.checkout, real.environment).survey(catalogue.names()).installations.items()
    ):
        tool = catalogue.find(name)
        assert tool
        for copy in copies:
            if tool.ask.never or copy.own or not Path(copy.program).is_file():
                continue
            questions = [tool.ask.arguments, *(part.ask for part in tool.part if part.ask)]
            for arguments in questions:
                trace.unlink(missing_ok=True)
                asker.output([*strace, copy.program, *arguments], asker.variables_for(tool.ask))
                calls = trace.read_text(errors="replace").splitlines() if trace.exists() else []
                to_others = [
                    call
                    for call in calls
                    if re.search(
                        r"AF_INET|sun_path=(?!\"/(?:dev/(?:null/|log)|var/run/(?:nscd/|(?:sys)?log)|run/uuidd/))", call
                    )
                ]
                connecting += [(copy.program, arguments, call) for call in to_others[:3]]
            asked.append(name)
    assert not connecting, "\n".join(map(str, connecting))
    print(f"{len(asked)} copies of {len(set(asked))} tools asked: {' '.join(sorted(set(asked)))}")


@brought
def test_the_wrong_node_first_on_path_and_the_right_one_in_a_managers_folder(real: World) -> None:
    (real.tools / "node").symlink_to(BROUGHT / "home/.nvm/versions/node/v18.20.4/bin/node")
    real.environment["PATH"] = f"{real.tools}:{real.environment['PATH']}"
    real.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "node"\nversion = ">=22, <23"\n'})
    right = real.home / ".nvm/versions/node/v22.11.0/bin"
    ended = real.dokimon("verify", "--format", "json")
    (finding,) = ended.report["requirements"]
    assert (ended.status, finding["verdict"], finding["found"]["version"]) == (1, "unmet", "18.20.4")
    assert finding["remedies"][0]["command"] == real.put_first(right)
    script = f'eval "$({DOKIMON} path)" && node --version && {DOKIMON} verify'
    mended = subprocess.run(
        ["/bin/sh", "-c", script], cwd=real.checkout, env=real.environment, capture_output=True, text=True, check=False
    )
    assert mended.returncode == 0 and mended.stdout.startswith("v22.11.0\n"), mended
    assert real.dokimon("verify", "--pick").status == 0


@brought
def test_several_cmakes_and_gos_side_by_side(real: World) -> None:
    found = surveyor(real.checkout, real.checkout, real.environment).survey(["cmake", "go"]).installations
    assert {"3.31.6", "4.2.1"} <= {copy.version for copy in found["cmake"]}
    gos = [copy for copy in found["go"] if "/sdk/" in copy.path]
    assert [(copy.version, copy.off_path, copy.known_by) for copy in gos] == [
        ("1.27.3", True, "file"),
        ("1.24.11", True, "file"),
    ]


@pytest.mark.skipif(not (Path.home() / ".pyenv/versions").is_dir(), reason="no pyenv on this machine")
def test_shims_of_pyenv_are_read_as_pyenv_reads_them(real: World) -> None:
    # An active virtual environment, say that of these tests, may be before the shims.
    real.environment["PATH"] = f"{Path.home()}/.pyenv/shims:{real.environment['PATH']}"
    versions = sorted(path.name for path in (Path.home() / ".pyenv/versions").iterdir())
    for version in versions:
        (real.checkout / ".python-version").write_text(f"{version}\n")
        theirs = says("pyenv", "which", "python", folder=real.checkout)
        copy = surveyor(real.checkout, real.checkout, real.environment).survey(["python"]).installations["python"][0]
        assert copy.shim == "pyenv" and Path(copy.via or "").resolve() == Path(theirs).resolve(), version
        assert copy.version == says(theirs, "-c", "import sys; print('%d.%d.%d' % sys.version_info[:3])")


@needs("rustup")
def test_shims_of_rustup_are_read_as_rustup_reads_them(real: World) -> None:
    for channel in ("stable", "nightly", None):
        if channel:
            (real.checkout / "rust-toolchain.toml").write_text(f'[toolchain]\nchannel = "{channel}"\n')
        else:
            (real.checkout / "rust-toolchain.toml").unlink()
        theirs = says("rustup", "which", "rustc", folder=real.checkout, RUSTUP_AUTO_INSTALL="0")
        survey = surveyor(real.checkout, real.checkout, real.environment).survey(["rustc"], ["rustc"])
        copy = survey.installations["rustc"][0]
        if not theirs:
            assert copy.fault == "shim without a version"
            continue
        assert Path(copy.via or "").resolve() == Path(theirs).resolve()
        assert says(theirs, "--version").split()[1] == copy.version
        listed = says("rustup", "component", "list", "--installed", folder=real.checkout).split()
        ours = {each.name.removeprefix("component ") for each in survey.components if each.what == "component"}
        assert {re.sub(r"-(x86_64|aarch64)-.*", "", each) for each in listed} == ours


@needs("php")
def test_extensions_of_php_are_those_that_it_lists(real: World) -> None:
    survey = surveyor(real.checkout, real.checkout, real.environment).survey(["php"], ["php"])
    ours = {each.name for each in survey.components if each.name.startswith("ext-")}
    listed = [line for line in says("php", "-m").splitlines() if line and not line.startswith("[")]
    assert ours == {"ext-" + line.lower().replace(" ", "-") for line in listed}


@needs("gem")
def test_gems_are_those_that_gem_lists(real: World) -> None:
    survey = surveyor(real.checkout, real.checkout, real.environment).survey(["gem"], ["gem"])
    ours = {each.name for each in survey.components if each.what == "gem"}
    theirs = {line.split()[0] for line in says("gem", "list", "--local").splitlines() if line and "***" not in line}
    assert theirs and theirs <= ours


@needs("npm")
def test_global_packages_are_those_that_npm_lists(real: World) -> None:
    survey = surveyor(real.checkout, real.checkout, real.environment).survey(["npm"], ["npm"])
    listed = json.loads(says("npm", "ls", "--global", "--json", "--depth=0", npm_config_offline="true"))
    theirs = {name: entry["version"] for name, entry in listed.get("dependencies", {}).items()}
    assert theirs.items() <= {each.name: each.version for each in survey.components}.items()


@needs("pkg-config")
def test_libraries_are_those_of_pkg_config(real: World) -> None:
    survey = surveyor(real.checkout, real.checkout, real.environment).survey([], ["library"])
    ours = {each.name: each.version for each in survey.components if each.what == "library"}
    names = [line.split()[0] for line in says("pkg-config", "--list-all").splitlines()]
    for name in names[:20]:
        assert ours.get(name) == (says("pkg-config", "--modversion", name) or None), name


@pytest.fixture
def mariadb(tmp_path: Path, free_port: int) -> Iterator[int]:
    """A real MariaDB server on a port of its own."""
    data = tmp_path / "data"
    data.mkdir()
    user = ["--user=root"] if os.getuid() == 0 else []
    installer = shutil.which("mariadb-install-db") or "mariadb-install-db"
    subprocess.run([installer, "--no-defaults", f"--datadir={data}", *user], capture_output=True, check=True)
    where = [f"--datadir={data}", f"--port={free_port}", f"--socket={tmp_path}/s", f"--pid-file={tmp_path}/pid"]
    command = [shutil.which("mariadbd") or "mariadbd", "--no-defaults", *where, "--bind-address=127.0.0.1", *user]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as server:
        deadline = time.monotonic() + 30
        while not (tmp_path / "s").exists() and time.monotonic() < deadline:
            time.sleep(0.1)
        yield free_port
        server.terminate()
        server.wait(20)


@needs("mariadbd")
def test_a_real_mariadb_greets_as_what_it_is(real: World, mariadb: int) -> None:
    version = re.search(r"(\d+\.\d+\.\d+)-MariaDB", says("mariadbd", "--no-defaults", "--version"))
    either = f'{{ service = "mysql", port = {mariadb}, version = ">=8" }}, {{ service = "mariadb", port = {mariadb} }}'
    real.write(
        {
            "dokimon.toml": f'format = 1\n[[need]]\nservice = "mariadb"\nport = {mariadb}\nversion = ">=10"\n'
            f'[[need]]\nservice = "mysql"\nport = {mariadb}\n[[need]]\nany = [{either}]\n'
        }
    )
    found = real.dokimon("verify", "--format", "json").report["requirements"]
    assert [each["verdict"] for each in found] == ["met", "unmet", "met"]
    assert version and found[0]["found"]["version"] == version[1]


@needs("redis-server")
def test_a_real_redis_greets_as_what_it_is(real: World, free_port: int, tmp_path: Path) -> None:
    version = re.search(r"v=(\S+)", says("redis-server", "--version"))
    for password, verdict in (([], "met"), (["--requirepass", "tide"], "unknown")):
        command = ["redis-server", "--port", str(free_port), "--save", "", "--dir", str(tmp_path), *password]
        with subprocess.Popen(command, stdout=subprocess.DEVNULL) as server:
            time.sleep(1)
            need = f'service = "redis"\nport = {free_port}\nversion = ">=5"\n'
            real.write({"dokimon.toml": f"format = 1\n[[need]]\n{need}"})
            (finding,) = real.dokimon("verify", "--format", "json").report["requirements"]
            server.terminate()
        assert finding["verdict"] == verdict, finding
        assert version and (password or finding["found"]["version"] == version[1])
