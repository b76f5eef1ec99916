"""The folders off PATH in which programs usually lie, whatever the tool: `usual_homes.toml`, held against this machine."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping
from functools import cache
from pathlib import Path

import msgspec

from dokimon.core.files import text_of
from dokimon.core.machine.folders import folders_of, home_of, named_folders

_LARGEST_SETTINGS = 200_000


class Setting(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Files of a user's settings, the line in them that names a folder, and what of that folder is meant."""

    files: list[str]
    line: str
    below: str = ""


class UsualHomes(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What `usual_homes.toml` says; its comments explain each."""

    folders: list[str]
    more: list[str]
    own: list[str]
    setting: list[Setting]


@cache
def known_homes() -> UsualHomes:
    """Return what is known of usual homes."""
    text = Path(__file__).with_name("usual_homes.toml").read_text("utf-8")
    return msgspec.convert(tomllib.loads(text), UsualHomes)


def usual_folders(environment: Mapping[str, str]) -> Iterator[str]:
    """Yield the usual folders, there or not, those that the user's own settings name first."""
    yield from map(str, _of_settings(environment))
    for home in known_homes().folders:
        yield from named_folders(home, environment)


def further_folders(environment: Mapping[str, str]) -> Iterator[str]:
    """Yield the folders in which a command of any name may lie besides."""
    for home in known_homes().more:
        yield from named_folders(home, environment)


def _of_settings(environment: Mapping[str, str]) -> Iterator[Path]:
    for setting in known_homes().setting:
        for path in (path for written in setting.files for path in folders_of(written, environment)):
            text = text_of(path, _LARGEST_SETTINGS) if path.is_file() else ""
            if found := re.search(setting.line, text, re.MULTILINE):
                if folder := _absolute(found[1].strip(), environment):
                    yield folder / setting.below
                break


def _absolute(written: str, environment: Mapping[str, str]) -> Path | None:
    """Return the folder that a setting names, `~` and variables filled in; None where it is no absolute one."""
    home = home_of(environment)
    if written.startswith("~/") and home:
        return home / written[2:]
    text = re.sub(r"\$\{?(\w+)\}?", lambda found: environment.get(found[1], ""), written)
    path = Path(text)
    return path if path.is_absolute() and "\0" not in text else None
