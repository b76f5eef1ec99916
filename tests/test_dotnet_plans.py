"""Which project of .NET is started, what is done before, where it listens, and the paths that it names."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from dokimon.core.declarations.solutions import projects_named
from dokimon.core.planning.plan import PlanContext, shown
from dokimon.core.planning.planners.dotnet import plan
from dokimon.core.planning.planners.dotnet_addresses import named_paths, usual_port


def project(sdk: str = "Microsoft.NET.Sdk", output: str = "Exe", more: str = "", items: str = "") -> str:
    kind = f"<OutputType>{output}</OutputType>" if output else ""
    return (
        f'<Project Sdk="{sdk}"><PropertyGroup>{kind}<TargetFramework>net10.0</TargetFramework>{more}</PropertyGroup>'
        f"<ItemGroup>{items}</ItemGroup></Project>"
    )


WEB, WORKER = project("Microsoft.NET.Sdk.Web", ""), project("Microsoft.NET.Sdk.Worker", "")
HOST = project("Aspire.AppHost.Sdk/13.0.0")
TESTS = project(items='<PackageReference Include="xunit.v3" Version="1"/>')
LIBRARY = project(output="")
XML = '<Solution><Folder Name="/a/"><Project Path="a/A.csproj"/></Folder><Project Path="b\\B.csproj"/></Solution>'
TEXT = (
    'Project("{X}") = "A", "a\\A.csproj", "{1}"\nEndProject\nProject("{X}") = "B", "b\\B.csproj", "{2}"\nEndProject\n'
)


def planned(folder: Path, files: dict[str, str]) -> list[str]:
    """The commands of the runs, in their order."""
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    made = plan(PlanContext(root=folder, folder=folder, environment={"HOME": str(folder)}, tools={}))
    return [shown(run.command, run.folder) for run in made.runs] if made else []


@pytest.mark.parametrize(
    "files, runs",
    [
        ({"a.csproj": project()}, ["dotnet run --no-build"]),
        ({"a.fsproj": WEB}, ["dotnet run --no-build"]),
        ({"a.csproj": LIBRARY}, []),
        ({"a.csproj": TESTS}, []),
        ({"a.csproj": project("MSTest.Sdk/4.0.0")}, []),
        ({"a.csproj": project(more="<IsTestProject>true</IsTestProject>")}, []),
        ({"a.csproj": project(items='<PackageReference Include="BenchmarkDotNet" Version="1"/>')}, []),
        ({"a.csproj": project("Microsoft.NET.Sdk.Web", "Library")}, []),
        ({"a.csproj": project().replace('"', "'")}, ["dotnet run --no-build"]),
        ({"a.csproj": LIBRARY.replace("<PropertyGroup>", "<!-- <OutputType>Exe</OutputType> --><PropertyGroup>")}, []),
        ({"a.csproj": '<Project><Sdk Name="Microsoft.NET.Sdk.Web"/></Project>'}, ["dotnet run --no-build"]),
        ({"a.csproj": '<Project Sdk="My.Sdk/1;Microsoft.NET.Sdk.Web"/>'}, ["dotnet run --no-build"]),
        ({"a.csproj": '<Project Sdk="Microsoft.NET.Sdk"/>', "Directory.Build.props":
            "<Project><PropertyGroup><OutputType>Exe</OutputType></PropertyGroup></Project>"}, ["dotnet run --no-build"]),
        ({"a.csproj": project().replace("<OutputType>Exe", "<Kind>Exe</Kind><OutputType>$(Kind)")},
            ["dotnet run --no-build"]),
        ({"a.csproj": project(), "b.csproj": LIBRARY}, ["dotnet run --no-build --project a.csproj"]),
        ({"a.csproj": project(), "a.sln": ""}, ["dotnet run --no-build --project a.csproj"]),
        ({"a.csproj": project().replace("work>net10.0</TargetFramework", "works>net8.0;net10.0;net10.0-windows"
            "</TargetFrameworks")},
            ["dotnet run --no-build --framework net10.0"]),
        ({"a.slnx": XML, "a/A.csproj": LIBRARY, "b/B.csproj": project()}, ["dotnet run --no-build --project b/B.csproj"]),
        ({"a.sln": TEXT, "a/A.csproj": WORKER, "b/B.csproj": WEB},
            ["dotnet run --no-build --project b/B.csproj", "dotnet run --project a/A.csproj"]),
        ({"a.sln": TEXT, "a/A.csproj": WEB, "b/B.csproj": HOST},
            ["dotnet run --no-build --project b/B.csproj", "dotnet run --project a/A.csproj"]),
        ({"a.sln": TEXT, "a/A.csproj": project(), "b/B.csproj": project(
            items='<ProjectReference Include="..\\a\\A.csproj"/>')},
            ["dotnet run --no-build --project b/B.csproj"]),
        ({"a.sln": TEXT, "a/A.csproj": project(), "b/B.csproj": TESTS.replace("<ItemGroup>",
            '<ItemGroup><ProjectReference Include="../a/A.csproj"/>')}, ["dotnet run --no-build --project a/A.csproj"]),
        ({"a.slnf": json.dumps({"solution": {"path": "a.sln", "projects": ["b\\B.csproj"]}}), "a.sln": TEXT,
            "a/A.csproj": project(), "b/B.csproj": project()}, ["dotnet run --no-build --project b/B.csproj"]),
        ({"a.sln": TEXT, "a/A.csproj": project(), "b/B.csproj": project(), "README.md": "`dotnet run --project b`\n"},
            ["dotnet run --no-build --project b/B.csproj", "dotnet run --project a/A.csproj"]),
        ({"samples/S.csproj": WEB, "src/P.csproj": project()},
            ["dotnet run --no-build --project src/P.csproj", "dotnet run --project samples/S.csproj"]),
        ({"app.cs": "#:property Nullable=enable\n"}, ["dotnet run app.cs"]),
        ({"board.cs": "#!/usr/bin/env dotnet\n"}, ["dotnet run board.cs"]),
        ({"Tide.cs": "class Tide {}\n", "Quay.cs": "class Quay {}\n"}, []),
        ({"a.csproj": "<Project", "b/b.csproj": project()}, []),
        ({"a.csproj": "<notes/>"}, []),
        ({"a.sln": 'Project("{X}") = "A", "/etc/A.csproj", "{1}"\n'}, []),
        ({"a.sln": 'Project("{X}") = "A", "..\\..\\A.csproj", "{1}"\n', "a.csproj": project()},
            ["dotnet run --no-build --project a.csproj"]),
        ({"a.csproj": project(more="<AssemblyName>../../x</AssemblyName><SpaRoot>/etc</SpaRoot>")},
            ["dotnet run --no-build"]),
    ],
)  # fmt: skip
def test_which_project_is_started(tmp_path: Path, files: dict[str, str], runs: list[str]) -> None:
    assert planned(tmp_path, files) == runs


def test_what_is_done_before_a_run(tmp_path: Path) -> None:
    page = project("Microsoft.NET.Sdk.Web", "", "<SpaRoot>ClientApp\\</SpaRoot>")
    files = {"a.csproj": page, "ClientApp/package.json": "{}", ".config/dotnet-tools.json":
        '{"tools": {"dotnet-ef": {"version": "10.0.0", "commands": ["dotnet-ef"]}}}'}  # fmt: skip
    planned(tmp_path, files)
    context = PlanContext(root=tmp_path, folder=tmp_path, environment={"HOME": str(tmp_path)}, tools={})
    made = plan(context)
    assert made and [(step.title, step.needed is not None) for step in made.prepare] == [
        ("restore tools", True), ("restore packages", True), ("install packages of ClientApp", True), ("build", True),
    ]  # fmt: skip
    for name in ("obj/project.assets.json", "bin/Debug/net10.0/a.dll", "ClientApp/node_modules/.package-lock.json"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).touch()
    (tmp_path / ".nuget/packages/dotnet-ef/10.0.0").mkdir(parents=True)
    again = plan(context)
    assert again and [step.title for step in again.prepare if step.needed] == []


@pytest.mark.parametrize(
    "files, port, paths",
    [
        ({}, 5000, ()),
        ({"Properties/launchSettings.json": '{"profiles": {"x": {"applicationUrl": '
            '"https://localhost:7001;http://localhost:5117"}}}'}, 5117, ()),
        ({"Properties/launchSettings.json": '{ // all\n"profiles": {"IIS": {"commandName": "IISExpress", "applicationUrl":'
            ' "http://localhost:1"}, "T": {"commandName": "Project", "launchUrl": "board", "applicationUrl":'
            ' "https://localhost:7002",},},}'}, 7002, ("/board",)),
        ({"Properties/launchSettings.json": '{"profiles": [1]}'}, 5000, ()),
        ({"Properties/launchSettings.json": r'{"profiles": {"x": {"launchUrl": "x\r\nHost: evil"}}}'}, 5000, ()),
        ({"Properties/launchSettings.json": '{"profiles": {"x": {"launchUrl": "//quay.example/y"}}}'}, 5000,
            ("/quay.example/y",)),
        ({"Properties/launchSettings.json": '{"profiles": {"x": 3}}'}, 5000, ()),
        ({"appsettings.json": '{"Kestrel": {"Endpoints": {"A": {"Url": "http://*:5081"}}}}'}, 5081, ()),
        ({"appsettings.json": '{"Urls": "http://127.0.0.1:5082;https://127.0.0.1:5083"}'}, 5082, ()),
        ({"a.http": "@Host = http://localhost:5084\n\nGET {{Host}}/tides/\nAccept: application/json\n\n###\n"}, 5000,
            ("/tides",)),
        ({"Program.cs": 'app.MapGet("/high", x); app.MapGet("/low/{day}", y); app.MapHealthChecks("/healthz");\n'
            "app.MapOpenApi();"}, 5000, ("/high", "/healthz", "/openapi/v1.json")),
        ({"Program.cs": 'app.UsePathBase("/board"); app.MapGet("/high", x);'}, 5000, ("/board", "/board/high")),
        ({"Controllers/TidesController.cs": '[Route("api/[controller]")]\nclass TidesController\n{ [HttpGet("all")] }'},
            5000, ("/api/tides/all",)),
    ],
)  # fmt: skip
def test_where_it_listens_and_what_it_names(
    tmp_path: Path, files: dict[str, str], port: int, paths: tuple[str, ...]
) -> None:
    for name, text in files.items():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(text)
    assert (usual_port(tmp_path), named_paths(tmp_path)) == (port, paths)


@pytest.mark.parametrize("name, text", [("a.sln", TEXT), ("a.slnx", XML)])
def test_the_projects_that_a_solution_names(tmp_path: Path, name: str, text: str) -> None:
    (tmp_path / name).write_text(text)
    assert [path for path, _ in projects_named(tmp_path / name, tmp_path)] == ["a/A.csproj", "b/B.csproj"][
        :: 1 if name == "a.sln" else -1
    ]


def test_a_large_solution_is_read_at_once(tmp_path: Path) -> None:
    lines = [f'Project("{{X}}") = "P{n}", "p{n}\\P{n}.csproj", "{{1}}"\nEndProject' for n in range(2000)]
    (tmp_path / "a.sln").write_text("\n".join(lines))
    assert len(projects_named(tmp_path / "a.sln", tmp_path)) == 2000
    assert planned(tmp_path, {f"p{n}/P{n}.csproj": project() for n in range(3)})[:1] == [
        "dotnet run --no-build --project p0/P0.csproj"
    ]
