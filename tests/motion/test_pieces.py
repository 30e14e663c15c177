"""Breaking, and layers that move pieces: whole again to the bit and to the pixel, in turn by the formula."""

import numpy as np
import pytest
import trimesh

from estampa import edits as do
from estampa.app.model.looks import CLOTH, look
from estampa.app.view.camera import Camera
from estampa.app.view.render import Renderer
from estampa.app.view.shooting import drawn_of
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.evaluate.exposed_faces import bared
from estampa.geometry.mesh import Mesh
from estampa.geometry.pieces import Pieces, volume_of
from estampa.geometry.primitives import box, coloured, joined
from estampa.kinds.registry import kinds_in
from estampa.scene.document import Document
from estampa.scene.scene import Scene


def globe(count=40, **more):
    scene = Scene(Document(name="globe", start=1, end=48))
    ball = trimesh.creation.icosphere(3)
    mesh = coloured(Mesh.from_triangles(ball.vertices, ball.faces), "Glaze", (0.1, 0.3, 0.3))
    subject = do.add_mesh(scene, mesh, "Globe")
    broken = do.add_layer(scene, subject.id, "break", values={"count": count} | more)
    return scene, subject.id, broken.id


def seen(scene, store, subject, frame=1):
    """(points, points as they left Break, pieces)."""
    evaluator, subject = Evaluator(scene.doc, scene, store), scene.doc.find(subject)
    layers = evaluator.layers(subject)
    unmoved = evaluator.through(subject, layers[:1], frame).points
    return evaluator.subject(subject, frame).points, unmoved, Pieces.each(evaluator.mesh(subject))


@pytest.mark.parametrize("kind", [k.kind for k in kinds_in("layer") if k.of_pieces])
def test_a_layer_of_pieces_at_strength_0_leaves_every_bit(store, kind):
    scene, subject, _ = globe()
    other = do.add_mesh(scene, box([2, 0, 0], [3, 1, 1]), "Box")
    grip = do.add_thing(scene, "grip", values={"x": 3.0})
    named = {"gather": {"onto": other.id}, "face": {"target": grip.id}, "shrink": {"by": 0.5}}
    layer = do.add_layer(scene, subject, kind, values=named.get(kind, {}))
    points, unmoved, pieces = seen(scene, store, subject, 7)
    assert np.abs(points - unmoved).max() > 1e-3
    # pieces move as wholes: distances within each keep one ratio
    for own in pieces.vertices:
        if len(own) > 3:
            a, b = (p[own] - p[own].mean(axis=0) for p in (unmoved, points))
            ratio = np.linalg.norm(b, axis=1) / np.linalg.norm(a, axis=1)
            assert np.ptp(ratio) < 1e-9
    do.set_value(scene, layer.id, "strength", 0.0)
    points, unmoved, _ = seen(scene, store, subject, 7)
    assert points.tobytes() == unmoved.tobytes()


def test_pieces_go_in_turn_by_the_formula(store):
    scene, subject, _ = globe()
    layer = do.add_layer(scene, subject, "step", values={"y": 1.0, "order": "x", "overlap": 0.25, "ease": "steady"})
    do.set_value(scene, layer.id, "strength", 0.6)
    points, unmoved, pieces = seen(scene, store, subject)
    x = pieces.middles(unmoved[None])[0, :, 0]
    rank = (x - x.min()) / np.ptp(x)
    share = np.clip((0.6 - rank * 0.75) / 0.25, 0, 1)
    assert pieces.middles((points - unmoved)[None])[0, :, 1] == pytest.approx(share, abs=1e-12)
    do.set_value(scene, layer.id, "other_way", True)
    points, unmoved, _ = seen(scene, store, subject)
    share = np.clip((0.6 - (1 - rank) * 0.75) / 0.25, 0, 1)
    assert pieces.middles((points - unmoved)[None])[0, :, 1] == pytest.approx(share, abs=1e-12)


def test_a_zone_is_felt_where_a_piece_was_at_home_by_all_layers_alike(store):
    scene, subject, _ = globe()
    zone = do.add_thing(scene, "zone", values={"x": 1.0, "reach": 1.0, "soft": 0.0})
    do.add_layer(scene, subject, "step", values={"y": 5.0, "zone": zone.id})
    do.add_layer(scene, subject, "step", values={"y": 1.0, "zone": zone.id})
    points, unmoved, pieces = seen(scene, store, subject)
    home = pieces.middles(unmoved[None])[0]
    within = np.linalg.norm(home - [1, 0, 0], axis=1) < 1
    assert pieces.middles((points - unmoved)[None])[0, :, 1] == pytest.approx(6.0 * within)


def test_parted_until_clear_no_two_boxes_overlap(store):
    scene = Scene(Document(name="organ"))
    parts = [box([x, y, 0], [x + 0.3, y + 0.2, 0.2]) for x in (0, 0.31, 0.7) for y in (0, 0.19, 0.5)]
    subject = do.add_mesh(scene, joined([*parts, box([-0.05, -0.05, -0.05], [1.1, 0.8, 0.02])]), "Organ")
    do.add_layer(scene, subject.id, "part", values={"by": "clear", "room": 0.02})
    evaluator = Evaluator(scene.doc, scene, store)
    points = evaluator.subject(scene.doc.find(subject.id), 1).points
    low, high = Pieces.each(evaluator.mesh(scene.doc.find(subject.id))).boxes(points)
    for a in range(len(low)):
        for b in range(a):
            assert (np.maximum(low[a] - high[b], low[b] - high[a]) > 0.02 - 1e-9).any()


def test_a_wobble_closes_the_loop_and_no_two_pieces_move_alike(store):
    scene, subject, _ = globe()
    do.set_loop(scene, 1, 25)
    do.add_layer(scene, subject, "wobble", values={"loops": True, "rate": 1.3})
    first, unmoved, pieces = seen(scene, store, subject, 1)
    last, *_ = seen(scene, store, subject, 25)
    assert last == pytest.approx(first, abs=1e-9)
    moved = np.array([pieces.middles((seen(scene, store, subject, f)[0] - unmoved)[None])[0] for f in range(1, 25)])
    alike = np.corrcoef(moved[:, :, 0].T)[np.triu_indices(pieces.count, 1)]
    assert alike.max() < 0.999


@pytest.mark.parametrize("rough", [0.0, 1.0])
def test_a_broken_subject_looks_as_before_pixel_by_pixel_and_its_outside_keeps_its_shading(store, rough):
    scene, subject, broken = globe(60, rough=rough, grain=0.2)
    step = do.add_layer(scene, subject, "step", values={"strength": 0.0})
    camera, renderer = Camera(distance=5.0), Renderer()

    def picture(shadows=True):
        found = look(Evaluator(scene.doc, scene, store), 1).shapes[subject]
        drawn = [drawn_of(subject, found, CLOTH, tint=found.tint)]
        data = renderer.picture(drawn, camera, 320, 240, shadows=shadows)
        return np.frombuffer(data, np.uint8).reshape(240, 320, 4).astype(int)

    whole, lit = picture(), picture(shadows=False)
    copies = do.add_thing(scene, "copies", values={"subject": subject, "count": 1})  # of itself, in its place
    found = look(Evaluator(scene.doc, scene, store), 1).shapes[copies.id]
    assert found.points == pytest.approx(trimesh.creation.icosphere(3).vertices, abs=1e-6)
    assert found.mesh.cut_from is None, "copies of what has not moved are drawn whole too"
    do.remove(scene, copies.id)
    do.set_on(scene, broken, False)
    assert np.array_equal(whole, picture())
    do.set_on(scene, broken, True)
    # all pieces shifted alike: what is left of the outside is shaded as the whole one shifted, without a seam
    do.set_values(scene, step.id, {"strength": 1.0, "y": 1e-6})
    assert (np.abs(lit - picture(shadows=False)).max(axis=2) > 2).sum() <= 4  # of 76,800
    assert (np.abs(whole - picture()).max(axis=2) > 2).sum() <= 100, "but for the rim of its own shadow"


def test_walls_are_drawn_where_a_piece_has_left_its_neighbour_or_shrunk(store):
    scene, subject, _ = globe(20)
    shrink = do.add_layer(scene, subject, "shrink", values={"by": 0.2})
    do.add_layer(scene, subject, "step", values={"y": 0.3})

    def hidden():
        found = look(Evaluator(scene.doc, scene, store), 1).shapes[subject]
        return (np.abs(found.drawn - found.creased.of(found.points)).max(axis=1) > 1e-9).mean()

    assert hidden() == 0
    do.set_value(scene, shrink.id, "strength", 0.0)
    assert hidden() > 0.2, "all are shifted alike: no wall is seen"


def test_what_cannot_be_broken_is_told(store):
    scene = Scene(Document(name="open"))
    ball = trimesh.creation.icosphere(2)
    subject = do.add_mesh(scene, Mesh.from_triangles(ball.vertices, ball.faces[:-3]), "Bowl")
    do.add_layer(scene, subject.id, "break")
    with pytest.raises(EstampaError, match="open edges.*Thicken"):
        Evaluator(scene.doc, scene, store).mesh(scene.doc.find(subject.id))
    turned = do.add_mesh(scene, Mesh.from_triangles(ball.vertices, ball.faces[:, ::-1]), "Inside out")
    do.add_layer(scene, turned.id, "break")
    with pytest.raises(EstampaError, match="inside out"):
        Evaluator(scene.doc, scene, store).mesh(scene.doc.find(turned.id))


@pytest.mark.parametrize(("spots", "count"), [
    (((0, 0, 0), (0.3, 0.2, 0.1)), 2), (((0, 0, 0), (0, 0, 0), (0.5, 0, 0)), 2), (((9, 9, 9), (0.1, 0, 0)), 1),
])  # fmt: skip
def test_cut_points_of_a_hand_may_be_few_doubled_or_outside(store, spots, count):
    scene, subject, broken = globe()
    path = do.add_thing(scene, "path", spots=spots)
    do.set_values(scene, broken, {"gather": "spots", "path": path.id, "smallest": 0.0})
    points, unmoved, pieces = seen(scene, store, subject)
    assert pieces.count == count
    mesh = Evaluator(scene.doc, scene, store).mesh(scene.doc.find(subject))
    assert volume_of(mesh.points, mesh.triangles) == pytest.approx(trimesh.creation.icosphere(3).volume, rel=1e-6)


def test_what_has_no_place_to_be_cut_at_is_told_by_name(store):
    scene, subject, broken = globe()
    for gather, words in (("spots", "no path"), ("near", "no grip"), ("map", "no weight map")):
        do.set_value(scene, broken, "gather", gather)
        with pytest.raises(EstampaError, match=words):
            Evaluator(scene.doc, scene, store).mesh(scene.doc.find(subject))
    do.set_values(scene, broken, {"gather": "even", "count": 1})
    assert seen(scene, store, subject)[2].count == 1
    flat = box([0, 0, 0], [1, 1, 1])
    pane = do.add_mesh(scene, flat.with_points(flat.points * [1, 1, 0]), "Pane")
    do.add_layer(scene, pane.id, "break")
    with pytest.raises(EstampaError, match="flat"):
        Evaluator(scene.doc, scene, store).mesh(scene.doc.find(pane.id))


def test_small_pieces_are_joined_and_a_gap_is_as_wide_as_it_says(store):
    scene, subject, broken = globe(200)
    do.set_value(scene, broken, "smallest", 0.0)
    every = seen(scene, store, subject)[2]
    do.set_value(scene, broken, "smallest", 0.5)
    some = seen(scene, store, subject)[2]
    volumes = lambda pieces: np.array([m.volume for m in pieces.masses(pieces.mesh.points)])
    assert some.count < every.count and volumes(some).sum() == pytest.approx(volumes(every).sum(), rel=1e-9)
    assert all(m.closed for m in some.masses(some.mesh.points))
    assert volumes(some).min() > volumes(every).min()
    do.set_values(scene, broken, {"how": "bricks", "brick_x": 0.7, "brick_y": 0.7, "brick_z": 0.7, "jitter": 0.0,
                                  "gap": 0.1})  # fmt: skip
    points, _, pieces = seen(scene, store, subject)
    low, high = pieces.boxes(points)
    along = np.sort(np.unique(np.round(np.concatenate([low[:, 1], high[:, 1]]), 6)))
    assert (np.abs(np.diff(along) - 0.1) < 1e-6).sum() == 2, "between three courses"


def test_coordinates_materials_and_maps_come_through_the_cuts(store):
    scene = Scene(Document(name="uv"))
    made = box([0, 0, 0], [1, 1, 1])
    made = Mesh(made.points, made.face_counts, made.face_indices, made.points[:, :2] * 0.25,
                [("A", (1, 0, 0)), ("B", (0, 1, 0))], [0, 1, 0, 1, 0, 1])  # fmt: skip
    subject = do.add_mesh(scene, made, "Box")
    rising = do.add_map(scene, subject.id, made.points[:, 1].astype(np.float32), "Up")
    do.add_layer(scene, subject.id, "break", values={"count": 30, "inner": "wood"})
    evaluator, subject = Evaluator(scene.doc, scene, store), scene.doc.find(subject.id)
    broken = evaluator.mesh(subject)
    outside = broken.cut_from.face >= 0
    at = broken.points[broken.triangles[outside]]
    assert broken.triangle_uv[outside] == pytest.approx(at[..., :2] * 0.25, abs=1e-6)
    sides = np.array([[0, 0], [0, 1], [1, 0], [1, 1], [2, 0], [2, 1]])  # the faces of `box`: axis and side
    for face, (axis, side) in enumerate(sides):
        mine = outside & (made.triangle_faces[broken.cut_from.face] == face)
        assert broken.points[broken.triangles[mine]][..., axis] == pytest.approx(float(side), abs=1e-12)
        assert (broken.face_materials[mine] == face % 2).all()
    assert (broken.face_materials[~outside] == 2).all() and "wood" in broken.materials[2][0]
    weights = evaluator.topology.map_weights(subject, subject.map(rising.id))
    on = np.unique(broken.triangles[outside])
    assert weights[on] == pytest.approx(broken.points[on, 1], abs=1e-6)


def test_faces_are_told_as_they_are_bared_with_the_speed_of_their_piece(store):
    scene, subject, _ = globe(20)
    step = do.add_layer(scene, subject, "step", values={"y": 0.5, "order": "x", "overlap": 0.2, "ease": "steady"})
    do.set_key(scene, step.id, "strength", 1, 0.0)
    do.set_key(scene, step.id, "strength", 13, 1.0)
    do.set_segment(scene, step.id, "strength", 1, "linear")
    evaluator = Evaluator(scene.doc, scene, store)
    thing = scene.doc.find(subject)
    mesh = evaluator.mesh(thing)
    told = [bared(evaluator, thing, f) for f in range(1, 15)]
    each = np.concatenate([b.triangle for b in told])
    assert len(each) == len(np.unique(each)), "each is told once"
    walls = mesh.cut_from.face < 0
    area = trimesh.triangles.area(mesh.points[mesh.triangles[walls]]).sum()
    assert sum(b.area.sum() for b in told) == pytest.approx(area, rel=1e-3), "in the end all have parted"
    first = next(b for b in told if len(b.area))
    # a piece of 0.5 m goes its way in a fifth of 12 frames, the others stand: 0.5 / (0.2 * 12 / 24) m/s, or less
    # in its first frame, and its wall and the one that it left lie on each other's side
    speed = np.linalg.norm(first.speed, axis=1)
    assert speed.max() <= 0.5 / (0.2 * 12 / 24) + 1e-6 and (speed < 1e-9).any() and (speed > 0.1).any()
    assert len(bared(evaluator, thing, 1).area) == 0
