"""How long `needs` takes in a large tree, next to walking it: `python bench/large_tree.py [ROUNDS]`.

The tree has 100, then 1,000 packages; 100 files each, of which 90 lie in dependency and build folders. The walk is one of
`os.scandir` over the other ten, in a Python that has just started, as the one of `needs` has, without the time of that
start; start-up is `dokimon needs` on a single package.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

_DOKIMON = str(Path(sys.executable).with_name("dokimon"))
_SKIPPED = ("node_modules", "dist")


def make_tree(root: Path, packages: int) -> None:
    """Make the tree: package.json and nine sources in each package, sixty dependency files and thirty built ones."""
    (root / ".git").mkdir(parents=True)
    for number in range(packages):
        package = root / "packages" / f"p{number:04}"
        for folder, count in (("src", 9), ("node_modules/tern/lib", 60), ("dist", 30)):
            (package / folder).mkdir(parents=True)
            for index in range(count):
                (package / folder / f"file{index}.js").write_text("export default 1\n")
        engines = f'">={18 + number % 3}"'
        (package / "package.json").write_text(
            f'{{\n  "name": "p{number}",\n  "engines": {{ "node": {engines} }},\n  "packageManager": "npm@10.8.2"\n}}\n'
        )


def walk_others(root: str) -> int:
    """Walk the files that lie in no dependency or build folder, and return their count."""
    count, waiting = 0, [root]
    while waiting:
        with os.scandir(waiting.pop()) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    if entry.name not in _SKIPPED:
                        waiting.append(entry.path)
                else:
                    count += 1
    return count


def _seconds_of(command: list[str], folder: Path) -> float:
    started = time.perf_counter()
    subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - started


def _walk(root: Path) -> float:
    told = subprocess.run([sys.executable, __file__, "--walk", str(root)], capture_output=True, check=True)
    return float(told.stdout)


def _needs(root: Path) -> float:
    return _seconds_of([_DOKIMON, "needs", "--quiet"], root)


def main() -> None:
    """Measure and print."""
    if sys.argv[1:2] == ["--walk"]:
        started = time.perf_counter()
        walk_others(sys.argv[2])
        print(time.perf_counter() - started)
        return
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 7
    medians = {}
    for packages in (100, 1000):
        with tempfile.TemporaryDirectory() as temporary:
            root, single = Path(temporary, "tree"), Path(temporary, "single")
            make_tree(root, packages)
            make_tree(single, 1)
            walks, starts, needs = [], [], []
            for _ in range(rounds):
                # The best of three in turn: this machine has slow moments that last longer than one run.
                three = [(_walk(root), _needs(single), _needs(root)) for _ in range(3)]
                for best, column in zip((walks, starts, needs), zip(*three, strict=True), strict=True):
                    best.append(min(column))
            ratio = statistics.median((n - s) / w for n, s, w in zip(needs, starts, walks, strict=True))
            medians[packages] = statistics.median(n - s for n, s in zip(needs, starts, strict=True))
            print(
                f"{packages} packages, {packages * 10} other files: walking {statistics.median(walks) * 1000:.0f} ms, "
                f"start-up {statistics.median(starts) * 1000:.0f} ms, needs {statistics.median(needs) * 1000:.0f} ms; "
                f"less start-up {ratio:.1f} times the walk"
            )
    print(f"from 100 to 1,000 packages: {medians[1000] / medians[100]:.1f} times as long")


if __name__ == "__main__":
    main()
