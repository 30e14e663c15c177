"""Closing a seam never makes it worse, and what is solved closes its loop, judged in the printed file."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.edits import joints
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import box, sheet
from estampa.inspect import closing, loops, rounds
from estampa.press import run as press
from estampa.scene.curves import Curve, Key
from estampa.scene.document import Document
from estampa.scene.reduce import curve_of
from estampa.scene.scene import Scene


def swung(gap, quick):
    """A bar of a metre, turned at every frame by a motion of so many rounds that misses its start by a gap."""
    frames = np.arange(1, 98.0)
    values = 0.4 * np.sin(2 * np.pi * quick * (frames - 1) / 96 + 0.3)
    values[-1] += gap
    slopes = np.gradient(values)
    slopes[0] = slopes[-1] = 0.5 * (values[1] - values[0] + values[-1] - values[-2])
    scene = Scene(Document(start=1, end=96, loop=(1, 97)))
    bar = do.add_mesh(scene, box([0, -0.01, -0.01], [1, 0.01, 0.01]), "Bar")
    do.set_curve(scene, bar.id, "turn_z", curve_of(frames, values, slopes, np.arange(97)), "Swing")
    return scene, bar.id


@pytest.mark.parametrize("quick", [1, 8, 16])
@pytest.mark.parametrize("gap", [5e-6, 1e-3, 0.05])
def test_closing_a_gap_moves_nothing_by_more_than_the_gap_between_frames_too(gap, quick):
    scene, bar = swung(gap, quick)
    before = scene.doc.find(bar).curve("turn_z")
    found = closing.measured(scene.evaluator(), closing.offers(scene.doc))
    assert bool(found) == (gap > np.radians(0.01)), "what nobody sees is no offer"
    if found:
        assert found[0].gap[1] <= found[0].gap[0]
        closing.close(scene, found)
        after, fine = scene.doc.find(bar).curve("turn_z"), np.linspace(1, 97, 96 * 16 + 1)
        assert np.abs(after.at(fine) - before.at(fine)).max() < 1.5 * gap
        assert after.at(97) == after.at(1) and loops.seams(scene.evaluator())[0].between < 2e-3


def test_an_offer_that_would_make_the_seam_worse_is_refused():
    scene, bar = swung(0.05, 4)
    good = closing.offers(scene.doc)[0]
    keys = [k if k.frame < 97 else k.with_(value=k.value + 0.2) for k in good.value.keys]
    bad = closing.Offer(bar, "turn_z", "worse", Curve(keys=tuple(keys)))
    assert [o.words for o in closing.measured(scene.evaluator(), [bad, good])] == [good.words]


def test_a_key_put_into_a_curve_leaves_its_course(rng=np.random.default_rng(5)):
    """A cubic that is split is the same cubic (de Casteljau); the parts are compared at many frames."""
    frames = np.cumsum(rng.uniform(3, 15, 8))
    handle = lambda: ((-rng.uniform(0.5, 2.5), rng.normal()), (rng.uniform(0.5, 2.5), rng.normal()))
    sides = [handle() for _ in frames]
    keys = [Key(frame=float(f), value=float(rng.normal()), tangent="broken", left=a, right=b,
                segment=("curve", "curve", "linear", "step")[i % 4])
            for i, (f, (a, b)) in enumerate(zip(frames, sides, strict=True))]  # fmt: skip
    curve, fine = Curve(keys=tuple(keys)), np.linspace(frames[0], frames[-1], 4001)
    for at in rng.uniform(frames[0], frames[-1], 12):
        assert np.abs(curve.split(float(at)).at(fine) - curve.at(fine)).max() < 1e-9
    first, last = frames[1] + 0.3, frames[-2] - 0.4
    cut, inside = curve.between(first, last), np.linspace(first, last, 2001)
    assert np.abs(cut.at(inside) - curve.at(inside)).max() < 1e-9
    assert (cut.keys[0].frame, cut.keys[-1].frame) == (first, last)


def driven(scene, strand):
    """A skeleton of one strand that a keyed hand carries, or a gust moves."""
    skeleton = joints.add_skeleton(scene, [strand], "Strand", "Strand")
    hand = do.add_thing(scene, "grip", "Hand")
    for frame, x in ((1, 0.0), (13, 0.3), (37, -0.3), (49, 0.0)):
        do.set_key(scene, hand.id, "x", frame, x)
    do.set_value(scene, skeleton.id, "parent", hand.id)
    return skeleton


def chain(scene):
    skeleton = driven(scene, joints.straight([0, 2, 0], [0, 0.8, 0], 7))
    do.add_layer(scene, skeleton.id, "chain", "Swing", {"damping": 0.6})
    do.add_thing(scene, "gravity")
    return skeleton, "joint_csv"


def stems(scene):
    skeleton = driven(scene, joints.straight([0, 0, 0], [0, 1.2, 0], 5))
    values = {"stiffness": 8.0, "mass": 0.3, "ratio": 0.05, "width": 0.02, "weight": False}
    do.add_layer(scene, skeleton.id, "stems", "Sway", values)
    do.add_thing(scene, "wind", "Wind", {"speed": 5.0, "gustiness": 0.5})
    return skeleton, "joint_csv"


def cloth(scene):
    flat = sheet(1, 0.7, 17, 12)
    banner = do.add_mesh(scene, flat.with_points(flat.points[:, [0, 2, 1]]), "Banner")
    top = flat.points[:, 2] > flat.points[:, 2].max() - 1e-6
    held = do.add_map(scene, banner.id, top.astype(np.float32), "Rail")
    do.add_layer(scene, banner.id, "cloth", "Cloth", {"pins": held.id})
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "wind", "Wind", {"speed": 6.0, "gustiness": 0.6})
    return banner, "vertex_cache"


@pytest.mark.slow
@pytest.mark.parametrize("made", [chain, stems, cloth])
def test_what_is_solved_closes_its_loop_in_one_step_and_plays_round_as_printed(made, store, tmp_path):
    scene = Scene(Document(start=1, end=48, loop=(1, 49)))
    thing, print_kind = made(scene)
    before = scene.doc
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(scene.doc.solved_to)
    assert loops.seams(evaluator)[0].pose > 0.02
    closed = rounds.close_solved(scene, store)
    assert scene.doc is before, "nothing is changed yet"
    rounds.put(scene, closed)
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(scene.doc.solved_to)
    seam = loops.seams(evaluator)[0]
    assert seam.closed, (seam, closed.words())
    owner = evaluator.owner(scene.doc.find(thing.id))
    points = [owner.posed(scene.doc.find(thing.id), float(f))[0] for f in range(1, 52)]
    assert max(np.linalg.norm(a - b, axis=1).max() for a, b in zip(points[:2], points[48:50], strict=True)) < 1e-4
    steps = [np.linalg.norm(b - a, axis=1).max() for a, b in zip(points, points[1:], strict=False)]
    n = scene.doc.fade
    assert not n or max(steps[-n - 2 :]) < 2.5 * max(steps[: -n - 2]), "the fade hurries nothing much"
    item = do.add_thing(scene, print_kind, "Round", {"loop": True} if print_kind == "vertex_cache" else {})
    result = press.run(scene, Evaluator(scene.doc, scene, store), scene.doc.find(item.id), tmp_path)
    assert result.passed and result.goes_round, result.words()
    scene.undo()
    scene.undo()
    assert scene.doc is before


@pytest.mark.slow
def test_a_faded_cloth_keeps_the_lengths_of_its_edges(store):
    scene = Scene(Document(start=1, end=48, loop=(1, 49), run_up=48, fade=12))
    banner, _ = cloth(scene)
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(scene.doc.solved_to)
    mesh = scene.mesh(banner.mesh)
    long = lambda p: np.linalg.norm(p[mesh.edges[:, 1]] - p[mesh.edges[:, 0]], axis=1) / long_rest
    long_rest = np.linalg.norm(mesh.points[mesh.edges[:, 1]] - mesh.points[mesh.edges[:, 0]], axis=1)
    for frame in (40, 43, 46, 48):
        faded = long(evaluator.subject(scene.doc.find(banner.id), frame).points)
        assert faded.max() < 1.12 and faded.min() > 0.8, f"frame {frame}: {faded.min()} to {faded.max()}"
    plain = Evaluator(scene.doc.with_(fade=0), scene, store)
    at = lambda e, f: e.subject(scene.doc.find(banner.id), f).points
    assert np.array_equal(at(plain, 36), at(evaluator, 36)), "before the fade it is as it was solved"
    assert np.allclose(at(evaluator, 49), at(evaluator, 1), atol=1e-6)
