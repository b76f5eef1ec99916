"""What recording costs: `python bench/recording.py [ROUNDS]`.

`verify` and `smoke` of the sample with and without `--no-record`, in turn, and `history` of 200 records next to `--version`.
The figures are medians of differences and of ratios within a round.
"""

from __future__ import annotations

import os
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
        home.mkdir()
        copy_sample(FERRIES, folder)
        subprocess.run(["git", "init", "-q", str(folder)], check=True)
        environment = {**os.environ, "HOME": str(home), "PATH": with_own_python(os.environ)}
        smoke = ["smoke", "--run", "tides", "--quiet"]
        for arguments in (["verify"], smoke):
            _seconds(arguments, folder, environment)
        _fill(folder, environment)
        for name, arguments in (("verify", ["verify"]), ("smoke", smoke)):
            more = []
            for _ in range(rounds):
                without = _seconds([*arguments, "--no-record"], folder, environment)
                more.append(_seconds(arguments, folder, environment) - without)
            print(f"{name}: recording adds {statistics.median(more) * 1000:.0f} ms (median of {rounds})")
        ratios = []
        for _ in range(rounds):
            version = _seconds(["--version"], folder, environment)
            ratios.append(_seconds(["history"], folder, environment) / version)
        print(f"history of {_RECORDS} records: {statistics.median(ratios):.2f} times `--version`")


if __name__ == "__main__":
    main()
