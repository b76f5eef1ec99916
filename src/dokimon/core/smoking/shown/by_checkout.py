"""From what a failed run printed to the causes that the files of its checkout show.

Each of these looks at what the output names, and at nothing else; none of the project is run.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path

from dokimon.core.report.model import Diagnosis
from dokimon.core.smoking.shown import files, javascript, modules, settings
from dokimon.core.smoking.shown.failure import Failure

_LONGEST = 2000
_MOST_LINES, _FIRST_LINES = 300, 100

LOOKS: tuple[Callable[[Failure], Diagnosis | None], ...] = (
    files.submodule, files.pointer, files.broken_link, files.carriage_returns, files.no_first_line,
    javascript.broken_package, javascript.linked_package, javascript.alias, javascript.module_file,
    javascript.typescript_alone, files.other_letters, settings.dotenv_unread, settings.compose_host,
    settings.unknown_host, modules.own_attribute, modules.settings_module, modules.lone_script, modules.elsewhere,
    modules.own_go_package,
)  # fmt: skip
"""The surest first."""


def shown_by_checkout(lines: Sequence[str], root: Path, folder: Path) -> tuple[Diagnosis, ...]:
    """Return the causes that the files of the project at `folder` show, in the checkout at `root`, the surest first."""
    looked = lines if len(lines) <= _MOST_LINES else [*lines[:_FIRST_LINES], *lines[-_MOST_LINES:]]
    failure = Failure([line[:_LONGEST] for line in looked], root, folder)
    found = []
    for look in LOOKS:
        with suppress(OSError):  # what cannot be read shows nothing
            found.append(look(failure))
    return tuple(each for each in found if each is not None)
