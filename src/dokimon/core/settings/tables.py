"""Reading tables of `dokimon.toml` into their types, and collecting what is wrong with them, each with its line."""

from __future__ import annotations

import re
from functools import cache
from typing import Any, TypeVar

import msgspec

from dokimon.core.faults import Fault
from dokimon.core.reading.json_places import Keys
from dokimon.core.reading.toml_lines import toml_line
from dokimon.core.settings.model import ChoiceTable, RunTable, ToolTable
from dokimon.core.text import clean, nearest
from dokimon.core.versions.faults import VersionFault

_Table = TypeVar("_Table", bound=msgspec.Struct)


class Problem(msgspec.Struct, frozen=True):
    """One thing wrong with the file: the line, what is wrong and what would be right; `marked` are lines to show below."""

    line: int
    says: str
    marked: tuple[str, ...] = ()


class SettingsFault(Fault):
    """`dokimon.toml` cannot be used; `problems` are all that is wrong, in the order of the lines."""

    def __init__(self, file: str, problems: list[Problem]) -> None:
        self.problems = sorted(problems, key=lambda problem: problem.line)
        first = self.problems[0]
        super().__init__("; ".join(problem.says for problem in self.problems), file=file, line=first.line)


class TableReader:
    """The problems found so far, and the text in which their lines are looked up."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.problems: list[Problem] = []

    def problem_at(self, line: int, says: str) -> None:
        """Add a problem on a line."""
        self.problems.append(Problem(line, clean(says)))

    def problem(self, keys: Keys, says: str) -> None:
        """Add a problem with the value at `keys`."""
        self.problem_at(toml_line(self.text, keys), says)

    def version_problem(self, keys: Keys, fault: VersionFault) -> None:
        """Add a constraint that cannot be read, with a mark under the place."""
        says = clean(f'"{keys[-1]}" is not valid: {fault}')
        self.problems.append(Problem(toml_line(self.text, keys), says, fault.marked))

    def unknown_keys(self, given: dict[str, Any], known: list[str], at: Keys, where: str) -> None:
        """Add a problem for each key that is not known, with the nearest one that is."""
        for key in given:
            if key not in known:
                self.problem((*at, key), f'unknown key "{key}" in {where}; {did_you_mean(key, known)}')

    def array(self, given: object, kind: type[_Table], name: str) -> list[_Table]:
        """Return the tables of `[[name]]`, those that cannot be read left out."""
        if not isinstance(given, list) or not all(isinstance(item, dict) for item in given):
            self.problem((name,), f"write [[{name}]], with two brackets: there may be several")
            return []
        tables = [self.table(item, kind, (name, i), f"[[{name}]]") for i, item in enumerate(given)]
        return [table for table in tables if table is not None]

    def table(self, given: object, kind: type[_Table], at: Keys, where: str) -> _Table | None:
        """Return the table as a value of type `kind`, or None where it cannot be one."""
        if not isinstance(given, dict):
            self.problem(at, f"{where} must be a table")
            return None
        if kind is ToolTable:
            given = self._trusted(given, at)
        self.unknown_keys(given, keys_of(kind), at, where)
        for index, choice in enumerate(given["any"] if isinstance(given.get("any"), list) else []):
            if isinstance(choice, dict):
                self.unknown_keys(choice, keys_of(ChoiceTable), (*at, "any", index), f"`any` of {where}")
        for name, inner in _inner_tables(kind).items():
            if isinstance(given.get(name), dict):
                self.unknown_keys(given[name], keys_of(inner), (*at, name), f"`{name}` of {where}")
        if kind is RunTable and "command" not in given and "serial" not in given:
            self.problem(at, f'{where} needs the key "command"')
        try:
            return msgspec.convert(given, kind)
        except msgspec.ValidationError as wrong:
            says, _, path = str(wrong).partition(" - at ")
            keys = tuple(re.findall(r"[A-Za-z_]+", path))
            self.problem((*at, *keys), _in_plain_words(says, ".".join(keys), where))
            return None

    def _trusted(self, given: dict[str, Any], at: Keys) -> dict[str, Any]:
        """Add a problem for each key of a catalogue file that a checkout may not use, and return the other keys."""
        from dokimon.core.machine.catalogue import Tool

        ask = given["ask"] if isinstance(given.get("ask"), dict) else {}
        refused: list[Keys] = [("ask", key) for key in ask if key != "arguments"]
        known, all_keys = keys_of(ToolTable), keys_of(Tool)
        refused += [(key,) for key in given if key in all_keys and key not in known]
        for keys in refused:
            name = ".".join(map(str, keys))
            self.problem((*at, *keys), f'"{name}" is for a catalogue of your own; a checkout is not trusted with it')
        return {key: value for key, value in given.items() if (key,) not in refused}


def did_you_mean(word: str, known: list[str]) -> str:
    """Return a hint to the known word that was probably meant, or to all of them."""
    like = nearest(word, known)
    return f'did you mean "{like}"?' if like else f"known are {', '.join(known)}"


@cache
def _inner_tables(kind: type[msgspec.Struct]) -> dict[str, type[msgspec.Struct]]:
    """Return the keys of a table that are tables of one type themselves."""
    found: dict[str, type[msgspec.Struct]] = {}
    for field in msgspec.structs.fields(kind):
        for each in getattr(field.type, "__args__", (field.type,)):
            if isinstance(each, type) and issubclass(each, msgspec.Struct) and "dict" not in str(field.type):
                found[field.encode_name] = each
    return found


@cache
def keys_of(kind: type[msgspec.Struct]) -> list[str]:
    """Return the keys of a table of this type."""
    return [field.encode_name for field in msgspec.structs.fields(kind)]


_TYPE_WORDS = {
    "str": "text in quotes", "int": "a whole number", "bool": "true or false", "float": "a number",
    "array": "a list", "object": "a table", "null": "nothing",
}  # fmt: skip

_CHOICES = {"strength": ("required", "advised"), "kind": ("server", "program"), "port": ("any",)}


def _in_plain_words(says: str, key: str, where: str) -> str:
    """Return a message of msgspec in the words of the file."""
    if missing := re.fullmatch(r"Object missing required field `(.+)`", says):
        return f'{where} needs the key "{missing[1]}"'
    if unknown := re.fullmatch(r"Object contains unknown field `(.+)`", says):
        return f'unknown key "{unknown[1]}" in "{key}" of {where}'
    if types := re.fullmatch(r"Expected `(.+)`, got `(.+)`", says):
        expected = " or ".join(_TYPE_WORDS.get(name, name) for name in types[1].split(" | ") if name != "null")
        return f'"{key}" in {where} must be {expected}, not {_TYPE_WORDS.get(types[2], types[2])}'
    if value := re.fullmatch(r"Invalid enum value '(.+)'", says):
        return f'"{key}" in {where} cannot be "{value[1]}"; it can be {" or ".join(_CHOICES.get(key, ()))}'
    return f'"{key}" in {where}: {says}'
