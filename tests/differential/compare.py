"""Compare a constraint language with its reference on generated pairs: `python tests/differential/compare.py [NAME ...]`.

NAME is npm, composer, gem, maven, pep440, poetry, cargo, elixir, go or nuget; by default all whose reference is installed.
`--count N` sets the pairs for each (20,000), `--tables` also writes the samples that the ordinary tests carry. Prints the
counts and every difference; ends with 1 when there is one. `prepare.sh` beside this file installs the references.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from dokimon.core.versions import admits, compiled
from dokimon.core.versions.faults import VersionFault

HERE = Path(__file__).parent
TABLES = HERE.parent / "answers"
Pair = tuple[str, str]
Dice = random.Random


class Reference(NamedTuple):
    """How pairs of a constraint and a version are made for a language, and the command that answers them.

    The command reads a JSON list of pairs and prints a list of true, false, or null for what it does not understand.
    """

    constraint: Callable[[Dice], str]
    version: Callable[[Dice], str]
    command: Callable[[], list[str] | None]


def _numbers(dice: Dice, least: int = 1, most: int = 3) -> str:
    return ".".join(str(dice.choice([0, 0, 1, 2, 3, 10])) for _ in range(dice.randint(least, most)))


def _semver(dice: Dice) -> str:
    return _numbers(dice, 3, 3) + (
        f"-{dice.choice(['0', 'alpha', 'beta.2', 'rc.1', '1.a'])}" if dice.random() < 0.35 else ""
    )


def _partial(dice: Dice) -> str:
    numbers = ["0", "1", "2", "3", "10"]
    parts = [
        dice.choice([*numbers, "x", "*", "X"] if dice.random() < 0.2 else numbers) for _ in range(dice.randint(1, 3))
    ]
    pre_release = f"-{dice.choice(['0', 'alpha', 'rc.1'])}" if len(parts) == 3 and dice.random() < 0.25 else ""
    return dice.choice(["", "", "", "v", "="]) + ".".join(parts) + pre_release


def _npm(dice: Dice) -> str:
    def alternative() -> str:
        kind = dice.random()
        if kind < 0.15:
            return f"{_partial(dice)} - {_partial(dice)}"
        if kind < 0.2:
            return dice.choice(["", " ", "*"])
        operators = ["^", "~", "~>", ">=", "<=", "<", ">", "=", "", ""]
        return " ".join(
            dice.choice(operators) + dice.choice(["", " "]) + _partial(dice) for _ in range(dice.randint(1, 3))
        )

    return dice.choice(["||", " || "]).join(alternative() for _ in range(dice.choice([1, 1, 2, 3])))


_STABILITIES = ["-alpha1", "-beta", "-RC2", "beta2", "-dev", "-p1", "-patch", "a1", "-stable"]


def _composer_version(dice: Dice) -> str:
    return (
        dice.choice(["", "", "v"]) + _numbers(dice, 1, 4) + (dice.choice(_STABILITIES) if dice.random() < 0.35 else "")
    )


def _composer(dice: Dice) -> str:
    def term() -> str:
        kind = dice.random()
        if kind < 0.15:
            return _numbers(dice, 1, 3) + dice.choice([".*", ".x", ".*.*"])
        if kind < 0.18:
            return dice.choice(["*", "x", "v*"])
        text = _numbers(dice, 1, 4) + (dice.choice(_STABILITIES) if dice.random() < 0.2 else "")
        operator = dice.choice(["^", "~", "^", "~", ">=", "<=", "<", ">", "=", "==", "!=", "<>", ""])
        space = dice.choice(["", "", " "]) if operator not in ("^", "~") else ""
        return operator + space + text + (dice.choice(["@dev", "@beta", "@stable"]) if dice.random() < 0.1 else "")

    def alternative() -> str:
        if dice.random() < 0.15:
            ends = [_numbers(dice, 1, 4) + (dice.choice(_STABILITIES) if dice.random() < 0.2 else "") for _ in range(2)]
            hyphen = " - ".join(ends)
            joined = [hyphen, term()] if dice.random() < 0.5 else [term(), hyphen]
            return hyphen if dice.random() < 0.5 else dice.choice([",", ", "]).join(joined)
        return dice.choice([",", ", ", " "]).join(term() for _ in range(dice.choice([1, 1, 2])))

    return dice.choice(["|", "||", " || ", " | "]).join(alternative() for _ in range(dice.choice([1, 1, 2, 3])))


def _gem_version(dice: Dice) -> str:
    return _numbers(dice, 1, 4) + (
        dice.choice([".a", ".rc1", ".pre.2", "-beta", ".b.0.1", "a"]) if dice.random() < 0.35 else ""
    )


def _gem(dice: Dice) -> str:
    operators = ["~>", "~>", ">=", "<=", "<", ">", "=", "!=", ""]
    terms = (
        dice.choice(operators) + dice.choice([" ", ""]) + _gem_version(dice) for _ in range(dice.choice([1, 1, 2, 3]))
    )
    return ", ".join(terms)


def _maven_version(dice: Dice) -> str:
    words = [
        "-SNAPSHOT",
        "-rc1",
        "-alpha-1",
        "-sp",
        ".Final",
        "-ga",
        "-b2",
        ".a",
        "-1",
        "-x",
        "m3",
        "-cr2",
        ".0-jre",
        "_2",
        "-",
    ]
    return _numbers(dice, 1, 4) + "".join(dice.choice(words) for _ in range(dice.choice([0, 0, 0, 1, 1, 2])))


def _maven(dice: Dice) -> str:
    def one() -> str:
        kind = dice.random()
        if kind < 0.15:
            return f"[{_maven_version(dice)}]"
        low = _maven_version(dice) if dice.random() < 0.8 else ""
        high = _maven_version(dice) if dice.random() < 0.8 else ""
        return dice.choice("[(") + low + dice.choice([",", ", "]) + high + dice.choice("])")

    if dice.random() < 0.1:
        return _maven_version(dice)
    return ",".join(one() for _ in range(dice.choice([1, 1, 1, 2])))


def _pep440(dice: Dice) -> str:
    return _numbers(dice, 1, 3) + (
        dice.choice(["rc1", "a2", ".dev3", ".post1", "b1.dev1"]) if dice.random() < 0.3 else ""
    )


def _specifiers(dice: Dice) -> str:
    def term() -> str:
        if dice.random() < 0.15:
            return dice.choice(["==", "!="]) + _numbers(dice, 1, 3) + ".*"
        return dice.choice([">=", "<=", "<", ">", "==", "!=", "~="]) + _pep440(dice)

    return dice.choice([",", ", "]).join(term() for _ in range(dice.choice([1, 1, 2, 3])))


def _poetry(dice: Dice) -> str:
    def term() -> str:
        kind = dice.random()
        if kind < 0.1:
            return dice.choice(["==", "!=", ""]) + _numbers(dice, 1, 2) + ".*"
        if kind < 0.13:
            return "*"
        return dice.choice(["^", "~", "^", "~", ">=", "<=", "<", ">", "==", "!=", "~="]) + _pep440(dice)

    alternatives = (
        dice.choice([",", ", ", " "]).join(term() for _ in range(dice.choice([1, 1, 2])))
        for _ in range(dice.choice([1, 1, 2]))
    )
    return dice.choice(["||", " || ", " | "]).join(alternatives)


def _cargo(dice: Dice) -> str:
    def term() -> str:
        if dice.random() < 0.12:
            return dice.choice(["*", "1.*", "1.2.*", "0.*", "1.*.*"])
        return (
            dice.choice(["^", "~", ">=", "<=", "<", ">", "=", "", ""]) + dice.choice(["", " "]) + _partial_number(dice)
        )

    return dice.choice([",", ", "]).join(term() for _ in range(dice.choice([1, 1, 2, 3])))


def _partial_number(dice: Dice) -> str:
    if dice.random() < 0.3:
        return _semver(dice)
    return _numbers(dice, 1, 3)


def _elixir(dice: Dice) -> str:
    def term() -> str:
        operator = dice.choice(["~>", "~>", ">=", "<=", "<", ">", "==", "!=", ""])
        version = _semver(dice) if dice.random() < 0.6 else _numbers(dice, 1, 3)
        return f"{operator}{dice.choice([' ', ''])}{version}"

    alternatives = (" and ".join(term() for _ in range(dice.choice([1, 1, 2]))) for _ in range(dice.choice([1, 1, 2])))
    return " or ".join(alternatives)


def _nuget_version(dice: Dice) -> str:
    pre = dice.choice(["-alpha", "-beta.2", "-RC.1", "-0", "-a.1", "-1"]) if dice.random() < 0.35 else ""
    return _numbers(dice, 1, 4) + pre + ("+b" if dice.random() < 0.05 else "")


def _nuget(dice: Dice) -> str:
    kind = dice.random()
    if kind < 0.15:
        return _nuget_version(dice)
    if kind < 0.35:
        ends = [".*", ".*", ".*-*", "-*", "-beta*", "-beta.*", ".*-beta*"]
        return dice.choice(["*", "*-*", *(_numbers(dice, 1, 3) + dice.choice(ends) for _ in range(6))])
    if kind < 0.5:
        return f"[{_nuget_version(dice)}]"
    low = dice.choice([_nuget_version(dice), _nuget_version(dice), "", _numbers(dice, 1, 2) + ".*"])
    high = _nuget_version(dice) if dice.random() < 0.8 or not low else ""
    return dice.choice("[(") + low + dice.choice([",", ", "]) + high + dice.choice("])")


def _go(dice: Dice) -> str:
    version = dice.choice(["1.", "1.2", ""]) + _numbers(dice, 1, 3)
    return version + (dice.choice(["rc1", "beta2", "rc2", "alpha1"]) if dice.random() < 0.3 else "")


def _ask_npm() -> list[str] | None:
    npm = shutil.which("npm")
    return ["node", str(HERE / "npm.js"), str(Path(npm).resolve().parents[1])] if npm and shutil.which("node") else None


def _ask_composer() -> list[str] | None:
    return ["php", str(HERE / "composer.php")] if Path("/usr/share/php/Composer/Semver/autoload.php").exists() else None


def _ask_gem() -> list[str] | None:
    return ["ruby", str(HERE / "gem.rb")] if shutil.which("ruby") else None


def _ask_maven() -> list[str] | None:
    jars = [Path("/usr/share/java", name) for name in ("maven3-artifact.jar", "commons-lang3.jar")]
    if not shutil.which("java") or not all(jar.exists() for jar in jars):
        return None
    return ["java", "-cp", ":".join(map(str, jars)), str(HERE / "Maven.java")]


def _ask_packaging() -> list[str] | None:
    return [sys.executable, str(HERE / "packaging_sets.py")]


def _ask_poetry() -> list[str] | None:
    found = subprocess.run([sys.executable, "-c", "import poetry.core"], capture_output=True, check=False)
    return [sys.executable, str(HERE / "poetry_core.py")] if found.returncode == 0 else None


def _ask_cargo() -> list[str] | None:
    crates = sorted(Path("/usr/share/cargo/registry").glob("semver-1*/src/lib.rs"))
    if not shutil.which("rustc") or not crates:
        return None
    made = Path(tempfile.mkdtemp(prefix="dokimon-differential-"))
    rustc = ["rustc", "--edition", "2021", "--out-dir", str(made), "--cap-lints", "allow"]
    subprocess.run([*rustc, "--crate-type", "rlib", "--crate-name", "semver", str(crates[-1])], check=True)
    subprocess.run([*rustc, "--extern", f"semver={made / 'libsemver.rlib'}", str(HERE / "cargo.rs")], check=True)
    return [str(made / "cargo")]


def _ask_elixir() -> list[str] | None:
    return ["elixir", str(HERE / "elixir.exs")] if shutil.which("elixir") else None


def _ask_go() -> list[str] | None:
    """The package go/version came with Go 1.22."""
    go = shutil.which("go", path=f"{Path(sys.executable).parent}{os.pathsep}{os.environ.get('PATH', '')}")
    version = subprocess.run([go, "version"], capture_output=True, text=True, check=False).stdout if go else ""
    minor = re.search(r"go1\.(\d+)", version)
    return [str(go), "run", str(HERE / "gover.go")] if minor and int(minor[1]) >= 22 else None


def _ask_nuget() -> list[str] | None:
    """NuGet.Versioning lies in the folder of the SDK."""
    dotnet = shutil.which("dotnet")
    found = sorted(Path(dotnet).resolve().parent.glob("sdk/*/NuGet.Versioning.dll")) if dotnet else []
    if not found:
        return None
    made = Path(tempfile.mkdtemp(prefix="dokimon-differential-"))
    shutil.copy(HERE / "nuget.cs", made / "nuget.cs")
    (made / "nuget.csproj").write_text(
        '<Project Sdk="Microsoft.NET.Sdk"><PropertyGroup><OutputType>Exe</OutputType><Nullable>enable</Nullable>'
        f"<TargetFramework>net{found[-1].parent.name.partition('.')[0]}.0</TargetFramework>"
        "<ImplicitUsings>enable</ImplicitUsings></PropertyGroup><ItemGroup>"
        f'<Reference Include="NuGet.Versioning" HintPath="{found[-1]}" /></ItemGroup></Project>'
    )
    subprocess.run(
        [str(dotnet), "build", "-v", "q", "-o", str(made / "out")], cwd=made, check=True, capture_output=True
    )
    return [str(dotnet), str(made / "out/nuget.dll")]


REFERENCES = {
    "npm": Reference(_npm, _semver, _ask_npm),
    "composer": Reference(_composer, _composer_version, _ask_composer),
    "gem": Reference(_gem, _gem_version, _ask_gem),
    "maven": Reference(_maven, _maven_version, _ask_maven),
    "pep440": Reference(_specifiers, _pep440, _ask_packaging),
    "poetry": Reference(_poetry, _pep440, _ask_poetry),
    "cargo": Reference(_cargo, _semver, _ask_cargo),
    "elixir": Reference(_elixir, _semver, _ask_elixir),
    "go": Reference(_go, _go, _ask_go),
    "nuget": Reference(_nuget, _nuget_version, _ask_nuget),
}


def ours(language: str, constraint: str, version: str) -> bool | None:
    """Return Dokimon's answer, or None for what it does not understand.

    Membership in PEP 440 is `packaging`'s own already: there it is the version set that is compared.
    """
    try:
        if language == "pep440":
            made = compiled(language, constraint)
            return made.order.key(version) in made.versions
        return admits(language, constraint, version)
    except VersionFault:
        return None


def _empty_hyphen_range(constraint: str, version: str) -> bool:
    parts = re.split(r"\|\|?", constraint)
    return any(" - " in part and not compiled("composer", part).versions for part in parts)


def _post_release_beside_two_exclusions(constraint: str, version: str) -> bool:
    return "post" in version and any(part.count("!=") > 1 for part in constraint.split("|"))


INTENDED = {
    "composer": (
        _empty_hyphen_range,
        "a hyphen range that ends before it begins; Composer joins it with its neighbour",
    ),
    "poetry": (_post_release_beside_two_exclusions, "poetry-core lets a second != also leave out post-releases"),
}
"""Where a difference is meant: which pairs, and why."""


def compare(language: str, count: int, table: Path | None) -> int | None:
    """Compare on `count` pairs; return the number of differences, or None without a reference."""
    reference = REFERENCES[language]
    command = reference.command()
    if command is None:
        print(f"{language}: its reference is not installed here")
        return None
    dice = random.Random(20261125)
    pairs = [(reference.constraint(dice), reference.version(dice)) for _ in range(count)]
    told = subprocess.run(command, input=json.dumps(pairs), capture_output=True, text=True, check=True)
    answers: list[bool | None] = json.loads(told.stdout)
    both = list(zip(pairs, answers, strict=True))
    valid = [(pair, answer) for pair, answer in both if answer is not None]
    wrong = [(*pair, answer, ours(language, *pair)) for pair, answer in both]
    wrong = [each for each in wrong if each[2] is not each[3]]
    meant, reason = INTENDED.get(language, (lambda *_: False, ""))
    intended = [each for each in wrong if meant(each[0], each[1])]
    wrong = [each for each in wrong if each not in intended]
    for constraint, version, answer, mine in wrong[:40]:
        print(f"{language}: {constraint!r} {version}: the reference says {answer}, Dokimon {mine}")
    accepted = sum(1 for _, answer in valid if answer)
    print(
        f"{language}: {count} pairs compared ({accepted} accepted, {count - len(valid)} not understood by either), "
        f"{len(wrong)} differences" + (f", and {len(intended)} that are meant: {reason}" if intended else "")
    )
    if table:
        valid = [each for each in valid if not meant(*each[0])]
        chosen = [each for each in valid if each[1]][:40] + [each for each in valid if not each[1]][:40]
        table.mkdir(exist_ok=True)
        lines = (f"{constraint}\t{version}\t{str(answer).lower()}\n" for (constraint, version), answer in chosen)
        (table / f"{language}.tsv").write_text("".join(lines), "utf-8")
    return len(wrong)


def main() -> int:
    """Compare what was asked for; return the exit status."""
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("names", nargs="*", choices=[*REFERENCES, []], metavar="NAME")
    options.add_argument("--count", type=int, default=20_000)
    options.add_argument("--tables", action="store_true")
    asked = options.parse_args()
    table = TABLES if asked.tables else None
    found = [compare(name, asked.count, table) for name in asked.names or REFERENCES]
    return 1 if any(found) else 0


if __name__ == "__main__":
    sys.exit(main())
