"""What cannot be seen by looking at this machine once: suppositions."""

from __future__ import annotations

import json

import pytest

from conftest import World

NEEDS = 'format = 1\n[[need]]\ntool = "node"\nversion = ">=20, <23"\n[[need]]\ntool = "git"\n'


@pytest.mark.parametrize(
    "supposed, verdicts, said",
    [
        (["node=22.11.0"], ["met", "met"], ["node 22.11.0"]),
        (["node=v23.1.0"], ["unmet", "met"], ["node 23.1.0"]),
        (["node=21"], ["met", "met"], ["node 21.0.0"]),
        (["node=18"], ["unmet", "met"], ["node 18.4.1"]),  # of that line one is here: its whole version
        (["node=none"], ["missing", "met"], ["node none"]),
        (["nodejs=19", "git=none"], ["unmet", "missing"], ["node 19.0.0", "git none"]),
        (["node=19", "node=20.1"], ["met", "met"], ["node 20.1.0"]),
        (["python=3.13"], ["missing", "met"], ["python 3.13"]),  # nothing here needs it
    ],
)
def test_it_is_judged_as_if_that_were_reached(
    world: World, supposed: list[str], verdicts: list[str], said: list[str]
) -> None:
    world.write({"dokimon.toml": NEEDS})
    world.tool("node", "echo v18.4.1", world.home / ".nvm/versions/node/v18.4.1/bin")
    options = [word for each in supposed for word in ("--suppose", each)]
    report = world.dokimon("verify", "-f", "json", *options).report
    assert [each["verdict"] for each in report["requirements"]] == verdicts
    assert [each.replace("python 3.13.0", "python 3.13") for each in report["supposed"]] == said
    assert not any(each.get("remedies") for each in report["requirements"])


def test_a_supposition_says_that_it_is_one_and_leaves_no_record(world: World) -> None:
    world.write({"dokimon.toml": NEEDS})
    for form, says in (
        ("table", "supposed: node 22.11.0; judged as if"), ("markdown", "Supposed: node 22.11.0."),
        ("junit", "(supposed: node 22.11.0)"), ("html", "Supposed: node 22.11.0."),
    ):  # fmt: skip
        assert says in world.dokimon("verify", "--suppose", "node=22.11.0", "-f", form).out
    assert json.loads(world.dokimon("history", "-f", "json").out)["lines"] == []


def test_what_runs_on_a_supposed_tool_is_judged_with_it(world: World) -> None:
    world.write({"dokimon.toml": 'format = 1\n[[need]]\ntool = "npm"\n'})
    world.tool("node", "echo v22.11.0")
    modules = world.tools.parent / "lib/node_modules/npm"
    for name, text in {
        "package.json": '{"name": "npm", "version": "11.1.0", "engines": {"node": "^20.17.0 || >=22.9.0"}}',
        "bin/npm-cli.js": "#!/usr/bin/env node\n",
    }.items():
        (modules / name).parent.mkdir(parents=True, exist_ok=True)
        (modules / name).write_text(text)
    (modules / "bin/npm-cli.js").chmod(0o755)
    (world.tools / "npm").symlink_to(modules / "bin/npm-cli.js")
    assert world.dokimon("verify").status == 0
    ended = world.dokimon("verify", "--suppose", "node=18.20.4")
    assert ended.status == 1 and "18.20.4 is reached" in ended.out


@pytest.mark.parametrize(
    "supposed, says",
    [
        ("node", "supposes nothing"), ("=3", "supposes nothing"), ("node=", "supposes nothing"),
        ("node=abc", "'abc' is no version"),
        ("nide=3", "the catalogue has no tool 'nide'; did you mean node?"), ("node=1 2", "is no version"),
        ("\x1b[31m=1", "has no tool"),
    ],
)  # fmt: skip
def test_what_supposes_nothing_is_refused(world: World, supposed: str, says: str) -> None:
    world.write({"dokimon.toml": NEEDS})
    ended = world.dokimon("verify", "--suppose", supposed)
    assert (ended.status, ended.out) == (2, "") and says in ended.err and "\x1b" not in ended.err
