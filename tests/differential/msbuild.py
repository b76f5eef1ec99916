"""Compare what projects of MSBuild end up with with `dotnet msbuild -getProperty`: `python tests/differential/msbuild.py`.

`--count N` sets how many projects are made up beside those of `msbuild.toml` (60), `--tables` also writes the answers that
the ordinary tests carry. Prints the counts and every difference; ends with 1 when there is one.
"""

from __future__ import annotations

import argparse
import json
import random
import re
import shutil
import subprocess
import sys
import tempfile
import tomllib
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape, quoteattr

from dokimon.core.declarations.msbuild.project import read_ms_project

HERE = Path(__file__).parent
TABLE = HERE.parent / "answers" / "msbuild.json"
Dice = random.Random
NAMES = ("Berth", "Quay", "Tide", "Pier", "Gauge", "Mole")
ASKED = (
    "TargetFramework", "TargetFrameworks", "OutputType", "LangVersion", "RollForward", "SelfContained", "AssemblyName",
    "UseWPF", "RuntimeFrameworkVersion", "IsTestProject",
)  # fmt: skip
_TEXTS = ["", "true", "false", "net10.0", "1.0", "2", "10.0", "north;south", "High Water", "a-b", "TRUE"]


def _value(dice: Dice) -> str:
    def one() -> str:
        name = dice.choice(NAMES)
        ways = [
            dice.choice(_TEXTS), dice.choice(_TEXTS), f"$({name})", f"$({name}.Replace('a', 'o'))", f"$({name}.ToLower())",
            f"$([System.IO.Path]::GetFileName('x/$({name})'))", "$(MSBuildProjectName)",
            f"$([MSBuild]::ValueOrDefault('$({name})', 'none'))",
            f"$([System.String]::Copy('$({name})').Length)", "$([MSBuild]::IsOSPlatform('Linux'))", f"$({name}.Trim())",
        ]  # fmt: skip
        return dice.choice(ways)

    return dice.choice(["", ";", "-", " "]).join(one() for _ in range(dice.choice([1, 1, 2])))


def _condition(dice: Dice, depth: int = 0) -> str:
    name, text = dice.choice(NAMES), dice.choice(_TEXTS)
    ways = [
        f"'$({name})' {dice.choice(['==', '!='])} '{text}'",
        f"'$({name})' {dice.choice(['==', '!='])} ''",
        f"$({name}.{dice.choice(['StartsWith', 'EndsWith', 'Contains'])}('{dice.choice(['n', 'h', '0', 'true'])}'))",
        f"Exists('{dice.choice(['here.txt', 'nowhere.txt', 'sub', '$(MSBuildThisFileDirectory)here.txt'])}')",
        f"{dice.choice(['3', '2.0', '10'])} {dice.choice(['<', '>', '<=', '>='])} {dice.choice(['3.0', '2', '9', '11'])}",
        "'$(OS)' == 'Unix'", "$([MSBuild]::IsOSPlatform('Windows'))", "'$(Configuration)|$(Platform)' == 'Debug|AnyCPU'",
        f"$([MSBuild]::VersionGreaterThanOrEquals('{dice.choice(['8.0', '10.0', '9'])}', '{dice.choice(['9.0', '10'])}'))",
    ]  # fmt: skip
    if depth < 2 and dice.random() < 0.35:
        first, second = _condition(dice, depth + 1), _condition(dice, depth + 1)
        return dice.choice([f"{first} and {second}", f"{first} Or {second}", f"!({first})", f"({first}) AND {second}"])
    return dice.choice(ways)


def _attribute(dice: Dice, often: float) -> str:
    return f" Condition={quoteattr(_condition(dice))}" if dice.random() < often else ""


def _group(dice: Dice) -> str:
    lines = (
        f"    <{name}{_attribute(dice, 0.4)}>{escape(_value(dice))}</{name}>"
        for name in dice.sample(NAMES, dice.randint(1, 3))
    )
    return f"  <PropertyGroup{_attribute(dice, 0.3)}>\n" + "\n".join(lines) + "\n  </PropertyGroup>\n"


def _choose(dice: Dice) -> str:
    whens = "".join(
        f"  <When Condition={quoteattr(_condition(dice))}>\n{_group(dice)}  </When>\n"
        for _ in range(dice.randint(1, 2))
    )
    return f"  <Choose>\n{whens}  <Otherwise>\n{_group(dice)}  </Otherwise>\n  </Choose>\n"


def _file(dice: Dice, imports: list[str]) -> str:
    parts = [_choose(dice) if dice.random() < 0.15 else _group(dice) for _ in range(dice.randint(1, 4))]
    parts += [f"  <Import Project={quoteattr(name)}{_attribute(dice, 0.3)} />\n" for name in imports]
    dice.shuffle(parts)
    return "".join(parts)


def made_up(dice: Dice) -> dict[str, Any]:
    """Return a project whose properties come from each other, from conditions, imports and what lies around it."""
    basic = "  <PropertyGroup><TargetFramework>net10.0</TargetFramework></PropertyGroup>\n"
    shared = dice.random() < 0.4
    imports = ["../common.props"] if shared else []
    files = {
        "src/Board.csproj": f'<Project Sdk="Microsoft.NET.Sdk">\n{basic}{_file(dice, imports)}</Project>\n',
        "src/here.txt": "",
    }
    if shared:
        files["common.props"] = f"<Project>\n{_file(dice, [])}</Project>\n"
    if dice.random() < 0.4:
        files["Directory.Build.props"] = f"<Project>\n{_file(dice, [])}</Project>\n"
    if dice.random() < 0.3:
        above = "$([MSBuild]::GetPathOfFileAbove('Directory.Build.props', '$(MSBuildThisFileDirectory)../'))"
        files["src/Directory.Build.props"] = (
            f"<Project>\n{_file(dice, [above] if dice.random() < 0.6 else [])}</Project>\n"
        )
    if dice.random() < 0.2:
        files["Directory.Build.targets"] = f"<Project>\n{_file(dice, [])}</Project>\n"
    return {"project": "src/Board.csproj", "files": files, "asked": list(NAMES)}


def written() -> list[dict[str, Any]]:
    """Return the projects of `msbuild.toml`: forms that people use."""
    found = tomllib.loads((HERE / "msbuild.toml").read_text("utf-8"))["project"]
    return [{"asked": list(ASKED), **each} for each in found]


def laid_out(folder: Path, files: dict[str, str]) -> None:
    for name, text in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")


def answer(case: dict[str, Any]) -> dict[str, str]:
    """Return what MSBuild says of the properties that are asked for; raises `CalledProcessError`."""
    with tempfile.TemporaryDirectory(prefix="dokimon-differential-") as name:
        laid_out(Path(name), case["files"])
        asked = [f"-getProperty:{each}" for each in [*case["asked"], "MSBuildProjectName"]]
        ended = subprocess.run(
            ["dotnet", "msbuild", case["project"], "-nodeReuse:false", *asked],
            cwd=name, capture_output=True, text=True, check=True,
        )  # fmt: skip
        found: dict[str, str] = json.loads(ended.stdout)["Properties"]
        return {each: found[each].replace(f"{name}/", "") for each in case["asked"]}


def ours(case: dict[str, Any]) -> dict[str, str]:
    with tempfile.TemporaryDirectory(prefix="dokimon-differential-") as name:
        root = Path(name).resolve()
        laid_out(root, case["files"])
        project = read_ms_project(root / case["project"], root)
        return {each: project.value(each.lower()).replace(f"{root}/", "") if project else "?" for each in case["asked"]}


def differences(case: dict[str, Any], said: dict[str, str]) -> list[str]:
    """Return where Dokimon differs from MSBuild; a property that nothing in the project sets is the SDK's own."""
    mine, text = ours(case), re.sub(r"(?s)<!--.*?-->|<Target .*?</Target>", "", "".join(case["files"].values()))
    return [
        f"{name}: MSBuild says {said[name]!r}, Dokimon {mine[name]!r}"
        for name in case["asked"]
        if f"<{name}" in text and mine[name].strip() != said[name].strip()
    ]


def main() -> int:
    """Compare; return the exit status."""
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--count", type=int, default=60)
    options.add_argument("--seed", type=int, default=36)
    options.add_argument("--tables", action="store_true")
    asked = options.parse_args()
    if not shutil.which("dotnet"):
        print("dotnet is not installed here")
        return 0
    dice = random.Random(asked.seed)
    cases = [*written(), *(made_up(dice) for _ in range(asked.count))]

    def answered(case: dict[str, Any]) -> dict[str, str] | str:
        try:
            return answer(case)
        except subprocess.CalledProcessError as wrong:
            return f"{wrong.stdout} {wrong.stderr}".strip()[:300]

    with ThreadPoolExecutor(2) as pool:
        said = list(pool.map(answered, cases))
    both = list(zip(cases, said, strict=True))
    refused = [each for each in both if isinstance(each[1], str)]
    known = [(case, each) for case, each in both if not isinstance(each, str)]
    wrong = [(case, found) for case, each in known if (found := differences(case, each))]
    for case, why in refused:
        print(f"{case.get('is', 'made up')}: MSBuild refuses it: {why}")
    for case, found in wrong:
        print(f"{case.get('is', 'made up')}\n  " + "\n  ".join(found))
        for name, text in case["files"].items() if "is" not in case else ():
            print(f"--- {name}\n{text}", end="")
    print(f"{len(known)} projects compared, {len(refused)} refused by MSBuild, {len(wrong)} differ")
    if asked.tables:
        table = [{**case, "says": each} for case, each in known]
        TABLE.write_text("[\n" + ",\n".join(json.dumps(each, ensure_ascii=False) for each in table) + "\n]\n", "utf-8")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
