"""What decides: JAVA_HOME for builds of Java, and what a tool itself runs on."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from conftest import World

POM = "<project><properties><maven.compiler.release>17</maven.compiler.release></properties></project>"


def jdk(world: World, version: str, *, compiler: bool = True) -> Path:
    """Put a JDK, or only a runtime, into the home, as SDKMAN! does."""
    home = world.home / f".sdkman/candidates/java/{version}"
    for name in ("java", "javac") if compiler else ("java",):
        world.tool(name, f"echo 'openjdk version \"{version}\"' >&2", home / "bin")
    (home / "release").write_text(f'JAVA_VERSION="{version}"\n')
    (home / "lib").mkdir()
    return home


@pytest.fixture
def build(world: World) -> World:
    """A Maven project for Java 17, Maven itself, and two JDKs: 17 on PATH, 11 elsewhere."""
    world.write({"pom.xml": POM})
    world.tool("mvn", "echo Apache Maven 3.9.6")
    new = jdk(world, "17.0.9")
    world.environment["PATH"] = f"{new}/bin:{world.environment['PATH']}"
    return world


def java_of(world: World) -> dict[str, object]:
    findings = world.dokimon("verify", "--format", "json").report["requirements"]
    found = [each for each in findings if each["tool"] in ("java", "javac") and "component" not in each]
    assert found, findings
    return dict(found[0])


def test_a_build_takes_the_jdk_of_java_home(build: World) -> None:
    old = jdk(build, "11.0.2")
    assert java_of(build)["verdict"] == "met"
    build.environment["JAVA_HOME"] = str(old)
    finding = java_of(build)
    assert finding["verdict"] == "unmet" and "11.0.2 is too old" in str(finding["reason"])
    assert "of JAVA_HOME, which decides for the build" in str(finding["reason"])
    drawn = build.dokimon("verify").out
    new = build.home / ".sdkman/candidates/java/17.0.9"
    assert f"export JAVA_HOME={new}" in drawn and "export PATH" not in drawn
    build.environment["JAVA_HOME"] = str(new)
    assert java_of(build)["verdict"] == "met"


def test_a_java_home_without_a_java_is_said(build: World) -> None:
    build.environment["JAVA_HOME"] = str(build.home / "gone")
    finding = java_of(build)
    assert finding["verdict"] == "missing" and "has no java" in str(finding["reason"])


def test_what_only_commands_take_is_judged_by_path(build: World) -> None:
    """A need that no build makes is of the copy that a command reaches."""
    build.environment["JAVA_HOME"] = str(jdk(build, "11.0.2"))
    (build.checkout / "pom.xml").unlink()
    build.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "java"\nversion = ">=17"\n'})
    assert java_of(build)["verdict"] == "met"


def test_maven_without_java_is_met_by_nothing(world: World) -> None:
    world.tool("mvn", "echo Apache Maven 3.9.6")
    world.environment["PATH"] = str(world.tools)
    world.tool("sh", 'exec /bin/sh "$@"')
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "maven"\n'})
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == "missing" and "Java, on which it runs, is not" in finding["reason"]
    world.tool("java", "echo 'openjdk version \"17.0.9\"' >&2")
    assert world.dokimon("verify").status == 0


def test_a_tool_of_npm_on_too_old_a_node_is_met_by_nothing(world: World) -> None:
    package = world.home / ".npm-global/lib/node_modules/@angular/cli"
    (package / "bin").mkdir(parents=True)
    (package / "bin/ng.js").write_text("#!/usr/bin/env node\n")
    (package / "bin/ng.js").chmod(0o755)
    (package / "package.json").write_text(json.dumps({"version": "18.2.0", "engines": {"node": "^18.19.1 || >=20.11"}}))
    (world.tools / "ng").symlink_to(package / "bin/ng.js")
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "angular"\n[[need]]\ntool = "node"\n'})
    for version, verdict in (("16.20.2", "unmet"), ("20.11.1", "met")):
        world.tool("node", f"echo v{version}")
        finding = world.dokimon("verify", "--format", "json").report["requirements"][0]
        assert finding["verdict"] == verdict, finding
    world.tool("node", "echo v16.20.2")
    finding = world.dokimon("verify", "--format", "json").report["requirements"][0]
    assert "runs on Node.js" in finding["reason"] and "16.20.2 is reached" in finding["reason"]


def test_python3_meets_what_python_does_not(world: World) -> None:
    """`python` of another line, or broken, hides nothing: the project is started by the command that would do."""
    (world.tools / "python").unlink()
    world.tool("python", "echo Python 2.7.18")
    world.tool("python3", 'case $1 in --version) echo Python 3.12.4;; *) echo "started by $0";; esac')
    world.write(
        {
            "pyproject.toml": '[project]\nname = "quay"\nrequires-python = ">=3.8"\n',
            "main.py": "__name__ == '__main__'\n",
        }
    )
    (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == "met" and finding["reason"] == "3.12.4 is accepted, as python3"
    world.write({"main.py": "if __name__ == '__main__':\n    pass\n"})
    assert "python3 main.py" in world.dokimon("smoke", "--show-plan").out
    world.write({".python-version": "2.7"})
    assert world.dokimon("verify", "--format", "json").report[
        "conflicts"
    ]  # one of both is met, the other is not by that


@pytest.mark.parametrize(
    "version, settings, verdict, says",
    [
        ("1.21.5", {}, "met", "fetches the Go that is asked for by itself (GOTOOLCHAIN=auto)"),
        ("1.21.5", {"GOTOOLCHAIN": "local"}, "unmet", "the variable GOTOOLCHAIN keeps Go from fetching"),
        ("1.20.4", {}, "unmet", "1.20.4 is too old"),
        ("1.24.0", {"GOTOOLCHAIN": "local"}, "met", "1.24.0 is accepted"),
    ],
)
def test_go_fetches_what_go_mod_asks_for(
    world: World, version: str, settings: dict[str, str], verdict: str, says: str
) -> None:
    world.tool("go", f"echo go version go{version} linux/amd64")
    world.environment |= settings
    world.write({"go.mod": "module quay\n\ngo 1.23.1\n"})
    finding = world.dokimon("verify", "--format", "json").report["requirements"][0]
    assert (finding["verdict"], says in finding["reason"]) == (verdict, True), finding


def test_go_of_a_distribution_may_be_kept_from_fetching(world: World, tmp_path: Path) -> None:
    world.tool("go", "echo go version go1.22.2 linux/amd64", tmp_path / "go/bin")
    (tmp_path / "go/go.env").write_text("GOPROXY=x\nGOTOOLCHAIN=local\n")
    world.environment["PATH"] = f"{tmp_path}/go/bin:{world.environment['PATH']}"
    world.write({"go.mod": "module quay\n\ngo 1.23.1\n"})
    finding = world.dokimon("verify", "--format", "json").report["requirements"][0]
    assert finding["verdict"] == "unmet" and f"GOTOOLCHAIN in {tmp_path}/go/go.env" in finding["reason"]


def test_a_version_file_may_name_an_environment(world: World) -> None:
    world.write({".python-version": "quay-3.12"})
    assert world.dokimon("verify", "--format", "json").report["requirements"][0]["verdict"] == "unknown"
    (world.home / ".pyenv/versions").mkdir(parents=True)
    finding = world.dokimon("verify", "--format", "json").report["requirements"][0]
    assert finding["verdict"] == "missing" and "no environment of this name" in finding["reason"]
    world.tool("python", "exit", world.home / ".pyenv/versions/quay-3.12/bin")
    assert world.dokimon("verify", "--format", "json").report["requirements"][0]["verdict"] == "met"
