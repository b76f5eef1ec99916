"""Project files of MSBuild: what they end up with, as MSBuild itself says (tests/differential/msbuild.py)."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from dokimon.core.declarations.msbuild.conditions import holds
from dokimon.core.declarations.msbuild.expressions import Scope, expand
from dokimon.core.declarations.msbuild.project import MsProject, read_ms_project

ANSWERS: list[dict[str, Any]] = json.loads(
    Path(__file__).with_name("answers").joinpath("msbuild.json").read_text("utf-8")
)


def read(root: Path, files: dict[str, str], project: str = "Board.csproj") -> MsProject:
    for name, text in files.items():
        path = root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")
    found = read_ms_project(root / project, root)
    assert found is not None
    return found


@pytest.mark.parametrize("case", ANSWERS, ids=[each.get("is", f"made up {n}") for n, each in enumerate(ANSWERS)])
def test_a_project_ends_up_as_msbuild_says(tmp_path: Path, case: dict[str, Any]) -> None:
    found = read(tmp_path, case["files"], case["project"])
    text = "".join(case["files"].values())
    asked = [
        name for name in case["asked"] if f"<{name}" in text and f"<!-- <{name}" not in text and "<Target " not in text
    ]
    said = {name: case["says"][name].strip() for name in asked}
    assert {name: found.value(name.lower()).replace(f"{tmp_path}/", "") for name in asked} == said


SDK = '<Project Sdk="Microsoft.NET.Sdk">{}</Project>'
GROUP = "<PropertyGroup>{}</PropertyGroup>"


@pytest.mark.parametrize(
    "files",
    [
        {
            "a.props": '<Project><Import Project="b.props"/></Project>',
            "b.props": '<Project><Import Project="a.props"/></Project>',
        },
        {"a.props": '<Project><Import Project="Board.csproj"/><Import Project="a.props"/></Project>'},
        {"a.props": "<Project"},
        {"a.props": '<Project><Import Project="../../../../etc/passwd"/><Import Project="/etc/passwd"/></Project>'},
        {"a.props": '<Project><Import Project="**/*.props"/><Import Project="*/*.props"/></Project>'},
    ],
)
def test_imports_that_lead_nowhere_are_left_out(tmp_path: Path, files: dict[str, str]) -> None:
    body = '<Import Project="a.props"/>' + GROUP.format("<TargetFramework>net10.0</TargetFramework>")
    assert read(tmp_path, {"Board.csproj": SDK.format(body), **files}).frameworks == ("net10.0",)


def test_what_is_nested_or_doubled_without_end_ends(tmp_path: Path) -> None:
    deep = "$(A" + ".Replace('a', $(A" * 1000 + "))" * 1000 + ")"
    doubled = "<A>aaaaaaaa</A>" + "<A>$(A)$(A)</A>" * 40
    body = GROUP.format(f"{doubled}<B>{deep}</B><TargetFramework>net10.0</TargetFramework>")
    body += f'<PropertyGroup Condition="{"(" * 300}true{")" * 300}"><C>1</C></PropertyGroup>'
    found = read(tmp_path, {"Board.csproj": SDK.format(body)})
    assert found.frameworks == ("net10.0",) and len(found.value("a")) <= 20_000


@pytest.mark.parametrize(
    "condition, met",
    [
        ("", True), ("'$(Quay)' == ''", True), ("'$(Quay)' != ''", False), ("$(NETCoreSdkVersion) > 8", None),
        ("'$(BundledNETCoreAppTargetFrameworkVersion)' == '10.0' and false", False),
        ("'$(BundledNETCoreAppTargetFrameworkVersion)' == '10.0' or true", True), ("!true", False), ("!(false)", True),
        ("'a' == 'A'", True), ("1.0 == 1", True), ("'a' < 'b'", None), ("1 <", None), ("Exists('here')", True),
        ("Exists('..\\\\..\\\\etc')", None), ("Exists('')", False), ("HasTrailingSlash('a\\')", True),
        ("nonsense here", None),
        ("'10.0.1' > '9.0'", True), ("(true", None), ("@(Items) == 'x'", False),
    ],
)  # fmt: skip
def test_conditions(tmp_path: Path, condition: str, met: bool | None) -> None:
    (tmp_path / "here").touch()
    path = tmp_path / "Board.csproj"
    assert holds(condition, Scope(values={}, file=path, project=path, root=tmp_path), tmp_path) is met


@pytest.mark.parametrize(
    "text, value",
    [
        ("$(A)-$(B)", "High Water-"), ("$(A.Substring(5))", "Water"), ("$(A.Substring(0, 4).ToUpper())", "HIGH"),
        ("$(A.IndexOf('W'))", "5"), ("$(A.Split(' '))", "$(A.Split(' '))"), ("$(A.Nothing())", "$(A.Nothing())"),
        ("$([MSBuild]::GetTargetFrameworkIdentifier('net472'))", ".NETFramework"), ("$(A", "$(A"), ("$()", "$()"),
        ("$([System.IO.File]::ReadAllText('/etc/passwd'))", "$([System.IO.File]::ReadAllText('/etc/passwd'))"),
        ("$([System.Diagnostics.Process]::Start('id'))", "$([System.Diagnostics.Process]::Start('id'))"),
        ("$(MSBuildProjectName)", "Board"), ("$([MSBuild]::Add(1, $([MSBuild]::Add(2, 3))))", "6"),
    ],
)  # fmt: skip
def test_expressions(tmp_path: Path, text: str, value: str) -> None:
    path = tmp_path / "Board.csproj"
    assert expand(text, Scope(values={"a": "High Water"}, file=path, project=path, root=tmp_path)) == value
