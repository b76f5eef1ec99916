"""What recording costs: `python bench/recording.py [ROUNDS]`.

`verify` and `smoke` of the sample with and without `--no-record`, in turn, and `history` of 200 records next to `--version`.
The figures are medians of differences and of ratios within a round; beside the time that goes by, which other work on the
machine stretches, the processor time.
"""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from dokimon.core.records.remembering import Memory, store_of
from dokimon.demo.sample import FERRIES, copy_sample, with_own_python

_DOKIMON = str(Path(sys.executable).with_name("dokimon"))
_RECORDS = 200


def _seconds(arguments: list[str], folder: Path, environment: dict[str, str]) -> float:
    started = time.perf_counter()
    subprocess.run(
        [_DOKIMON, *arguments],
        cwd=folder,
        env=environment,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        check=False,
    )
    return time.perf_counter() - started


def _worked() -> float:
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


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


def main() -> None:
    """Measure and print."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    with tempfile.TemporaryDirectory() as temporary:
        folder, home = Path(temporary) / "sample", Path(temporary) / "home"
        (home / ".cache").mkdir(parents=True)
        copy_sample(FERRIES, folder)
        subprocess.run(["git", "init", "-q", str(folder)], check=True)
        environment = {**os.environ, "HOME": str(home), "PATH": with_own_python(os.environ)}
        smoke = ["smoke", "--run", "tides", "--quiet"]
        for arguments in (["verify"], smoke):
            _seconds(arguments, folder, environment)
        _fill(folder, environment)
        for name, arguments in (("verify", ["verify"]), ("smoke", smoke)):
            more, more_work = [], []
            for number in range(rounds):
                found = {}
                for record in (True, False) if number % 2 else (False, True):
                    worked = _worked()
                    seconds = _seconds(arguments if record else [*arguments, "--no-record"], folder, environment)
                    found[record] = seconds, _worked() - worked
                more.append(found[True][0] - found[False][0])
                more_work.append(found[True][1] - found[False][1])
            print(
                f"{name}: recording adds {statistics.median(more) * 1000:.0f} ms, "
                f"{statistics.median(more_work) * 1000:.0f} ms of them on a processor (medians of {rounds})"
            )
        ratios = []
        for _ in range(rounds):
            version = _seconds(["--version"], folder, environment)
            ratios.append(_seconds(["history"], folder, environment) / version)
        print(f"history of {_RECORDS} records: {statistics.median(ratios):.2f} times `--version`")


if __name__ == "__main__":
    main()
