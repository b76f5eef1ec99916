"""Carries out notebooks, by the Python of their project: `run_notebooks.py NOTEBOOK ...`, in the folder of the project.

It is a program of its own: it uses nbclient, which that environment has, and nothing of Dokimon. Each notebook runs in a
copy of its folder, which is thrown away, in the kernel that it names. The first cell that fails ends it with status 1.
"""

import os
import re
import shutil
import sys
import tempfile
import warnings
from pathlib import Path

_LARGEST = 500 * 1024 * 1024
_LEFT_OUT = shutil.ignore_patterns(".git", ".hg", ".venv", "venv", "node_modules", ".ipynb_checkpoints", "__pycache__")
_COLOURS = re.compile(r"\x1b\[[0-9;]*m")


def size_of(folder: Path) -> int:
    """Return the bytes of the files of a folder, as far as they are copied."""
    total = 0
    for place, folders, files in os.walk(folder):
        left_out = _LEFT_OUT(place, folders)
        folders[:] = [each for each in folders if each not in left_out]
        total += sum((Path(place) / each).lstat().st_size for each in files)
        if total > _LARGEST:
            break
    return total


def carry_out(file: Path, folder: Path) -> str | None:
    """Carry out a notebook of `folder`; return what went wrong, or None."""
    import nbformat
    from nbclient import NotebookClient
    from nbclient.exceptions import CellExecutionError, CellTimeoutError, DeadKernelError

    try:
        notebook = nbformat.read(str(file), as_version=4)
    except Exception as wrong:  # nbformat raises what its parts raise
        return f"{file}: it is no notebook: {wrong}"
    where = {"metadata": {"path": str(folder / file.parent)}}
    client = NotebookClient(notebook, timeout=600, resources=where)
    try:
        client.execute()
    except CellExecutionError as wrong:
        number = next((n for n, each in enumerate(notebook.cells, 1) if _has_error(each)), 0)
        return f"{file}: cell {number} fails\n{_COLOURS.sub('', str(wrong))}"
    except (CellTimeoutError, DeadKernelError) as wrong:
        return f"{file}: {wrong}"
    except Exception as wrong:  # no such kernel, above all
        return f"{file}: {type(wrong).__name__}: {wrong}"
    print(f"{file}: {sum(each.cell_type == 'code' for each in notebook.cells)} cells carried out", flush=True)
    return None


def _has_error(cell: object) -> bool:
    return any(each.get("output_type") == "error" for each in getattr(cell, "outputs", ()))


def main() -> int:
    """Carry out the notebooks that are named, one after the other; return the exit status."""
    warnings.simplefilter("ignore")  # nbformat's own advice to authors
    here = Path.cwd()
    with tempfile.TemporaryDirectory() as scratch:
        copy = Path(scratch) / here.name
        if size_of(here) > _LARGEST:
            print(
                f"the folder is larger than {_LARGEST // 2**20} MiB: it is not copied, the notebooks run in it",
                flush=True,
            )
            copy = here
        else:
            shutil.copytree(here, copy, symlinks=True, ignore=_LEFT_OUT)
        for name in sys.argv[1:]:
            if wrong := carry_out(Path(name), copy):
                print(wrong, file=sys.stderr, flush=True)
                return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
