"""Fuzzing: files, constraints, settings and answers that nobody meant for us, by mutation. Each is one function of a seed.

What must hold: a list or a fault with its line, within a second, and no control character; and where one value of a file
is spoilt, the needs that the others make are still there.
"""

from __future__ import annotations

import contextlib
import copy
import json
import random
import tempfile
import time
import tomllib
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import tomlkit

from dokimon.core.declarations.ecosystems import ECOSYSTEMS, Ecosystem
from dokimon.core.declarations.requirement import Requirement
from dokimon.core.machine import asking
from dokimon.core.machine.asking import Asker
from dokimon.core.machine.catalogue import find_tool, known_tools
from dokimon.core.planning.making import make_plan
from dokimon.core.planning.plan import PlanContext, PlanFault
from dokimon.core.reading.manifest import Manifest, ManifestFault
from dokimon.core.settings.model import Settings
from dokimon.core.settings.read import read_settings
from dokimon.core.settings.tables import SettingsFault
from dokimon.core.versions import LANGUAGES, compiled
from dokimon.core.versions.faults import VersionFault

SEEDS: dict[str, str] = tomllib.loads((Path(__file__).with_name("seeds.toml")).read_text("utf-8"))
SECONDS = 1.0

_ODD = (
    "\u00b2", "\u0661\u0662", "9" * 4400, "1." * 200, "x" * 5000, " " * 3000, "\x1b[31mred", "\x00", "\u202e", "\ud800",
    "\u2028", "\x0c", "*", "${x}", "{{x}}", "$(x)", "../../x", "/" * 5000, ">=", "^", "||", "[1,", ")", "\\", "'", '"',
    "\"\"\"", "<!--", "-->", "&lt;", "#", "%s", "-1", "1e999", "0x7f", "true", "null", "~", "@", "\r", "\r\n", "\t",
    ">=1 <2", "1.2.3-rc.1", "latest", "system", "2147483648", "1_000", "1.10", ".", "..", ":", "a" * 300 + "." + "b" * 300,
)  # fmt: skip
_ODD_VALUES: tuple[Any, ...] = (
    5, 1.1, True, None, [], {}, [[]], [5, "x", None, {}], {"name": 3}, {"version": [1]}, "", "\u00b2", "x" * 6000, [["x"]],
    {"": ""}, -1, 10**30, "9" * 4400, ["9" * 600], "/" * 5000, [None], {"x": {"y": {"z": "1"}}},
)  # fmt: skip


_LARGEST = 60_000


def mutated(text: str, rng: random.Random) -> str:
    """Return the text with one to four changes of the kinds that broken and hostile files have."""
    for _ in range(rng.randint(1, 4)):
        text = text[:_LARGEST]
        start = rng.randrange(len(text) + 1)
        end = min(len(text), start + rng.choice((0, 1, 1, 3, 10, 60)))
        kind = rng.randrange(6)
        if kind == 0:
            text = text[:start] + rng.choice(_ODD) + text[end:]
        elif kind == 1:
            text = text[:start] + text[end:]
        elif kind == 2:
            text = text[:end] + text[start:end] * rng.choice((1, 3, 200)) + text[end:]
        elif kind == 3:
            text = text[:start] + rng.choice(_BRACKETS) * rng.choice((1, 50, 3000)) + text[end:]
        elif kind == 4:
            line = rng.choice(text.splitlines() or [""])
            text = text[:start] + line * rng.choice((1, 2, 40)) + text[start:]
        else:
            text = text[:start] + chr(rng.randrange(0x300)) + text[end:]
    return text[:_LARGEST].encode("utf-8", "replace").decode()  # as every file is read


_BRACKETS = ("[", "{", "(", "<", "a.", "a: ", "- ", "((", "]]", "<a>", "[a.", "\n[[a]]\n", "&a ", "!!x ", "/*", "(?:")


def reader_of(name: str) -> tuple[Ecosystem, str]:
    """Return the ecosystem and the function that read a file of this name."""
    for ecosystem in ECOSYSTEMS:
        for pattern, function in ecosystem.readers.items():
            folder, _, file = pattern.rpartition("/")
            if name == pattern or ("*" in file and name.endswith(file[1:]) and name.startswith(folder)):
                return ecosystem, function
    raise AssertionError(name)


class Found(Exception):
    """What must not be: the text says what, and `text` is what showed it."""

    def __init__(self, says: str, text: str) -> None:
        super().__init__(says)
        self.text = text


def _read(name: str, text: str) -> list[Requirement] | ManifestFault:
    ecosystem, function = reader_of(name)
    manifest = Manifest(location=f"/nowhere/{name}", name=name, text=text, root=Path("/nowhere"))
    try:
        found = ecosystem.reader(function)(manifest)
    except ManifestFault as fault:
        if fault.line < 1 or not fault.reason:
            raise Found("a fault without its line or its reason", text) from None
        return fault
    for each in found:
        shown = f"{each.label}{each.wanted}{each.accepts}{each.source.text}{each.fault or ''}{each.why or ''}"
        if any(ord(char) < 32 or 0x7F <= ord(char) < 0xA0 for char in shown):
            raise Found(f"a control character in what is shown: {shown!r}", text)
        if each.source.line < 1 or len(shown) > 4000:
            raise Found(f"a need without a line, or too long: {shown[:200]!r}", text)
    return found


def manifest(rng: random.Random) -> None:
    """Read one manifest that was changed at random."""
    name = rng.choice(list(SEEDS))
    text = mutated(SEEDS[name], rng)
    _timed(name, text, lambda: _read(name, text))


_PUMPS = ("\n", " ", "\t", "a", "1", ".", "-", "/", "(", '"', "'", "a ", "1.", " \n", "/* ", "# ", "=", "a=")
_PUMPED = 150_000
_PUMPED_SECONDS = 5.0  # of a square it would be minutes


def pumped(rng: random.Random) -> None:
    """Read, and plan from, one manifest with a piece of itself or something plain repeated until it is long.

    No pattern may take a time that grows with the square of that.
    """
    name = rng.choice(list(SEEDS))
    seed = SEEDS[name]
    at = rng.randrange(len(seed) + 1)
    unit = rng.choice([*_PUMPS, seed[at : at + 1], seed[at : at + 2], seed[max(0, at - 4) : at]]) or "\n"
    text = seed[:at] + unit * (_PUMPED // len(unit)) + seed[at:]
    text = text.encode("utf-8", "replace").decode()
    if rng.random() < 0.5:
        _timed(name, text[:200], lambda: _read(name, text), _PUMPED_SECONDS)
    else:
        _timed(f"the plan of {name}", text[:200], lambda: _planned(name, text), _PUMPED_SECONDS)


def _planned(name: str, text: str) -> None:
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / name.replace("*", "x")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")
        context = PlanContext(root=Path(place), folder=Path(place), environment={"PATH": ""}, tools={})
        with contextlib.suppress(PlanFault):
            make_plan(context, Settings())


_ADVICE = ("devcontainer.json", "mise.toml")
"""What only advises is passed over where it cannot be read; of several versions the others are fallbacks."""


def spoilt_value(rng: random.Random) -> None:
    """Spoil one value of a JSON or TOML manifest; what the rest of it needs must still be there."""
    name = rng.choice(
        [name for name in SEEDS if (name.endswith((".json", ".toml")) and name not in _ADVICE) or name == "Pipfile"]
    )
    is_json = name.endswith(".json")
    data = json.loads(SEEDS[name]) if is_json else tomllib.loads(SEEDS[name])
    spoilt = copy.deepcopy(data)
    way = rng.choice(list(_leaves(spoilt, ())))
    value = rng.choice(_ODD_VALUES)
    if not is_json and (value is None or "None" in repr(value) or "\ud800" in repr(value)):
        value = 5
    holder = spoilt
    for key in way[:-1]:
        holder = holder[key]
    old, holder[way[-1]] = holder[way[-1]], value
    text = json.dumps(spoilt, indent=1) if is_json else tomlkit.dumps(spoilt)
    before = _read(name, json.dumps(data, indent=1) if is_json else tomlkit.dumps(data))
    after = _timed(name, text, lambda: _read(name, text))
    assert isinstance(before, list)
    if isinstance(after, ManifestFault):
        raise Found(f"{name}: one value ({'.'.join(map(str, way))}) hides the whole file: {after}", text)
    if sum(each.fault is not None for each in after) > sum(each.fault is not None for each in before):
        return  # it is told
    left = {(each.label, each.wanted) for each in after}
    for each in before:
        if (each.label, each.wanted) not in left and each.constraint is not None and not _says_so(value, old, holder):
            raise Found(f"{name}: {'.'.join(map(str, way))} takes {each.label} {each.wanted} with it", text)


def _says_so(value: Any, old: Any, holder: Any) -> bool:
    """Whether the spoilt value says something of its own: nothing at all, another text, or a table without the keys."""
    if value is None or type(value) is type(old) or isinstance(value, str | dict):
        return True
    return isinstance(value, list) and isinstance(holder, dict)


def _leaves(data: Any, way: tuple[Any, ...]) -> Iterator[tuple[Any, ...]]:
    if way:
        yield way
    items = data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ()
    for key, value in items:
        yield from _leaves(value, (*way, key))


_CONSTRAINTS = (
    ">=1.2.3 <2", "^1.2 || ~3.4.5", "1.x - 2.3", "~> 1.2, >= 1.2.3", "[1.0,2.0)", "(,1.5],[2,)", ">=3.8,!=3.9.*", "~=1.4.2",
    "==1.*", "1.2.3-beta.4+build", "@stable", "*", "lts/iron", "v20", "dev-main as 1.0", ">=1.0 <2.0 || >=3", "3.16...3.28",
    "1.70", "go1.21rc2", "1!2.0.post1.dev3", "= 1.2", "any", "1.2.3.4.5", "17.0.9+9", "~1", ">= 1.0 and < 2.0 or == 3.0",
)  # fmt: skip


def constraint(rng: random.Random) -> None:
    """Compile one constraint that was changed at random, in a language at random, and ask it something."""
    language = rng.choice(list(LANGUAGES))
    text = rng.choice(_CONSTRAINTS)
    text = (
        mutated(text, rng) if rng.random() < 0.8 else "".join(rng.choice(_ALPHABET) for _ in range(rng.randint(1, 300)))
    )

    def ask() -> None:
        try:
            made = compiled(language, text)
        except VersionFault as fault:
            if not str(fault):
                raise Found("a fault without words", text) from None
            return
        assert made.in_words is not None
        for version in ("1.2.3", "20.11.0", "3.9.1"):
            try:
                made.admits(version)
            except VersionFault:
                continue

    _timed(language, text, ask)


_ALPHABET = "0123456789..  <>=!~^*xX|,-+@[](){}vabcrc/:$'\"\n\t\u00b2"


def settings(rng: random.Random) -> None:
    """Read a dokimon.toml that was changed at random."""
    text = mutated(_SETTINGS, rng)
    made = Manifest(location="/nowhere/dokimon.toml", name="dokimon.toml", text=text, root=Path("/nowhere"))

    def read() -> None:
        try:
            read_settings(made)
        except ManifestFault as fault:
            assert fault.line >= 1 and fault.reason
        except SettingsFault as fault:
            assert fault.problems
            for problem in fault.problems:
                if problem.line < 1 or any(ord(char) < 32 for char in problem.says):
                    raise Found(f"a problem without a line, or with a control character: {problem}", text) from None

    _timed("dokimon.toml", text, read)


_SETTINGS = (
    (Path(__file__).parents[2] / "src/dokimon/demo/saltmarsh-ferries/dokimon.toml").read_text("utf-8")
    + """
[[need]]
any = [{ tool = "mariadb", version = ">=10.6" }, { tool = "mysql", version = ">=8" }]
[[need]]
service = "redis"
port = 6379
[[tool]]
name = "tidectl"
commands = ["tidectl"]
[[prepare]]
title = "install"
command = "npm ci"
from = ["package-lock.json"]
makes = ["node_modules"]
within = "2m"
"""
)

_ANSWERS = (
    "v20.11.1\n", "Python 3.12.4\n", "git version 2.40.1.windows.1\n", "openjdk version \"17.0.9\" 2023-10-17\n",
    "PHP 8.2.7 (cli) (built: Jun  9 2023)\nZend Engine v4.2.7\n", "go version go1.22.3 linux/amd64\n",
    "Apache Maven 3.9.6 (abc)\nJava version: 17.0.9, vendor: X\n", "rustc 1.75.0 (82e1608df 2023-12-21)\n",
    "cmake version 3.31.6\n\nCMake suite maintained\n", "mysql  Ver 15.1 Distrib 10.11.6-MariaDB, for debian\n",
    "warning: low tide\nnpm WARN config\n10.2.4\n", "Composer version 2.5.5 2023-03-21 11:50:05\n",
)  # fmt: skip


def answer(rng: random.Random) -> None:
    """Understand what a tool printed that was changed at random."""
    tool = find_tool(rng.choice(known_tools()))
    assert tool
    text = mutated(rng.choice(_ANSWERS) * rng.choice((1, 1, 300)), rng)
    kept = asking._run
    asking._run = lambda *_: (text, rng.choice((0, 0, 1, -9)), None)
    try:
        told = _timed(
            tool.name, text, lambda: Asker({"PATH": "/bin"}, Path("/nowhere")).version(Path("/bin/x"), tool.ask)
        )
    finally:
        asking._run = kept
    shown = f"{told.version}{told.reason}{told.facts}"
    if any(ord(char) < 32 or 0x7F <= ord(char) < 0xA0 for char in shown) or len(shown) > 2000:
        raise Found(f"{tool.name}: {shown[:300]!r}", text)


def repository(rng: random.Random) -> None:
    """Look at the revision of a checkout whose folder of git was changed at random."""
    from dokimon.core.declarations.revision import revision_of

    with tempfile.TemporaryDirectory() as place:
        root = Path(place)
        (root / ".git/objects/ab").mkdir(parents=True)
        (root / ".git/refs/heads").mkdir(parents=True)
        (root / "tide.txt").write_text("high water\n")
        commit = "ab" + "c" * 38
        tree = bytes.fromhex("d" * 40)
        entry = (
            bytes(24)
            + (0o100644).to_bytes(4, "big")
            + bytes(8)
            + (11).to_bytes(4, "big")
            + bytes(20)
            + b"\0\x08tide.txt"
        )
        entry += bytes(8 - len(entry) % 8)
        version = rng.choice((2, 3, 4))
        extension = b"TREE" + (len(tree) + 7).to_bytes(4, "big") + b"\x001 0\n" + tree + b"\0\0"
        index = b"DIRC" + version.to_bytes(4, "big") + (1).to_bytes(4, "big") + entry + extension + bytes(20)
        files = {
            "HEAD": b"ref: refs/heads/main\n",
            "refs/heads/main": commit.encode(),
            "index": index,
            f"objects/ab/{commit[2:]}": zlib.compress(b"commit 200\0tree " + tree.hex().encode() + b"\n"),
            "packed-refs": b"# pack-refs\n" + commit.encode() + b" refs/heads/main\n",
        }
        spoilt = rng.choice(list(files))
        files[spoilt] = mutated(files[spoilt].decode("latin-1"), rng).encode("utf-8", "replace")
        if rng.random() < 0.5:
            files[spoilt] = bytes(each if rng.random() < 0.98 else rng.randrange(256) for each in files["index"])
        for name, content in files.items():
            (root / ".git" / name).write_bytes(content)
        told = _timed("git", spoilt, lambda: revision_of(root))
        assert told is None or told.commit is None or len(told.commit) in (40, 64)


def _timed(what: str, text: str, work: Callable[[], Any], seconds: float = SECONDS) -> Any:
    begun = time.process_time()
    try:
        result = work()
    except Found:
        raise
    except Exception as wrong:
        raise Found(f"{what}: {type(wrong).__name__}: {wrong}", text) from wrong
    if (spent := time.process_time() - begun) > seconds:
        raise Found(f"{what}: took {spent:.1f} s of the processor", text)
    return result


KINDS: dict[str, Callable[[random.Random], None]] = {
    "manifests": manifest, "pumped manifests": pumped, "spoilt values": spoilt_value, "constraints": constraint,
    "settings": settings, "answers": answer, "repositories": repository,
}  # fmt: skip
