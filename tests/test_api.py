"""The library's face: what the page about it shows is run, and what it leaves behind is looked for."""

from __future__ import annotations

import re
import subprocess
import sys
import threading
from collections.abc import Iterator
from importlib import import_module
from pathlib import Path
from typing import Any

import pytest

import dokimon
from conftest import World, processes_of
from dokimon.core.faults import Fault
from dokimon.core.jobs.running import RunFault
from dokimon.core.planning.plan import PlanFault
from dokimon.core.settings.tables import SettingsFault
from dokimon.core.smoking.turn import TurnFault
from dokimon.demo.sample import FERRIES, copy_sample

PAGE = Path(__file__).parents[1] / "docs/api.md"


def test_the_examples_of_the_page_hold(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    copy_sample(FERRIES, world.checkout / "ferries", broken=False)
    monkeypatch.chdir(world.checkout)
    for name, value in world.environment.items():
        monkeypatch.setenv(name, value)
    scope: dict[str, Any] = {}
    for example in re.findall(r"```python\n(.*?)```", PAGE.read_text("utf-8"), re.DOTALL):
        exec(compile(example, str(PAGE), "exec"), scope)
    fixture, test = scope["board"], scope["test_departures"]
    board = fixture.__wrapped__() if hasattr(fixture, "__wrapped__") else fixture._get_wrapped_function()()
    test(next(board))
    board.close()
    assert not processes_of(world)


def test_every_function_answers_as_its_command(world: World) -> None:
    world.tool("node", "echo v18.0.0")
    world.write({".nvmrc": "20"})
    folder, variables = world.checkout, world.environment
    assert dokimon.needs(folder, environment=variables).requirements[0].accepts == "20.x"
    report = dokimon.verify(folder, environment=variables)
    assert (report.verdict, report.requirements[0].verdict) == ("unmet", "unmet")
    told = world.dokimon("verify", "--format", "json").report
    assert told["requirements"][0]["reason"] == report.requirements[0].reason
    assert report.made and report.made.dokimon == dokimon.__version__ and told["made"]["system"] == report.made.system
    (copy,) = dokimon.tools("node", folder=folder, environment=variables).installations
    assert copy.version == "18.0.0"
    (answer,) = dokimon.tools("nodde", folder=folder, environment=variables).answers
    assert answer.verdict == "missing" and '"node" meant' in answer.remedies[0].say
    assert dokimon.smoke(folder, environment=variables).verdict == "unmet"
    with pytest.raises(PlanFault):
        dokimon.plan(folder, environment=variables)
    with pytest.raises(RunFault) as raised, dokimon.running(folder, environment=variables):
        pass
    assert "18.0.0 is too old" in raised.value.reason and isinstance(raised.value, Fault)
    world.write({"dokimon.toml": "format = 2"})
    with pytest.raises(SettingsFault) as refused:
        dokimon.needs(folder, environment=variables)
    assert (refused.value.file, refused.value.line) == ("dokimon.toml", 1) and "format = 1" in str(refused.value)


def test_a_run_is_up_in_the_block_and_gone_after_it(world: World) -> None:
    world.server()
    with dokimon.running(world.checkout, environment=world.environment) as harbour:
        assert harbour.name == "harbour" and harbour.url == f"http://localhost:{harbour.port}/"
        assert "is ready" in harbour.output and processes_of(world)
    assert not processes_of(world)
    with pytest.raises(ZeroDivisionError), dokimon.running(world.checkout, environment=world.environment):
        raise ZeroDivisionError
    assert not processes_of(world)


def test_two_runs_at_once_take_turns_and_say_so(world: World, caplog: pytest.LogCaptureFixture) -> None:
    """Two that prepare at once would install over each other; a smoke check waits for a run in the same way."""
    world.server()
    with dokimon.running(world.checkout, environment=world.environment):
        with pytest.raises(TurnFault) as raised, dokimon.running(world.checkout, environment=world.environment):
            pass
        assert "at work in this checkout" in raised.value.reason and "wait=300" in raised.value.reason
        again = dokimon.running(world.checkout, environment=world.environment, wait=0.3)
        with pytest.raises(TurnFault) as raised, again:
            pass
        assert "waited 0.3 s" in raised.value.reason and "waiting for its end" in caplog.text
        assert world.dokimon("smoke").status == 2
    with dokimon.running(world.checkout, environment=world.environment, wait=0.3) as harbour:
        assert harbour.url


def test_of_several_runs_one_must_be_named(world: World) -> None:
    run = '[[run]]\nname = "{}"\nkind = "server"\ncommand = "sleep 60"\nup = {{ line = "x" }}\n{}'
    several = run.format("quay", "") + run.format("tern", "") + run.format("skiff", 'after = "quay"\n')
    world.write({"dokimon.toml": f"format = 1\n{several}"})
    with pytest.raises(PlanFault) as raised, dokimon.running(world.checkout, environment=world.environment):
        pass
    assert "name one of tern, skiff" in raised.value.reason


@pytest.mark.parametrize(
    "command, says",
    [
        ("echo the tide is out; exit 3", "ended with exit status 3"),
        ("no-such-harbour", "likely cause: the command no-such-harbour is not found"),
    ],
)  # fmt: skip
def test_what_does_not_get_up_says_why(world: World, command: str, says: str) -> None:
    world.write({"dokimon.toml": f'format = 1\n[[run]]\nname = "quay"\nkind = "server"\ncommand = "{command}"\n'})
    with pytest.raises(RunFault) as raised, dokimon.running(world.checkout, environment=world.environment):
        pass
    assert says in raised.value.reason and raised.value.file == "dokimon.toml" and raised.value.line == 2


def test_a_smoke_check_is_halted_from_another_thread(world: World) -> None:
    world.write({"dokimon.toml": 'format = 1\n[[run]]\nname = "quay"\nkind = "program"\ncommand = "sleep 60"\n'})
    halt = threading.Event()
    threading.Timer(0.5, halt.set).start()
    report = dokimon.smoke(world.checkout, halt=halt, environment=world.environment)
    assert report.interrupted and not processes_of(world)


def test_nothing_is_loaded_before_it_is_used() -> None:
    script = (
        "import sys, dokimon; print([m for m in sys.modules if m.startswith('dokimon.core.') or m in ('msgspec', "
        "'rich')])"
    )
    printed = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout
    assert printed.strip() == "['dokimon.core.version']"
    assert {*dokimon.__all__} <= {*dir(dokimon)}
    with pytest.raises(AttributeError):
        dokimon.nothing  # noqa: B018


def test_every_fault_is_on_the_map_and_on_the_page() -> None:
    for path in (Path(dokimon.__path__[0]) / "core").rglob("*.py"):
        if re.search(r"^class \w+Fault\(", path.read_text("utf-8"), re.MULTILINE):
            import_module(".".join(path.relative_to(Path(dokimon.__path__[0]).parent).with_suffix("").parts))
    known = {each.__name__ for each in _all_below(Fault)}
    assert known <= {*dokimon.faults.__all__} and len(known) > 20
    page, map_of_all = PAGE.read_text("utf-8"), import_module("dokimon.core.faults").__doc__ or ""
    assert not [name for name in known if f"`{name}`" not in page or name not in map_of_all]
    for name in dokimon.faults.__all__:
        assert getattr(dokimon.faults, name).__name__ == name and name in dir(dokimon.faults)


def _all_below(fault: type[Fault]) -> Iterator[type[Fault]]:
    for each in fault.__subclasses__():
        yield each
        yield from _all_below(each)
