"""Needs of .NET held against SDKs and runtimes that lie side by side: empty folders of the right shape."""

from __future__ import annotations

import json
from typing import Any

import pytest

from conftest import World

PROGRAM = (
    '<Project Sdk="Microsoft.NET.Sdk"><PropertyGroup><OutputType>Exe</OutputType>{more}'
    "<TargetFramework>net{line}</TargetFramework></PropertyGroup></Project>"
)


def install(world: World, place: str, sdks: list[str], runtimes: list[str]) -> None:
    home = world.home / place
    for version in sdks:
        (home / "sdk" / version).mkdir(parents=True)
        (home / "sdk" / version / "dotnet.dll").touch()
    for version in runtimes:
        folder = home / "shared/Microsoft.NETCore.App" / version
        folder.mkdir(parents=True)
        (folder / "Microsoft.NETCore.App.deps.json").touch()
    world.tool("dotnet", f"echo {sdks[-1]}", home)


def verified(world: World, files: dict[str, str], **variables: str) -> dict[str, dict[str, Any]]:
    world.write(files)
    world.environment["PATH"] = f"{world.home / 'net'}:{world.environment['PATH']}"
    world.environment |= variables
    found = world.dokimon("verify", "--format", "json").report["requirements"]
    return {f"{each['component']} {each['source']['file']}": each for each in found if each.get("verdict")}


def pinned(version: str, policy: str = "") -> str:
    return json.dumps({"sdk": {"version": version, **({"rollForward": policy} if policy else {})}})


@pytest.mark.parametrize(
    "policy, taken",
    [
        ("", "8.0.302"),
        ("latestPatch", "8.0.310"),
        ("feature", "8.0.310"),
        ("latestFeature", "8.0.404"),
        ("latestMajor", "9.0.100"),
    ],
)
def test_the_sdk_is_the_one_that_the_host_takes(world: World, policy: str, taken: str) -> None:
    install(world, "net", ["8.0.302", "8.0.310", "8.0.404", "9.0.100"], [])
    found = verified(world, {"global.json": pinned("8.0.302", policy)})["sdk global.json"]
    assert (found["verdict"], found["found"]["version"]) == ("met", taken)


def test_what_global_json_takes_is_what_projects_below_it_are_built_with(world: World) -> None:
    install(world, "net", ["8.0.404", "9.0.100"], ["8.0.11", "9.0.0"])
    files = {"global.json": pinned("8.0.100", "latestFeature"), "a/A.csproj": PROGRAM.format(more="", line="9.0")}
    found = verified(world, {**files, "b/B.csproj": files["a/A.csproj"], "b/global.json": "{}"})
    assert found["sdk a/A.csproj"]["verdict"] == "conflict"
    assert "global.json:1 takes 8.0.404: 8.0.404 is too old" in found["sdk a/A.csproj"]["reason"]
    assert found["sdk b/B.csproj"]["verdict"] == "met"


def test_a_global_json_above_the_checkout_counts_too(world: World) -> None:
    install(world, "net", ["8.0.404", "9.0.100"], ["9.0.0"])
    (world.checkout.parent / "global.json").write_text(pinned("8.0.100", "latestFeature"))
    files = {"A.csproj": PROGRAM.format(more="", line="9.0"), "b/B.csproj": PROGRAM.format(more="", line="9.0")}
    found = verified(world, {**files, "b/global.json": "{}"})
    assert (
        "global.json takes 8.0.404" in found["sdk A.csproj"]["reason"] and found["sdk b/B.csproj"]["verdict"] == "met"
    )


def test_an_sdk_in_another_place_is_put_first(world: World) -> None:
    install(world, "net", ["8.0.404"], ["8.0.11"])
    install(world, ".dotnet", ["10.0.100"], ["10.0.0"])
    found = verified(world, {"A.csproj": PROGRAM.format(more="", line="10.0")})["sdk A.csproj"]
    assert found["verdict"] == "unmet" and ".dotnet/dotnet has 10.0.100" in found["remedies"][0]["say"]
    assert str(world.home / ".dotnet") in world.dokimon("path").out


@pytest.mark.parametrize(
    "more, variable, verdict",
    [
        ("", None, "unmet"), ("<RollForward>Major</RollForward>", None, "met"), ("", "Major", "met"),
        ("<RollForward>Major</RollForward>", "Minor", "unmet"), ("<SelfContained>true</SelfContained>", None, None),
        ("<RollForward>Disable</RollForward>", None, "unmet"), ("", "nonsense", "unmet"),
    ],
)  # fmt: skip
def test_a_program_may_start_on_a_newer_runtime(
    world: World, more: str, variable: str | None, verdict: str | None
) -> None:
    install(world, "net", ["10.0.100"], ["10.0.0"])
    variables = {"DOTNET_ROLL_FORWARD": variable} if variable else {}
    found = verified(world, {"A.csproj": PROGRAM.format(more=more, line="9.0")}, **variables)
    finding = found.get("runtime A.csproj")
    assert (finding and finding["verdict"]) == verdict
    if finding and verdict == "unmet" and not variable:
        assert finding["remedies"][0]["command"] == "export DOTNET_ROLL_FORWARD=Major"


def test_a_folder_of_sdks_that_the_project_names(world: World) -> None:
    install(world, "net", ["9.0.100"], [])
    text = '{"sdk": {"version": "8.0.100", "paths": [".dotnet", "$host$"], "errorMessage": "Run ./get-sdk.sh"}}'
    found = verified(world, {"global.json": text})["sdk global.json"]
    assert (found["verdict"], found["why"]) == ("unmet", "Run ./get-sdk.sh")
    folder = world.checkout / ".dotnet/sdk/8.0.110"
    folder.mkdir(parents=True)
    (folder / "dotnet.dll").touch()
    assert "sdk global.json" not in verified(world, {})


def test_folders_of_sdks_that_are_none(world: World) -> None:
    install(world, "net", ["9.0.100"], [])
    text = json.dumps({"sdk": {"version": "8.0.100", "paths": [3, None, "a\0b", "../../..", "/", "$host$"]}})
    assert verified(world, {"global.json": text})["sdk global.json"]["verdict"] == "unmet"


@pytest.mark.parametrize("version", ["v8.0.200", "", " 8.0.302", "8.0", "latest"])
def test_a_version_that_is_none_is_passed_over_as_the_host_does(world: World, version: str) -> None:
    install(world, "net", ["9.0.100"], [])
    found = verified(world, {"global.json": pinned(version)})["sdk global.json"]
    assert found["verdict"] == "met" and "passes the file over" in found["why"]


TOOL = '"tide": {"version": "1.0.0", "commands": ["tide"]}'


@pytest.mark.parametrize(
    "manifest, why",
    [
        ('{"version": 1, "isRoot": true, "tools": {%s}}'.replace("%s", TOOL), None),
        ('{"isRoot": false, "tools": {%s}}'.replace("%s", TOOL), None),
        ('{"version": 1, "isRoot": true}', None),
        ('{"version": 2, "isRoot": true, "tools": {%s}}'.replace("%s", TOOL), "version 1, not 2"),
        ('{"version": 1, "tools": {%s}}'.replace("%s", TOOL), 'there is no "isRoot"'),
        ('{"isRoot": true, "tools": {"tide": {"version": "1.0.0"}}}', 'tide has no "commands"'),
        ('{"isRoot": true, "tools": {"tide": {"version": "1.0.0", "commands": []}}}', 'tide has no "commands"'),
        ('{"isRoot": true, "tools": {"tide": {"commands": ["tide"]}}}', 'tide has no "version"'),
        (
            '{"isRoot": true, "tools": {"tide": {"version": "latest", "commands": ["tide"]}}}',
            "'latest' is not a version",
        ),
        ('{"isRoot": true, "tools": {"tide": {"version": "1.*", "commands": ["tide"]}}}', "'1.*' is not a version"),
    ],
)
def test_a_manifest_of_tools_that_is_refused(world: World, manifest: str, why: str | None) -> None:
    world.write({".config/dotnet-tools.json": manifest})
    reasons = [
        each["reason"] for each in world.dokimon("needs", "--format", "json").report["requirements"] if "reason" in each
    ]
    assert (not reasons) if why is None else (why in reasons[0]), reasons
