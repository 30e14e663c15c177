"""Whatever can be added is added by its command of the window, undone, and is what Python makes of the same scene."""

import pytest
from PySide6.QtWidgets import QDialog

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.evaluate import outcome
from estampa.kinds.registry import kind_of, kinds_in
from estampa.scene.ids import ids_of
from estampa.scene.scene import Scene
from tests.stage import BOUND, Stage

KINDS = [k.kind for f in ("layer", "force", "thing", "ensemble", "print") for k in kinds_in(f) if k.kind not in BOUND]


def added(user, word):
    """Press the command that adds a kind; the things of that kind that came."""
    before = {t.id for t, _ in user.session.doc.everything()}
    user.window.actions_by_name[f"add_{word}"].trigger()
    for dialog in user.window.findChildren(QDialog):
        if dialog.isVisible():
            dialog.reject()
    return [t for t, _ in user.session.doc.everything() if t.id not in before and t.kind == word]


def every_kind(user, store, words):
    for word in words:
        if f"add_{word}" not in user.window.actions_by_name:
            continue
        with ids_of(word):
            stage, kind = Stage(store), kind_of(word)
            owner = stage.owner_for(kind) if kind.family == "layer" else stage.subject
        user.session.replace(Scene(stage.scene.doc, stage.scene.arrays))
        user.session.selection.select(owner)
        first = user.session.doc
        made = added(user, word)
        if not made:
            assert user.notice or user.session.doc is first, f"{word}: nothing was added, and nothing said"
            continue
        scene = user.session.scene
        again = Scene(scene.doc, scene.arrays)
        try:
            evaluator = again.evaluator(store)
            evaluator.solve_through(2)
            for thing in again.doc.things:
                outcome.of(evaluator, thing, 2)
        except EstampaError as err:
            assert err.cause and err.cure, f"{word}: {err}"
        python = Scene(first, scene.arrays)
        if kind.family != "layer":
            do.add_thing(python, word)
        else:
            do.add_layer(python, owner, word)
        assert any(t.kind == word for t, _ in python.doc.everything())
        while scene.doc is not first and scene.undo():
            pass
        assert scene.doc is first, f"{word}: undone to something else"
    heard = user.notice
    assert "inside Estampa" not in heard, heard


@pytest.mark.sweep
@pytest.mark.parametrize("part", range(6))
def test_every_kind_is_added_by_its_command(user, store, part):
    every_kind(user, store, KINDS[part::6])


def test_a_few_kinds_are_added_by_their_commands(user, store):
    every_kind(user, store, ["noise", "cloth", "collider", "bodies", "zone", "vertex_cache", "sow"])


def test_what_no_scene_may_hold_is_refused_where_it_is_typed(flag_user):
    user, s = flag_user, flag_user.session
    user.session.carry_out(lambda: do.set_range(s.scene, end=300_000))
    assert "300,000" in user.notice or "300 000" in user.notice or "frames" in user.notice
    assert s.doc.end == 12


def test_a_sheet_is_pinned_and_unpinned_with_every_sort_of_thing_selected(user, store):
    with ids_of("pins"):
        stage = Stage(store)
    user.session.replace(Scene(stage.scene.doc, stage.scene.arrays))
    for thing, _ in list(user.session.doc.everything()):
        user.session.selection.select(thing.id)
        user.window.actions_by_name["pin"].trigger()
        user.session.selection.select(stage.subject)
        user.window.actions_by_name["pin"].trigger()
        assert "inside Estampa" not in user.notice, user.notice
