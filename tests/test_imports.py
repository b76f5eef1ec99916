"""What each command loads: start-up stays lean, and a module that takes long is loaded by those alone that need it."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

_HEAVY = {
    "bs4", "concurrent.futures.thread", "defusedxml", "email", "http.client", "http.cookiejar", "httpx", "jinja2", "logging",
    "hashlib", "matplotlib", "packaging.requirements", "packaging.version", "platform", "psutil", "regex", "rich.console",
    "sqlite3", "ssl", "tomlkit", "urllib.request", "xml.sax", "yaml", "zipfile",
}  # fmt: skip
"""Modules that take more than a few milliseconds to load. Typer loads `platform`, which comes with Python's subprocess."""

_LISTED = f"""
import json, os, sys
from dokimon.cli import app
def tell(status):
    os.write(2, json.dumps(sorted(set(sys.modules) & {_HEAVY!r})).encode())
    ended(0)
ended, os._exit = os._exit, tell
app.main()
"""

FILES = {
    "package.json": '{"name": "board", "engines": {"node": ">=18"}, "scripts": {"start": "node a.js"}}',
    "pom.xml": "<project><properties><maven.compiler.release>17</maven.compiler.release></properties></project>",
    "dokimon.toml": 'format = 1\n[[need]]\ntool = "git"\n',
}

TYPERS = {"platform"}
SMOKES = {"sqlite3", "zipfile"}


@pytest.mark.program
@pytest.mark.parametrize(
    "arguments, more",
    [
        (["--version"], set()),
        (["--help"], set()),
        (["verify", "--help"], set()),
        (["needs", "-f", "json"], set()),
        (["needs"], {"rich.console"}),
        (["verify", "-f", "json", "--no-record"], {"zipfile"}),
        (["verify", "-f", "json"], {"sqlite3", "zipfile"}),
        (["history", "-f", "json"], {"sqlite3"}),
        (["history"], {"sqlite3"}),
        (["smoke", "--show-plan", "-f", "json"], SMOKES),
    ],
)
def test_a_command_loads_no_more_than_it_uses(tmp_path: Path, arguments: list[str], more: set[str]) -> None:
    for name, text in FILES.items():
        (tmp_path / name).write_text(text)
    home = tmp_path / "home"
    home.mkdir()
    environment = {"HOME": str(home), "PATH": os.environ["PATH"], "DOKIMON_ROOT": str(home)}
    ended = subprocess.run(
        [sys.executable, "-c", _LISTED, *arguments],
        cwd=tmp_path,
        env=environment,
        capture_output=True,
        text=True,
        check=True,
    )
    loaded = set(json.loads(ended.stderr.splitlines()[-1]))
    assert loaded <= TYPERS | more, f"{' '.join(arguments)} loads {sorted(loaded - TYPERS - more)}"
