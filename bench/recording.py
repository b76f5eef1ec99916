"""What recording costs: `python bench/recording.py [ROUNDS]`.

In a fresh process each round: what `verify` and `smoke` of the sample do for their record (loading the room, looking
around, writing), next to all that `verify` takes; and `history` of 200 records next to `--version`. Measured within the
process, since two starts of Python differ by more than a record takes. Medians.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from dokimon.core.records.remembering import Memory, store_of
from dokimon.demo.sample import FERRIES, copy_sample, with_own_python

_PYTHON = sys.executable
_DOKIMON = str(Path(sys.executable).with_name("dokimon"))
_RECORDS = 200

_WITHIN = """
import json, os, time
from pathlib import Path
begun = time.perf_counter()
import dokimon.cli.app, dokimon.cli.screen.verify
from dokimon.core.jobs import verify as job
verified = job.verify(Path.cwd(), os.environ)
report = job.verify_report(verified, strict=False)
times = [time.perf_counter()]
from dokimon.core.jobs.recording import Recorder
times.append(time.perf_counter())
recorder = Recorder(verified, keeping=True)
if WHOLE:
    recorder.look_at_all()
recorder.told(report)
times.append(time.perf_counter())
recorder.keep()
times.append(time.perf_counter())
print(json.dumps([times[0] - begun, *(later - earlier for earlier, later in zip(times, times[1:]))]))
"""


def _fill(folder: Path, environment: dict[str, str]) -> None:
    """Bring the records of the sample to their full number, each like the last one."""
    store = store_of(environment, folder)
    if store is None:
        raise SystemExit("there is no place for records")
    memory = Memory(store, folder)
    record = store.record(memory.rows()[-1].id)
    while len(memory.rows()) < _RECORDS:
        memory.keep(record, {})
    store.close()


def _within(folder: Path, environment: dict[str, str], *, whole: bool) -> list[float]:
    command = [_PYTHON, "-c", f"WHOLE = {whole}\n{_WITHIN}"]
    ended = subprocess.run(command, cwd=folder, env=environment, capture_output=True, text=True, check=True)
    found: list[float] = json.loads(ended.stdout)
    return found


def _seconds(argument: str, folder: Path, environment: dict[str, str]) -> float:
    started = time.perf_counter()
    subprocess.run([_DOKIMON, argument], cwd=folder, env=environment, stdout=subprocess.DEVNULL, check=False)
    return time.perf_counter() - started


def main() -> None:
    """Measure and print."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    with tempfile.TemporaryDirectory() as temporary:
        folder, home = Path(temporary) / "sample", Path(temporary) / "home"
        (home / ".cache").mkdir(parents=True)
        copy_sample(FERRIES, folder)
        subprocess.run(["git", "init", "-q", str(folder)], check=True)
        environment = {**os.environ, "HOME": str(home), "PATH": with_own_python(os.environ)}
        _within(folder, environment, whole=False)
        _fill(folder, environment)
        for name, whole in (("verify", False), ("smoke", True)):
            found = [_within(folder, environment, whole=whole) for _ in range(rounds)]
            parts = [statistics.median(each[part] for each in found) * 1000 for part in (1, 2, 3)]
            share = statistics.median(sum(each[1:]) / sum(each) for each in found)
            print(
                f"a record of {name}: {sum(parts):.0f} ms ({parts[0]:.0f} loading, {parts[1]:.0f} looking, {parts[2]:.0f}"
                f" writing), {share:.0%} of what verify takes; medians of {rounds}"
            )
        ratios = []
        for _ in range(rounds):
            version = _seconds("--version", folder, environment)
            ratios.append(_seconds("history", folder, environment) / version)
        print(f"history of {_RECORDS} records: {statistics.median(ratios):.2f} times `--version`")


if __name__ == "__main__":
    main()
