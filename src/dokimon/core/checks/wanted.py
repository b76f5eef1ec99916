"""What every `[[smoke]]` table may say, whatever the kind of check; each kind adds its own keys in its own module."""

from __future__ import annotations

import msgspec


class Pattern(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A regular expression in the place of a plain text."""

    pattern: str


Text = str | Pattern
"""What must be found in something: a text as it stands, or a pattern."""

Texts = Text | list[Text]


class Wanted(msgspec.Struct, frozen=True, kw_only=True):
    """What is common to all checks.

    `of` names the run (the only one, where there is one). After a failure the others go on, unless it was `needed`. With
    `retries` it is tried so many times more, a `pause` apart.
    """

    of: str | None = None
    name: str | None = None
    needed: bool = False
    retries: int = 0
    pause: str = "500ms"


def texts(given: Texts) -> tuple[Text, ...]:
    """Return one or several texts as several."""
    return tuple(given) if isinstance(given, list) else (given,)
