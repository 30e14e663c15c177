"""What lies between two of the window's doings: an edit while a scene is opening, a crash and somebody's save, a close
during a solve, a frame that is gone."""

import os
import subprocess
import sys
import threading
import time

import pytest
from PySide6.QtWidgets import QMessageBox

from estampa import demo, save_scene
from estampa import edits as do
from estampa.edits import importing
from estampa.evaluate.evaluator import Evaluator
from estampa.formats.asset import read_asset
from estampa.scene import file
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore
from tests.app.conftest import answer


@pytest.fixture
def slow_to_open(monkeypatch):
    """Scenes are read no sooner than the test says."""
    may, real = threading.Event(), file.load_scene

    def load(path):
        may.wait(20)
        return real(path)

    monkeypatch.setattr(file, "load_scene", load)
    return may


def boxes(user):
    return [b for b in user.window.findChildren(QMessageBox) if b.isVisible()]


def test_edits_made_while_another_scene_is_opening_are_asked_for(flag_user, tmp_path, slow_to_open):
    user, s = flag_user, flag_user.session
    other = save_scene(demo.build("boards"), tmp_path / "boards.estampa")
    user.window.files.open(other)
    do.set_range(s.scene, end=33)
    slow_to_open.set()
    user.wait(lambda: bool(boxes(user)))
    assert s.doc.end == 33, "the edit is still here"
    answer(user, "Stay")
    user.wait()
    assert s.doc.end == 33 and s.scene.is_changed
    user.window.files.open(other)
    answer(user, "Leave it unsaved")
    user.wait(lambda: s.doc.name == "boards")


def test_work_that_was_to_be_left_stays_with_its_autosave_when_what_was_to_be_opened_is_damaged(flag_user, tmp_path):
    user, s = flag_user, flag_user.session
    torn = tmp_path / "torn.estampa"
    torn.write_bytes(b"PK\x03\x04 torn")
    do.set_range(s.scene, end=44)
    s.desk.autosave_now()
    user.wait()
    user.window.files.open(torn)
    answer(user, "Leave it unsaved")
    user.wait(lambda: "torn" in user.notice)
    assert s.doc.end == 44 and s.desk.autosave.file(s.scene.path).exists()


def test_what_was_read_for_one_scene_does_not_come_into_another(flag_user, tmp_path):
    user, s = flag_user, flag_user.session
    first, second = "o A\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "o B\nv 2 0 0\nv 3 0 0\nv 2 1 0\nf 4 5 6\n"
    (tmp_path / "tri.obj").write_text(first + second)
    user.window.files._ask_about_asset(read_asset(tmp_path / "tri.obj"))
    dialog, held, real = user.window.files.import_dialog, threading.Event(), importing.prepare

    def prepare(*a, **k):
        held.wait(10)
        return real(*a, **k)

    importing.prepare = prepare
    try:
        dialog.accept()
        s.replace(Scene())
        held.set()
        user.wait()
    finally:
        importing.prepare = real
    assert not s.doc.things


def test_a_frame_that_is_damaged_or_gone_while_a_scene_is_open_looks_unsolved_and_is_solved_again(flag_user):
    user, s = flag_user, flag_user.session
    s.work.solve()
    cloth = user.thing("Cloth")
    solved = lambda: cloth.id in s.work.lanes and s.work.lanes[cloth.id].state.done
    user.wait(solved)
    shape = lambda: s.pictures.picture.shapes[user.thing("Flag").id]
    s.player.go_to(6)
    user.wait(lambda: s.pictures.picture.frame == 6 and shape().is_current)
    is_current = shape().points.copy()
    key = Evaluator(s.doc, s.scene, s.store).key(user.thing("Flag"), cloth, 6)
    data = bytearray(s.store._path(key).read_bytes())
    data[1000] ^= 4  # of where its points are
    s.player.go_to(5)
    user.wait(lambda: s.pictures.picture.frame == 5)
    s.scene.shapes._kept.clear()  # what was looked at long ago is not remembered
    s.work.forget_what_was_read()
    s.store._path(key).write_bytes(data)
    s.player.go_to(6)
    user.wait(lambda: s.pictures.picture.frame == 6 and not shape().is_current)
    user.wait(lambda: not s.work.lanes[cloth.id].state.done)
    assert s.work.needs_solve()
    s.work.solve()
    user.wait(solved)
    user.wait(lambda: shape().is_current)
    assert (shape().points == is_current).all()
    FrameStore(s.store.root).clear()  # as `estampa store --clear` does, from a terminal
    user.wait(lambda: s.work.needs_solve() and not s.work.is_solved_at(6))


CLOSES = """
import os, sys, time
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from PySide6.QtCore import QTimer
from estampa import demo
from estampa.app import run
from estampa.app.shell import window as module

Real = module.Window
class Window(Real):
    def __init__(self, *a):
        super().__init__(*a)
        def poll():
            if len(list(self.session.store.root.glob("*/*.frame"))) >= 3:
                self._left = True
                began.append(time.monotonic())
                self.close()
                print("closed", time.monotonic() - began[0], flush=True)
                timer.stop()
        timer = QTimer(self, interval=20)
        timer.timeout.connect(poll)
        timer.start()
        QTimer.singleShot(0, self.session.work.solve)
began = []
module.Window = Window
import atexit
real_exit = os._exit
def leave(code):
    print("left", time.monotonic() - began[0], flush=True)
    real_exit(code)
os._exit = leave
atexit.register(lambda: print("left", time.monotonic() - began[0], flush=True))
sys.exit(run.run(make=lambda: demo.build(sys.argv[1])))
"""


@pytest.mark.slow
@pytest.mark.parametrize("name", ["tidejar", "blind"])
def test_closing_during_a_solve_takes_less_than_a_second_and_keeps_what_was_solved(name, tmp_path):
    """It waited up to ten seconds for a frame of a liquid or of cloth in contact."""
    environment = os.environ | {"ESTAMPA_STORE": str(tmp_path / "store"), "ESTAMPA_STATE": str(tmp_path / "state")}
    run = [sys.executable, "-c", CLOSES, name]
    began = time.monotonic()
    done = subprocess.run(run, capture_output=True, text=True, env=environment, timeout=200)
    assert done.returncode == 0, done.stderr[-2000:]
    told = {line.split()[0]: float(line.split()[1]) for line in done.stdout.splitlines() if " " in line}
    assert told["closed"] < 1 and told["left"] < 1.5 and time.monotonic() - began < 200
    kept = FrameStore(tmp_path / "store")
    paths = list(kept.root.glob("*/*.frame"))
    keys = [bytes.fromhex(p.parent.name + p.stem) for p in paths]
    assert len(keys) >= 3 and all(kept.frame(key) is not None for key in keys)
