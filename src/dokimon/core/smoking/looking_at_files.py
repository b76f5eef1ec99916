"""What files of the checkout say about a failure: an example that lies beside, a package that nothing declares."""

from __future__ import annotations

import json
import re
import shlex
import tomllib
from collections.abc import Sequence
from functools import cache
from pathlib import Path

from dokimon.core.files import text_of
from dokimon.core.machine.platform import PROGRAMS_FOLDER
from dokimon.core.planning.workspaces import manifest_of
from dokimon.core.report.model import Remedy


def example_beside(named: Path, root: Path) -> Sequence[Remedy]:
    """An example often lies beside a file that has to be made: config.example.yaml, .env.sample."""
    path = named if named.is_absolute() else root / named
    if not path.is_relative_to(root) or not path.parent.is_dir() or path.exists():
        return []
    mark = "(?:[._-](?:example|sample|dist|template|default))?"
    similar = re.compile(rf"{re.escape(path.stem)}{mark}{re.escape(path.suffix)}{mark}")
    for other in sorted(path.parent.iterdir()):
        if other.is_file() and similar.fullmatch(other.name):
            command = shlex.join(["cp", str(other.relative_to(root)), str(path.relative_to(root))])
            return [Remedy(f"{other.name} lies beside it: copy it, and look at what it says", command)]
    return []


def node_module(module: str, folder: Path) -> Sequence[Remedy]:
    """What brings a module that package.json does not declare, or that was left out; installing again does not."""
    named = re.match(r"(?:@[\w.-]+/)?[\w.-]+", module)
    try:
        package = json.loads(text_of(folder / "package.json") or "{}")
    except (ValueError, RecursionError):
        return []
    tables = _DECLARING if isinstance(package, dict) else ()
    declares = [key for key in tables if isinstance(package.get(key), dict) and named and named[0] in package[key]]
    if named is None or not package:
        return []
    if declares == ["devDependencies"] and (folder / "node_modules").is_dir():
        say = f"{named[0]} is one of the devDependencies, and those were left out: install them as well"
        return [Remedy(say, "npm install --include=dev")]
    installed = folder / "node_modules"
    if declares and (installed / ".package-lock.json").is_file() and not (installed / named[0]).exists():
        say = f"{named[0]} is declared, and the last installation did not bring it: install all anew"
        return [Remedy(say, "rm -rf node_modules && npm install")]
    if declares:
        return []
    if _A_FILE.search(module) or (folder / named[0]).is_dir() or named[0] in _OWN_FOLDERS:
        return [Remedy(f"{module} looks like a file of the project: is it in the checkout, and is its path right?")]
    return [Remedy(f"{named[0]} is not declared in package.json: add it", f"npm install {named[0]}")]


_DECLARING = ("dependencies", "devDependencies", "optionalDependencies", "peerDependencies")
_A_FILE = re.compile(r"\.(?:[cm]?[jt]sx?|css|scss|less|json|vue|svelte|astro|html|svg|png)$")
_OWN_FOLDERS = frozenset({
    "src", "app", "lib", "components", "pages", "utils", "helpers", "config", "assets", "styles", "hooks", "store",
    "services", "views", "models", "routes", "shared", "common", "features", "types", "api", "public", "test", "tests",
})  # fmt: skip
"""Names of folders: a package of such a name belongs to a stranger."""


_BROUGHT_BY = {
    "ng": "@angular/cli", "tsc": "typescript", "vue-cli-service": "@vue/cli-service", "nest": "@nestjs/cli",
    "svelte-kit": "@sveltejs/kit", "remix": "@remix-run/dev", "nuxt": "nuxt", "webpack": "webpack-cli",
}  # fmt: skip
"""Programs that packages of another name bring."""


def node_program(program: str, folder: Path) -> Sequence[Remedy]:
    """A program whose package is declared nowhere is not brought by installing again."""
    package = _BROUGHT_BY.get(program, program)
    if not any(step.command == f"npm install {package}" for step in node_module(package, folder)):
        return []
    say = f"{package} is not declared in package.json: add it"
    return [Remedy(say, f"npm install --save-dev {package}")]


def packages_left_out(program: str, folder: Path) -> Sequence[Remedy]:
    """A program of a package that package.json declares, and that is not in node_modules."""
    package = manifest_of(folder)
    tables = [table for key in _DECLARING if isinstance(table := package.get(key), dict)]
    if any(program in table for table in tables) and not (folder / "node_modules" / program).exists():
        return [
            Remedy(f"package.json declares {program}, and it is not installed: install the packages", "npm install")
        ]
    return []


_LISTS = ("requirements.txt", "requirements/*.txt", "requirements-*.txt", "requirements*.in")
_OWN = ("pyproject.toml", "setup.cfg", "setup.py")


def python_module(module: str, folder: Path) -> Sequence[Remedy]:
    """Say which file declares the package of a module, and how it is installed from there; or that none does."""
    name = re.match(r"\w+", module)
    files = [path for pattern in (*_LISTS, *_OWN, "Pipfile") for path in sorted(folder.glob(pattern))]
    if name is None or not files:
        return []
    package = _packages().get(name[0], name[0])
    spelt = re.escape(package).replace("_", "[-_.]").replace("\\-", "[-_.]")  # PEP 503, "Normalized Names"
    named = re.compile(rf"(?i)(?<![\w.-]){spelt}(?![\w-])")
    python = f"{folder / '.venv' / PROGRAMS_FOLDER / 'python'}" if (folder / ".venv").is_dir() else "python"
    pip = f"{python.removeprefix(f'{folder}/')} -m pip install"
    for path in files:
        if named.search(text_of(path)):
            where = path.relative_to(folder).as_posix()
            wanted = f"-r {where}" if path.suffix in (".txt", ".in") else "-e ."
            if path.name == "Pipfile":
                wanted = package
            return [Remedy(f"{where} declares {package}: install what it says into the project's environment",
                f"{pip} {wanted}")]  # fmt: skip
    say = f"{package} is not declared in {files[0].name}, nor anywhere beside it"
    if name[0] not in _packages() and package not in _WELL_KNOWN:  # a stranger may own a package of that name
        return [Remedy(f"{say}: is a module of the project missing, or does a package bring it? Declare that there")]
    return [Remedy(f"{say}: add it there", f"{pip} {package}")]


_WELL_KNOWN = frozenset({
    "requests", "flask", "django", "fastapi", "uvicorn", "gunicorn", "numpy", "pandas", "scipy", "matplotlib", "six",
    "click", "rich", "typer", "httpx", "aiohttp", "sqlalchemy", "alembic", "psycopg", "psycopg2", "redis", "celery",
    "pytest", "jinja2", "pydantic", "boto3", "cryptography", "lxml", "tqdm", "openai", "streamlit", "gradio",
    "plotly", "dash", "torch", "setuptools",
})  # fmt: skip
"""Packages that go by the name of their module, and whose owners are known."""


@cache
def _packages() -> dict[str, str]:
    return tomllib.loads(Path(__file__).with_name("python_modules.toml").read_text("utf-8"))
