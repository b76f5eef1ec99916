"""What every `[[smoke]]` table may say, and what every kind of check answers about itself.

A kind is one module with a subclass of `CheckSpec`: its fields are the keys of the table, its methods say how it is
called, what is wrong with its values, what it depends on, and how it looks. Nothing outside the module knows the kind.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, ClassVar

import msgspec

from dokimon.core.words import names_in

if TYPE_CHECKING:
    from dokimon.core.checks.context import CheckContext
    from dokimon.core.report.model import Check


class Pattern(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A regular expression in the place of a plain text."""

    pattern: str


Text = str | Pattern
"""What must be found in something: a literal text, or a pattern."""

Texts = Text | list[Text]


class CheckSpec(msgspec.Struct, frozen=True, kw_only=True):
    """What is common to all checks.

    `of` names the run (the only one, where there is one). After a failure the others go on, unless it was `needed`. With
    `retries` it is tried so many times more, a `pause` apart.
    """

    kind_name: ClassVar[str] = "check"
    """What a report calls the kind."""

    asks_server: ClassVar[bool] = False
    """Whether only a run with an address of its own can meet it."""

    draws_window: ClassVar[bool] = False
    """Whether the run is a desktop program, which needs a display."""

    after_all: ClassVar[bool] = False
    """Whether it looks at the checkout once every run is over (`look_after`), rather than at a run (`look`)."""

    must_finish: ClassVar[bool] = False
    """Whether an interruption has to wait for it, because it undoes something at its end."""

    of: str | None = None
    name: str | None = None
    needed: bool = False
    retries: int = 0
    pause: str = "500ms"

    @property
    def default_name(self) -> str:
        """The name of the check where the project gives it none."""
        return self.kind_name

    @property
    def alone(self) -> bool:
        """Whether no other check may look meanwhile, because this one changes something."""
        return self.must_finish

    @property
    def expected_exit(self) -> int | None:
        """The exit status that the run must end with, where this check says one."""
        return None

    def problems(self) -> Iterator[tuple[str, str]]:
        """Yield what the types cannot check: the key (or "" for the whole table), and what is wrong with it."""
        yield from ()

    def late_problems(self) -> Iterator[str]:
        """Yield what is wrong and takes a library to find: asked only of checks that are about to be made."""
        yield from ()

    def gives(self) -> frozenset[str]:
        """Return the names of the values that it finds out for later checks."""
        return frozenset()

    def uses(self) -> frozenset[str]:
        """Return the names of the values that it needs: those in braces, without the run they are of."""
        names = (name for text in _texts_in(msgspec.to_builtins(self)) for name in names_in(text))
        return frozenset(name.rpartition(".")[2] for name in names)

    def look(self, context: CheckContext) -> list[Check]:
        """Look at the run, and return what was seen; never raises what the run or the project can cause."""
        raise NotImplementedError

    def look_after(self, before: dict[str, str] | str, after: dict[str, str] | str) -> list[Check]:
        """Compare the checkout as it was with what it is (see `repository.py`), and return what was seen."""
        raise NotImplementedError


def _texts_in(value: Any) -> Iterator[str]:
    """Yield every text in plain data, keys not among them."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for each in value.values():
            yield from _texts_in(each)
    elif isinstance(value, list):
        for each in value:
            yield from _texts_in(each)


def texts(given: Texts) -> tuple[Text, ...]:
    """Return one or several texts as several."""
    return tuple(given) if isinstance(given, list) else (given,)
