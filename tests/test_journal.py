"""A file that a check changes is put back, wherever the work was cut off."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import STANDINS, World
from dokimon.core.checks.journal import Change, JournalFault, put_back

texts = st.binary(max_size=40) | st.sampled_from([b"abcabc", b"abc", b"abcabcabc", b""])


def killed_at(folder: Path, old: bytes, now: bytes, new: bytes) -> tuple[Path, dict[str, str]]:
    """Leave a checkout as a Dokimon that was killed leaves it, with `now` in the file."""
    environment = {"HOME": str(folder), "XDG_CACHE_HOME": str(folder / "cache")}
    root = folder / "checkout"
    root.mkdir(exist_ok=True)
    file = root / "page.txt"
    file.write_bytes(old)
    reader, writer = os.pipe()
    child = os.fork()
    if child == 0:  # it dies while the file is changed
        Change(file, root, new, environment).__enter__()
        os.write(writer, b"x")
        os.kill(os.getpid(), signal.SIGKILL)
    os.waitpid(child, 0)
    assert os.read(reader, 1) == b"x"
    os.close(reader)
    os.close(writer)
    file.write_bytes(now)
    return file, environment


@settings(max_examples=30, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(old=texts, new=texts, cut=st.floats(0, 1), undoing=st.booleans())
def test_whatever_was_written_when_it_was_cut_off(
    tmp_path: Path, old: bytes, new: bytes, cut: float, undoing: bool
) -> None:
    begun, rest = (old, new) if undoing else (new, old)
    place = int(len(begun) * cut)
    file, environment = killed_at(tmp_path, old, begun[:place] + rest[place:], new)
    put_back(file.parent, environment)
    assert file.read_bytes() == old
    assert {path.suffix for path in (tmp_path / "cache/dokimon/changes").iterdir()} == {".lock"}
    assert put_back(file.parent, environment) == []


def test_what_somebody_wrote_since_is_left_alone_and_the_copy_is_kept(tmp_path: Path) -> None:
    file, environment = killed_at(tmp_path, b"Boats", b"Boats and more", b"Ferries")
    (told,) = put_back(file.parent, environment)
    kept = Path(told.rpartition(" ")[2])
    assert file.read_bytes() == b"Boats and more" and kept.read_bytes() == b"Boats" and "edited since" in told


def test_a_change_that_is_under_way_is_nobody_elses(tmp_path: Path) -> None:
    environment = {"HOME": str(tmp_path)}
    file = tmp_path / "quay/page.txt"
    file.parent.mkdir()
    file.write_bytes(b"Boats")
    with Change(file, file.parent, b"Ferries", environment):
        assert put_back(file.parent, environment) == [] and file.read_bytes() == b"Ferries"
        with pytest.raises(JournalFault, match="another Dokimon"):
            Change(file, file.parent, b"Trains", environment).__enter__()
    assert file.read_bytes() == b"Boats"


def test_a_journal_that_others_may_write_to_is_neither_obeyed_nor_used(tmp_path: Path) -> None:
    file, environment = killed_at(tmp_path, b"Boats", b"Ferries", b"Ferries")
    folder = tmp_path / "cache/dokimon/changes"
    folder.chmod(0o777)
    (told,) = put_back(file.parent, environment)
    assert "not yours alone" in told and file.read_bytes() == b"Ferries"
    with pytest.raises(JournalFault, match="others may write"):
        Change(file, file.parent, b"Trains", environment).__enter__()
    folder.chmod(0o700)
    assert put_back(file.parent, environment) and file.read_bytes() == b"Boats"


def test_what_is_kept_is_for_its_user_alone(tmp_path: Path) -> None:
    file, _ = killed_at(tmp_path, b"Boats", b"Ferries", b"Ferries")
    made = list((tmp_path / "cache").rglob("*"))
    assert made and all(path.stat().st_mode & 0o077 == 0 for path in made)
    assert put_back(file.parent, {"HOME": "/nonexistent/home"}) == [] and not Path("/nonexistent").exists()


def test_the_mode_and_the_links_of_the_file_stay(tmp_path: Path) -> None:
    file, other = tmp_path / "quay/page.sh", tmp_path / "other"
    file.parent.mkdir()
    file.write_bytes(b"Boats")
    file.chmod(0o750)
    other.hardlink_to(file)
    with Change(file, file.parent, b"Ferries", {"HOME": str(tmp_path)}):
        assert other.read_bytes() == b"Ferries"
    assert other.read_bytes() == b"Boats" and file.stat().st_mode & 0o777 == 0o750


@pytest.mark.parametrize(
    "number, command",
    [(signal.SIGKILL, ["verify"]), (signal.SIGKILL, ["tools", "git"]), (signal.SIGINT, [])],
)
def test_the_next_dokimon_puts_it_back(world: World, number: signal.Signals, command: list[str]) -> None:
    text = (
        'format = 1\n[[run]]\nname = "harbour"\ncommand = "{} {} {{port}}"\nport = "any"\n[[smoke]]\n'
        'change = "page.txt"\nreplace = "Boats"\nby = "Ferries"\nget = "/table"\nwithin = "20s"\n'
    )
    (world.checkout / ".git").rmdir()
    world.write({"page.txt": "Boats go", "dokimon.toml": text.format(sys.executable, STANDINS / "server.py")})
    page = world.checkout / "page.txt"
    process: subprocess.Popen[str] = world.start("smoke")
    deadline = time.monotonic() + 30
    while page.read_text() != "Ferries go" and time.monotonic() < deadline:
        time.sleep(0.02)
    process.send_signal(number)
    process.communicate()
    if number == signal.SIGINT:
        assert page.read_text() == "Boats go"
        return
    assert page.read_text() == "Ferries go"
    ended = world.dokimon(*command)
    assert page.read_text() == "Boats go" and "restored page.txt" in ended.err
