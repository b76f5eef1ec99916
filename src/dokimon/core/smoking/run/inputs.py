"""What a run is started with, made of its plan and of what all runs share. Only `choose_port` asks the machine."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

import msgspec

from dokimon.core.checks.carrying_out import PlannedCheck
from dokimon.core.checks.window import Window
from dokimon.core.planning.plan import RunPlan, argv_of, shown
from dokimon.core.processes.ports import Ports
from dokimon.core.processes.sockets import strangers
from dokimon.core.report.model import Stranger
from dokimon.core.smoking.context import RunContext
from dokimon.core.words import filled


class Port(msgspec.Struct, frozen=True):
    """The port that a run is given or expected on, None where nobody knows it; and who holds the expected one already."""

    number: int | None = None
    held: tuple[Stranger, ...] = ()


class Equipment(msgspec.Struct, frozen=True):
    """What a run is given that nobody asked for, since it failed without: a terminal, a display that nobody sees."""

    terminal: bool = False
    display: bool = False


_NOTHING = Equipment()


class Inputs(msgspec.Struct, frozen=True, kw_only=True):
    """What a run is started with.

    `shown` is its command as a person would type it. `own_display` says that it needs a display of Dokimon's own. `words`
    are the values for braces, `checks` those that are looked at (the default ones not among them). `serves` is what shows
    that it is to answer over HTTP, where something does; `several` that it starts several parts side by side, of which
    the `serving_parts` are to serve; `opened_only` is the framework of a script that runs only once its page is opened.
    """

    plan: RunPlan
    argv: tuple[str, ...]
    shown: str
    variables: Mapping[str, str]
    words: Mapping[str, str]
    port: Port
    terminal: bool
    own_display: bool
    checks: tuple[PlannedCheck, ...]
    serves: str | None = None
    several: bool = False
    serving_parts: tuple[str, ...] = ()
    opened_only: str | None = None

    @property
    def declared_ports(self) -> frozenset[int]:
        """The numbers in its command and in its variables for ports: a port with one of them was named."""
        ports = (value for name, value in self.variables.items() if "PORT" in name.upper())
        return frozenset(int(number) for text in (*self.argv, *ports) for number in _NUMBER.findall(text))

    @property
    def keyboard(self) -> bool:
        """Whether keys are sent to it."""
        return bool(self.plan.keys or self.plan.stop)


_NUMBER = re.compile(r"(?<!\d)\d{4,5}(?!\d)")


def inputs_of(
    plan: RunPlan,
    context: RunContext,
    port: Port,
    gets: Equipment = _NOTHING,
    serves: str | None = None,
    several: bool = False,
    serving_parts: tuple[str, ...] = (),
    opened_only: str | None = None,
) -> Inputs:
    """Return what the run is started with."""
    given = {"port": str(port.number)} if port.number is not None else {}
    words = {**plan.words, **context.words, **given}
    variables = {
        **context.environment,
        **{name: filled(value, context.words) for name, value in plan.environment.items()},
        **({"PORT": str(port.number)} if plan.port == "any" else {}),
    }
    checks = plan.checks
    if gets.display and not checks:
        checks = (PlannedCheck(Window()),)
    return Inputs(
        plan=plan,
        argv=tuple(argv_of(plan.command, words)),
        shown=plan.shown_as or shown(plan.command, plan.folder, words),
        variables=variables,
        words={**context.words, **given},
        port=port,
        terminal=plan.terminal or gets.terminal,
        own_display=(plan.draws_window or gets.display) and not variables.get("DISPLAY"),
        checks=checks,
        serves=serves,
        several=several,
        serving_parts=serving_parts,
        opened_only=opened_only,
    )


def choose_port(plan: RunPlan, ports: Ports) -> Port:
    """Return the port of a run; one that is given out must be given back (`ports.give_back`)."""
    if plan.port is None:
        return Port()
    if plan.port == "any":
        return Port(ports.free())
    held = strangers(plan.port)
    is_free = not held and (not plan.may_move or ports.claim(plan.port))
    return Port(plan.port if is_free or not plan.may_move else ports.free(plan.port), held)


def own_choices(plans: Iterable[RunPlan]) -> list[int | None]:
    """Return the ports that runs take without being told; what Dokimon chooses for them is not among these."""
    return [None if each.port == "any" else each.port for each in plans if each.picks_own_port]
