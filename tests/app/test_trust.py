"""What trying to break the window found: panels on every demo, paint that fails, files that a disk refuses, reach."""

import re
from itertools import product
from pathlib import Path

import imageio_ffmpeg
import numpy as np
import pytest
from bench import soak
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton

from estampa import demo
from estampa import edits as do
from estampa.app.score.lanes import clusters
from estampa.app.shell import theme
from estampa.app.shell.finder import Finder
from estampa.app.view import marks
from estampa.app.view.movie import Order, film
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import box
from estampa.kinds.panels import panels
from estampa.kinds.registry import GROUPS, kinds_in, load_kinds
from estampa.scene.document import Document, Thing
from estampa.scene.scene import Scene
from tests.conftest import named

ROOT = Path(__file__).resolve().parents[2]


@pytest.mark.parametrize("name", demo.names())
def test_every_panel_opens_on_every_demo_with_a_print_of_each_kind(user, name):
    s, heard = user.session, []
    s.notice.connect(lambda level, text, detail: heard.append((level, text, detail)))
    s.replace(demo.build(name))
    for kind in kinds_in("print"):
        user.window.press.add_print(kind.kind)
    for panel in (p.word for p in panels()):
        user.window.show_panel(panel)
        user.wait(seconds=60)
    for thing, _ in list(s.doc.everything())[:40]:
        s.selection.select(thing.id)
    user.wait(seconds=60)
    assert not [h for h in heard if h[0] == "error"], heard


def test_a_paint_that_fails_leaves_the_last_picture_and_is_told_once(flag_user, monkeypatch):
    user, s = flag_user, flag_user.session
    before, told = user.window.viewport.grab().toImage(), []
    s.notice.connect(lambda level, text, detail: told.append((level, detail)))
    with monkeypatch.context() as patch:
        patch.setattr(user.window.viewport, "_draw_words", lambda painter: 1 / 0)
        for _ in range(3):
            user.window.viewport.repaint()
        now = user.window.viewport.grab().toImage()  # the strip that tells of it takes some of its height
        assert now == before.copy(0, 0, now.width(), now.height())
    assert [level for level, _ in told] == ["error"] and "ZeroDivisionError" in told[0][1]
    user.window.viewport.repaint()
    assert len(told) == 1


def shortcuts(window):
    return {name: a.shortcut().toString() for name, a in window.actions_by_name.items() if not a.shortcut().isEmpty()}


def test_shortcuts_are_valid_unique_and_as_the_pages_say(user):
    found = shortcuts(user.window)
    assert len(set(found.values())) == len(found), "two commands of one shortcut"
    assert all(QKeySequence(k).count() == 1 and k.count("+") <= 2 for k in found.values())
    declared = {k.shortcut for k in load_kinds().values() if k.shortcut}
    assert declared <= set(found.values())
    said = re.compile(r"\(((?:Ctrl|Alt|Shift)\+[^),\s]+)\)")
    pages = [ROOT / "README.md", *(ROOT / "docs").glob("*.md"), *(ROOT / "src" / "estampa").rglob("*.py")]
    pages = [p for p in pages if p.name != "curve_view.py"]  # which has keys of its own while it is worked in
    for page in pages:
        for keys in said.findall(page.read_text()):
            if "{" not in keys and "…" not in keys:
                assert keys in found.values(), f"{page.name} tells of {keys}, which does nothing"
    words = {"cloth": "add_cloth", "bend": "add_bend", "noise": "add_noise"}
    text = (ROOT / "README.md").read_text()
    for word, name in words.items():
        assert re.search(rf"{word} \({re.escape(found[name])}\)", text), word


def test_what_can_be_added_stands_in_groups_and_is_found_by_typing(flag_user):
    user = flag_user
    assert all(k.group in GROUPS for f in ("layer", "force", "print") for k in kinds_in(f))
    menus = {a.text(): a.menu() for a in user.window.menuBar().actions()}["Add"]
    assert [a.text() for a in menus.actions() if a.menu()] == [
        w for g, w in GROUPS.items() if any(k.group == g for k in load_kinds().values() if k.family != "print")
    ]
    press = {a.text() for a in {a.text(): a.menu() for a in user.window.menuBar().actions()}["Press"].actions()}
    assert "Add joints (BVH) print" in press and "Add joints (CSV) print" in press, "standards keep their capitals"
    user.do("add")
    finder = user.window.findChildren(Finder)[-1]
    assert finder.list.item(0).text().startswith("Cloth layer"), "the most used first, with a sentence"
    QTest.keyClicks(finder.line, "swing")
    assert "Swinging chain" in finder.list.item(0).text()
    finder.line.setText("follow path")
    QTest.keyClick(finder.line, Qt.Key_Return)
    QApplication.processEvents()
    assert user.session.selection.thing.kind == "follow"


def luminance(colour: str) -> float:
    """WCAG 2.1, relative luminance."""
    rgb = np.array([int(colour[i : i + 2], 16) for i in (1, 3, 5)]) / 255
    linear = np.where(rgb <= 0.03928, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
    return float(linear @ [0.2126, 0.7152, 0.0722])


@pytest.mark.parametrize("ink", [theme.PAPER, theme.NIGHT], ids=["paper", "night"])
def test_text_has_the_contrast_of_wcag(ink):
    """At least 4.5 : 1 (WCAG 2.1, success criterion 1.4.3); what is switched off is exempt there."""
    grounds = (ink.paper, ink.sheet, ink.fold, ink.chosen)
    pairs = [*product((ink.ink, ink.soft), grounds), *product((ink.accent, ink.good), (ink.paper, ink.sheet))]
    pairs += [(ink.on_accent, ink.accent)]
    for text, ground in pairs:
        a, b = sorted((luminance(text), luminance(ground)))
        assert (b + 0.05) / (a + 0.05) >= 4.5, (text, ground, (b + 0.05) / (a + 0.05))


@pytest.mark.parametrize("size", [(1024, 640), (1280, 800), (1920, 1080)])
def test_the_window_fits_small_and_large_screens(flag_user, size):
    user = flag_user
    user.window.resize(*size)
    QApplication.processEvents()
    assert (user.window.width(), user.window.height()) == size
    bar = user.window.panels.tabBar()
    assert bar.tabRect(bar.count() - 1).right() <= user.window.panels.width(), "the last tab is in sight"
    last = user.window.tools.buttons[-1]
    assert last.geometry().right() <= user.window.tools.width()
    worded = [b for b in user.window.tools.buttons if b.toolButtonStyle() != Qt.ToolButtonIconOnly]
    assert len(worded) >= (0 if size[0] < 1100 else 4)


def test_the_keyboard_alone_reaches_every_field_of_the_sheet(flag_user):
    user, w = flag_user, flag_user.window
    user.select("Cloth")
    w.show_panel("sheet")
    fields = {r.editor for r in w.sheet._rows if r.editor.isVisible() and r.editor.isEnabled()}
    assert len(fields) > 10
    w.sheet.setFocus()
    reached, first = set(), None
    for _ in range(300):
        QTest.keyClick(QApplication.focusWidget() or w, Qt.Key_Tab)
        at = QApplication.focusWidget()
        if at is first:
            break
        first = first or at
        reached |= {f for f in fields if at is f or f.isAncestorOf(at)}
    assert reached == fields
    for panel in (p.word for p in panels()):
        user.do(f"panel_{panel}")
        assert w.panels.currentWidget() is w.panel_of[panel]


def test_an_empty_window_offers_demos_with_pictures_and_the_scenes_opened_last(user, tmp_path):
    w, s = user.window, user.session
    assert w.welcome.isVisible() and set(w.welcome.demos) == set(demo.names())
    assert all(not b.icon().isNull() and b.icon().availableSizes() for b in w.welcome.demos.values())
    user.click(w.welcome.demos["pinwheels"])
    user.wait(lambda: s.doc.name == "pinwheels")
    assert not w.welcome.isVisible() and s.player.playing, "it plays once"
    s.player.play(False)
    user.wait()
    user.wait(lambda: bool(w.viewport.drawn()))
    moving = [d for d in w.viewport.drawn() if s.doc.shape_of(s.doc.find(d.id)).stack]
    pixels = np.concatenate([w.viewport.camera.project(w.viewport._world(d), *w.viewport.pixels())[0] for d in moving])
    share = np.ptp(pixels, axis=0) / w.viewport.pixels()
    assert 0.5 < share.max() < 0.9, "what moves fills two thirds"
    assert s.desk.save(tmp_path / "mine.estampa")
    s.replace(Scene())
    user.wait()
    names = [b.text() for b in w.welcome.findChildren(QPushButton)]
    assert any(n.startswith("mine ") for n in names)


def test_the_sheet_folds_what_cannot_matter_and_keeps_what_is_keyed(flag_user):
    user, s = flag_user, flag_user.session
    flag = named(s.scene, "Flag")
    copies = do.add_thing(s.scene, "copies", "Row", {"subject": flag.id, "arrange": "hand"})
    s.selection.select(copies.id)
    shown = lambda: {r.channel.name for r in user.window.sheet._rows}
    assert not shown() & {"step_x", "columns", "radius", "path", "density"}
    do.set_key(s.scene, copies.id, "step_x", 1, 1.0)
    assert "step_x" in shown() and "radius" not in shown()
    user.click(next(b for b in user.window.sheet.findChildren(QPushButton) if "do nothing as it is set" in b.text()))
    assert {"radius", "columns"} <= shown()
    do.set_value(s.scene, copies.id, "arrange", "ring")
    user.window.sheet.show_all(False)
    assert "radius" in shown() and "columns" not in shown()


def test_key_marks_that_would_touch_become_one_with_their_count():
    found = clusters([1, 2, 3, 20, 40, 41], lambda f: 5.0 * f, 11)
    assert found == [[1, 2, 3], [20], [40, 41]]


def test_marks_are_our_own_and_are_drawn_for_everything_that_stands(user):
    """A pane of controls alone draws grips, zones, cameras and colliders of every shape without a word of trouble."""
    s, heard = user.session, []
    s.notice.connect(lambda level, text, detail: heard.append((level, text)))
    for kind in ("grip", "camera", "zone", "path", "collider"):
        user.window.add_thing(kind)
        user.window.viewport.repaint()
    for shape in ("box", "half", "slab", "sphere"):
        zone = next(t for t in s.doc.things if t.kind == "zone")
        do.set_value(s.scene, zone.id, "shape", shape)
        user.window.viewport.repaint()
    assert marks.camera.__doc__ and not [h for h in heard if h[0] == "error"]


def test_a_movie_that_its_encoder_or_the_disk_refuses_is_told_and_the_earlier_one_stays(
    flag_user, tmp_path, monkeypatch
):
    user, s = flag_user, flag_user.session
    path = tmp_path / "shot.mp4"
    path.write_bytes(b"the good one")
    evaluator = Evaluator(s.doc, s.scene, s.store)
    order = Order(path, (64, 48), [1, 2], True)
    go = lambda o: film(o, user.window.viewport, evaluator, lambda *_: None, lambda: False)
    refusing = tmp_path / "encoder"
    refusing.write_text("#!/bin/sh\ncat > /dev/null\necho 'No space left on device' >&2\nexit 1\n")
    refusing.chmod(0o755)
    with monkeypatch.context() as patch:
        patch.setattr(imageio_ffmpeg, "get_ffmpeg_exe", lambda: str(refusing))
        with pytest.raises(EstampaError, match="disk is full"):
            go(order)
        refusing.write_text("#!/bin/sh\ncat > /dev/null\necho 'bad luck' >&2\nexit 3\n")
        with pytest.raises(EstampaError, match="not finished by its encoder"):
            go(order)
    assert path.read_bytes() == b"the good one"

    def full(self, data):
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patch:
        patch.setattr(Path, "write_bytes", full)
        with pytest.raises(EstampaError, match="disk is full"):
            go(Order(tmp_path / "still.png", (64, 48), [1, 2], True))
    assert not list(tmp_path.glob("still*")) and not list(tmp_path.glob(".estampa*"))
    assert go(order) == [path] and path.stat().st_size > 500


def test_many_still_things_are_drawn_as_one_and_picked_one_by_one(user):
    scene = Scene(Document(start=1, end=3))
    crate = do.mesh_ref(scene, box([0, 0, 0], [0.3, 0.3, 0.3]))
    crates = [Thing(kind="subject", name=f"Crate {i}", mesh=crate, values={"x": 0.5 * i}) for i in range(60)]
    scene.apply("Crates", scene.doc.with_(things=tuple(crates)))
    user.session.replace(scene)
    user.wait()
    v = user.window.viewport
    assert len(v.to_draw()) == 1 and len(v.drawn()) == 60
    pixels, _ = v.camera.project(np.array([[15.15, 0.15, 0.3]]), *v.pixels())
    user.click(v, pixels[0])
    assert user.session.selection.thing.name == "Crate 30"


def test_caches_do_not_grow_with_edits(flag_user):
    user, s = flag_user, flag_user.session
    flag = named(s.scene, "Flag")
    refine = do.add_layer(s.scene, flag.id, "refine")
    sizes = []
    for k in range(60):
        do.set_value(s.scene, refine.id, "levels", 1 + k % 2)
        do.set_value(s.scene, named(s.scene, "Cloth").id, "warp", 1000.0 + k)
        Evaluator(s.doc, s.scene, s.store).rows(
            named(s.scene, "Flag"), [], Evaluator(s.doc, s.scene, s.store).stage.one(named(s.scene, "Flag"), 1)
        )
        user.session.pictures.look()
        QApplication.processEvents()
        sizes.append(len(s.scene.memo))
    user.wait()
    assert sizes[-1] <= sizes[5] + 2, sizes


def test_every_command_of_every_menu_can_be_pressed(user, monkeypatch):
    """On one demo; `bench/soak.py` does it on all of them. Dialogs are dismissed as they open."""
    heard = []
    user.session.notice.connect(lambda level, text, detail: heard.append((text, detail)))
    soak.mute(monkeypatch.setattr)
    user.session.replace(demo.build("pinwheels"))
    user.wait()
    pressed = [name for name in soak.press_everything(user.window)]
    user.do("cancel")
    user.wait(seconds=60)
    assert len(pressed) > 100
    assert not [h for h in heard if "inside Estampa" in h[0]], heard
