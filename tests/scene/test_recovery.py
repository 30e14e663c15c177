"""Autosaves, locks and files in one step: what a crash, a kill, a second program or a refusing disk may not lose."""

import os
import stat
import subprocess
import sys

import pytest

from estampa import disk, open_scene, save_scene
from estampa import edits as do
from estampa.errors import EstampaError
from estampa.scene import recovery
from estampa.scene.file import ChangedOnDisk
from tests.conftest import DEAD


def crashed(autosave, path):
    """The autosave as a program that is no more would have left it."""
    kept = autosave.file(path)
    return kept.rename(kept.with_name(f"{kept.name.split('@')[0]}@{DEAD}.autosave"))


def test_autosaves_of_dead_windows_are_all_found_and_those_of_living_ones_are_left_alone(flag, tmp_path):
    path = save_scene(flag, tmp_path / "flag.estampa")
    one, two = recovery.Autosave(), recovery.Autosave()
    assert one.file(path) != two.file(path), "two windows of one program have files of their own"
    do.set_range(flag, end=77)
    one.write(flag)
    assert recovery.recoverable(path) == []
    left = crashed(one, path)
    do.set_range(flag, end=88)
    two.write(flag)
    two.discard()
    assert recovery.recoverable(path) == [left] and not two.file(path).exists()
    assert open_scene(left).doc.end == 77
    save_scene(flag)
    assert recovery.recoverable(path) == [left], "somebody else's save is no answer for this work"


def test_a_scene_has_one_window_whatever_way_leads_to_it_and_the_lock_dies_with_it(tmp_path):
    path, link = tmp_path / "shared.estampa", tmp_path / "other name.estampa"
    path.write_text("")
    link.symlink_to(path)
    script = (
        "import sys, time; from estampa.scene.recovery import SceneLock\n"
        "lock = SceneLock(sys.argv[1]); print(lock.held, flush=True); time.sleep(60)\n"
    )
    other = subprocess.Popen([sys.executable, "-c", script, str(path)], stdout=subprocess.PIPE, text=True)
    assert other.stdout.readline() == "True\n"
    for way in (path, link, os.path.relpath(path)):
        assert not recovery.SceneLock(way).held
    other.kill()
    other.wait()
    assert recovery.SceneLock(link).held


def test_a_state_folder_that_cannot_be_written_to_stops_nothing(flag, tmp_path, monkeypatch):
    (tmp_path / "file").write_text("")
    monkeypatch.setenv("ESTAMPA_STATE", str(tmp_path / "file" / "state"))
    monkeypatch.setattr("tempfile.gettempdir", lambda: str(tmp_path / "file"))
    path = save_scene(flag, tmp_path / "flag.estampa")
    assert recovery.SceneLock(path).held and recovery.recoverable(path) == []
    recovery.sweep()
    recovery.Autosave().discard()


def test_a_save_keeps_the_mode_and_the_link_and_looks_before_it_overwrites(flag, tmp_path):
    path, link = save_scene(flag, tmp_path / "flag.estampa"), tmp_path / "link.estampa"
    path.chmod(0o600)
    link.symlink_to(path)
    scene, other = open_scene(link), open_scene(path)
    do.set_range(scene, end=31)
    save_scene(scene)
    assert link.is_symlink() and stat.S_IMODE(path.stat().st_mode) == 0o600 and open_scene(path).doc.end == 31
    do.set_range(other, end=32)
    with pytest.raises(ChangedOnDisk, match="changed on disk since it was opened"):
        save_scene(other)
    assert open_scene(path).doc.end == 31
    save_scene(other, over=True)
    assert open_scene(path).doc.end == 32
    os.utime(path)  # a touch is no change
    save_scene(other)


def test_several_files_appear_together_or_not_at_all(tmp_path, monkeypatch):
    places = [tmp_path / f"{n}.txt" for n in "abc"]
    places[0].write_text("old a")
    places[2].write_text("old c")
    real, count = os.replace, []

    def refuses_the_third(a, b):
        count.append(b)
        if len(count) == 3:
            raise OSError(28, "No space left on device")
        real(a, b)

    with monkeypatch.context() as patch:
        patch.setattr(os, "replace", refuses_the_third)
        with pytest.raises(OSError):
            disk.write_together({p: lambda part: part.write_text("new") for p in places})
    assert {p.name: p.read_text() for p in tmp_path.iterdir()} == {"a.txt": "old a", "c.txt": "old c"}
    disk.write_together({p: lambda part: part.write_text("new") for p in places})
    assert {p.read_text() for p in tmp_path.iterdir()} == {"new"} and len(list(tmp_path.iterdir())) == 3


def test_leftovers_of_dead_programs_are_swept_and_those_of_living_ones_stay(tmp_path):
    dead, mine = tmp_path / f"{disk.PART}{DEAD}-aa.usdc", tmp_path / disk.part_name(".estampa")
    for path in (dead, mine):
        path.write_text("")
    assert disk.sweep(tmp_path) == 1 and not dead.exists() and mine.exists()


def test_the_command_line_does_not_save_what_a_window_has_open(flag, tmp_path):
    from estampa.cli import main

    do.set_loop(flag, 1, 12)
    path = save_scene(flag, tmp_path / "flag.estampa")
    before = path.read_bytes()
    with recovery.SceneLock(path) as lock:
        assert lock.held and main(["loop", str(path), "--close"]) == 2
    assert path.read_bytes() == before
    main(["loop", str(path), "--close"])
    assert path.read_bytes() != before


def test_a_damaged_autosave_is_refused_by_name(tmp_path):
    path = tmp_path / "torn.autosave"
    path.write_bytes(b"PK\x03\x04")
    with pytest.raises(EstampaError, match="torn"):
        open_scene(path)


def test_recovered_work_does_not_go_over_what_somebody_saved_since(flag, tmp_path):
    path = save_scene(flag, tmp_path / "flag.estampa")
    autosave = recovery.Autosave()
    do.set_range(flag, end=77)
    autosave.write(flag)
    left = crashed(autosave, path)
    plain = recovery.recovered(left, path)
    other = open_scene(path)
    do.set_range(other, end=50)
    save_scene(other)
    found = recovery.recovered(left, path)
    assert found.doc.end == plain.doc.end == 77 and found.is_changed
    with pytest.raises(ChangedOnDisk):
        save_scene(found)
    assert open_scene(path).doc.end == 50
    save_scene(found, over=True)
    do.set_range(found, end=78)
    save_scene(found)
    assert open_scene(path).doc.end == 78


def test_an_autosave_is_no_more_to_be_read_by_others_than_its_scene(flag, tmp_path, monkeypatch):
    monkeypatch.setenv("ESTAMPA_STATE", str(tmp_path / "state"))
    (tmp_path / "state").mkdir(mode=0o755)
    autosave = recovery.Autosave()
    mode = lambda p: stat.S_IMODE(p.stat().st_mode)
    assert mode(autosave.write(flag)) == 0o600
    for own in (0o600, 0o640, 0o644):
        path = save_scene(flag, tmp_path / "flag.estampa")
        path.chmod(own)
        assert mode(autosave.write(flag)) == own
    assert mode(tmp_path / "state") == 0o700
