"""The ecosystems whose files are read: a new one is one more module in `readers/` and one more name here."""

from __future__ import annotations

from types import ModuleType

from dokimon.core.declarations.readers import (
    advice,
    dart,
    dotnet,
    elixir,
    embedded,
    golang,
    gradle,
    maven,
    native,
    node,
    php,
    python,
    ruby,
    rust,
    swift,
    tool_versions,
)

ECOSYSTEMS: tuple[ModuleType, ...] = (
    node, python, php, maven, gradle, dotnet, native, embedded, rust, golang, ruby, swift, elixir, dart,
    tool_versions, advice,
)  # fmt: skip
"""Each has `READERS` (file names, or endings such as `*.sln`, and what reads them), `SPEAKS_OF` and `UNREAD`."""
