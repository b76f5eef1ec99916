"""Compare which SDK and which shared framework are taken with the .NET host itself: `python tests/differential/hostfxr.py`.

The host (`hostfxr`) lies beside the `dotnet` on PATH; it is asked about folders of the right shape with nothing in them.
`--count N` sets the pairs of each kind (5,000), `--seed S` which, `--tables` also writes the samples that the ordinary tests
carry. Prints the counts and every difference; ends with 1 when there is one.
"""

from __future__ import annotations

import argparse
import ctypes
import json
import os
import random
import shutil
import sys
import tempfile
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from dokimon.core.declarations.global_json import HOST, read_text
from dokimon.core.versions.languages import runtime_rollforward, sdk_rollforward

TABLES = Path(__file__).parent.parent / "answers" / "hosts"
FRAMEWORK = "Microsoft.NETCore.App"
Dice = random.Random

_TOLD = ctypes.CFUNCTYPE(None, ctypes.c_int, ctypes.c_char_p)
_COMPLAINED = ctypes.CFUNCTYPE(None, ctypes.c_char_p)


class _Parameters(ctypes.Structure):
    _fields_ = [("size", ctypes.c_size_t), ("host", ctypes.c_char_p), ("root", ctypes.c_char_p)]


class _Framework(ctypes.Structure):
    _fields_ = [
        ("size", ctypes.c_size_t), ("name", ctypes.c_char_p), ("asked", ctypes.c_char_p), ("taken", ctypes.c_char_p),
        ("path", ctypes.c_char_p),
    ]  # fmt: skip


class _Frameworks(ctypes.Structure):
    _fields_ = [
        ("size", ctypes.c_size_t), ("found", ctypes.c_size_t), ("each", ctypes.POINTER(_Framework)),
        ("missing", ctypes.c_size_t), ("lacked", ctypes.POINTER(_Framework)),
    ]  # fmt: skip


_RESOLVED = ctypes.CFUNCTYPE(None, ctypes.POINTER(_Frameworks), ctypes.c_void_p)


class Host:
    """The host's own library."""

    def __init__(self, library: Path) -> None:
        self._library = ctypes.CDLL(str(library))
        self._silent = _COMPLAINED(lambda _: None)
        self._library.hostfxr_set_error_writer.argtypes = [_COMPLAINED]
        self._library.hostfxr_set_error_writer.restype = ctypes.c_void_p
        self._library.hostfxr_set_error_writer(self._silent)
        self._library.hostfxr_resolve_frameworks_for_runtime_config.argtypes = [
            ctypes.c_char_p, ctypes.POINTER(_Parameters), _RESOLVED, ctypes.c_void_p,
        ]  # fmt: skip

    def sdk(self, host: Path, working: Path) -> tuple[str | None, bool]:
        """Return the folder of the SDK that is taken in `working`, and whether a global.json is passed over."""
        told: dict[int, str] = {}
        failed = self._library.hostfxr_resolve_sdk2(
            os.fsencode(host), os.fsencode(working), 0, _TOLD(lambda key, value: told.update({key: value.decode()}))
        )
        return None if failed else told.get(0), told.get(3) in ("invalid_data", "invalid_json")

    def framework(self, config: Path, root: Path) -> str | None:
        """Return the version of the framework that a program with this `runtimeconfig.json` is given."""
        told: list[str] = []

        def resolved(found: Any, _: object) -> None:
            told.extend(found.contents.each[index].taken.decode() for index in range(found.contents.found))

        given = _Parameters(ctypes.sizeof(_Parameters), None, os.fsencode(root))
        failed = self._library.hostfxr_resolve_frameworks_for_runtime_config(
            os.fsencode(config), ctypes.byref(given), _RESOLVED(resolved), None
        )
        return None if failed else next(iter(told), None)


_SDKS = [
    f"{major}.{minor}.{band}{patch:02d}"
    for major in (7, 8, 9, 10) for minor in (0, 0, 1) for band in (1, 2, 3, 4) for patch in (0, 1, 2, 5, 10)
]  # fmt: skip
_RUNTIMES = [
    f"{major}.{minor}.{patch}" for major in (6, 7, 8, 9, 10) for minor in (0, 0, 0, 1) for patch in (0, 1, 2, 5, 10)
]
_PRE_RELEASES = ["-preview.1.2", "-rc.1.25", "-rc.2", "-alpha", "-rc.1"]
_ODD = [
    "v8.0.200", "", " 8.0.302", "8.0", "8", "8.0.*", "8.x", "latest", "8.0.302 ", "08.0.302", "8.0.3022", "8.0.5",
    "8.0.302.1", "8.0.302-", "8.0.302+abc", "8.0.302-rc.1+b", None, 8, True, "10.0.100-RC.1", "8.0.0", "8.0.99",
    "8.0.302-rc..1", "8.0.302-01",
]  # fmt: skip


def _version(dice: Dice, known: list[str], pre_releases: float = 0.15) -> str:
    return dice.choice(known) + (dice.choice(_PRE_RELEASES) if dice.random() < pre_releases else "")


def _or(dice: Dice, usual: list[Any], odd: list[Any], often: float = 0.9) -> Any:
    return dice.choice(usual if dice.random() < often else odd)


def _global_json(dice: Dice) -> str:
    """Return a global.json as people write it, now and then with what is odd or wrong."""
    sdk: dict[str, Any] = {}
    if dice.random() < 0.85:
        sdk["version"] = _or(dice, [_version(dice, _SDKS)], _ODD, 0.85)
    if dice.random() < 0.6:
        sdk["rollForward"] = _or(
            dice, [*sdk_rollforward.POLICIES], ["LatestMinor", "latestminor", "none", "", None, 3, "latest", "Disable"]
        )
    if dice.random() < 0.35:
        sdk["allowPrerelease"] = _or(dice, [True, False, False], [None, "true", 0])
    if dice.random() < 0.1:
        sdk["errorMessage"] = dice.choice(["our words", "", None, 4])
    if dice.random() < 0.12:
        places = [[".dotnet"], [".dotnet", HOST], [HOST], [], None, "x", ["no", ".dotnet", HOST], [""]]
        sdk["paths"] = dice.choice(places)
    odd = [{}, {"sdk": None}, {"sdk": []}, {"sdk": ""}, {"other": 1, "sdk": sdk}, [sdk], 3]
    text = json.dumps(_or(dice, [{"sdk": sdk}], odd, 0.95), indent=dice.choice([None, 2]))
    shapes: list[Callable[[], str]] = [
        lambda: text[:-1], lambda: f"// tides\n{text}", lambda: f"\ufeff{text}", lambda: text.replace("}", ",}", 1),
        lambda: f"/* */{text} x",
    ]  # fmt: skip
    return dice.choice(shapes)() if dice.random() < 0.07 else text


def _laid(folder: Path, kind: str, names: Iterable[str], file: str) -> None:
    shutil.rmtree(folder / kind, ignore_errors=True)
    for name in names:
        (folder / kind / name).mkdir(parents=True)
        (folder / kind / name / file).write_text("{}")


def _our_sdk(text: str, host: list[str], local: list[str]) -> tuple[str | None, bool]:
    asked = read_text(text)
    for place in (HOST,) if asked.paths is None or asked.ignored else asked.paths:
        installed = {HOST: host, ".dotnet": local}.get(place, [])
        if taken := sdk_rollforward.taken(asked.wanted or "", installed):
            return f"{'host' if place == HOST else 'working/.dotnet'}/sdk/{taken}", bool(asked.ignored)
    return None, bool(asked.ignored)


def sdks(host: Host, count: int, dice: Dice, base: Path) -> tuple[list[dict[str, Any]], list[str]]:
    """Return the answers of the host, and where Dokimon's differ."""
    answers, wrong = [], []
    (base / "working").mkdir()
    for _ in range(count):
        text = _global_json(dice)
        installed = sorted({_version(dice, _SDKS) for _ in range(dice.randint(1, 7))})
        local = sorted({_version(dice, _SDKS) for _ in range(dice.randint(0, 3))})
        _laid(base / "host", "sdk", installed, "dotnet.dll")
        _laid(base / "working/.dotnet", "sdk", local, "dotnet.dll")
        (base / "working/global.json").write_text(text, "utf-8")
        taken, ignored = host.sdk(base / "host", base / "working")
        said = (taken and Path(taken).relative_to(base).as_posix(), ignored)
        if (ours := _our_sdk(text, installed, local)) != said:
            wrong.append(f"{text!r} with {installed} and {local}: the host says {said}, Dokimon {ours}")
        answers.append({"asked": text, "installed": installed, "local": local, "taken": said[0], "ignored": ignored})
    return answers, wrong


def frameworks(host: Host, count: int, dice: Dice, base: Path) -> tuple[list[dict[str, Any]], list[str]]:
    """Return the answers of the host, and where Dokimon's differ."""
    answers, wrong = [], []
    config = base / "board.runtimeconfig.json"
    for _ in range(count):
        installed = sorted({_version(dice, _RUNTIMES) for _ in range(dice.randint(0, 6))})
        (base / "root/shared" / FRAMEWORK).mkdir(parents=True, exist_ok=True)
        _laid(base / "root/shared", FRAMEWORK, installed, f"{FRAMEWORK}.deps.json")
        version, policy = _version(dice, _RUNTIMES), dice.choice(["", *runtime_rollforward.POLICIES, "latestmajor"])
        options: dict[str, Any] = {"framework": {"name": FRAMEWORK, "version": version}}
        options |= {"rollForward": policy} if policy else {}
        config.write_text(json.dumps({"runtimeOptions": options}))
        taken = host.framework(config, base / "root")
        asked = f"{version} {policy}".strip()
        if (ours := runtime_rollforward.taken(asked, installed)) != taken:
            wrong.append(f"{asked} with {installed}: the host takes {taken}, Dokimon {ours}")
        answers.append({"asked": asked, "installed": installed, "taken": taken})
    return answers, wrong


def main() -> int:
    """Compare both; return the exit status."""
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--count", type=int, default=5000)
    options.add_argument("--seed", type=int, default=36)
    options.add_argument("--tables", action="store_true")
    asked = options.parse_args()
    dotnet = shutil.which("dotnet")
    found = sorted(Path(dotnet).resolve().parent.glob("host/fxr/*/libhostfxr.so")) if dotnet else []
    if not found:
        print("the .NET host is not installed here")
        return 0
    differ = 0
    with tempfile.TemporaryDirectory(prefix="dokimon-differential-") as base:
        for kind in (sdks, frameworks):
            answers, wrong = kind(Host(found[-1]), asked.count, random.Random(asked.seed), Path(base))
            print("\n".join(wrong[:40]))
            print(f"{kind.__name__}: {asked.count} pairs compared, {len(wrong)} differences", flush=True)
            differ += len(wrong)
            if asked.tables:
                TABLES.mkdir(parents=True, exist_ok=True)
                lines = (json.dumps(each, ensure_ascii=False) + "\n" for each in answers[:80])
                (TABLES / f"{kind.__name__}.jsonl").write_text("".join(lines), "utf-8")
    return 1 if differ else 0


if __name__ == "__main__":
    sys.stdout = os.fdopen(os.dup(1), "w", buffering=1)
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)  # the host prints the SDKs that it has where it takes none
    sys.exit(main())
