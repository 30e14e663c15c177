"""Scenes with cloth as a user sets them up: drapes, a curtain, a banner, a wing. Crossings are judged by ipctk."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.baking import keys
from estampa.edits import cloth, joints
from estampa.geometry.mesh import Mesh
from estampa.geometry.pieces import volume_of
from estampa.geometry.primitives import box, joined, sheet, tube
from estampa.scene.document import Document
from estampa.scene.reduce import Tolerance
from estampa.scene.scene import Scene
from tests.solve.test_contact import crossings


def scene_of(frames, **more) -> Scene:
    scene = Scene(Document(name="drapes", frame_rate=24, start=1, end=frames, **more))
    do.add_thing(scene, "gravity")
    return scene


def hung(wide, tall, columns, rows) -> Mesh:
    flat = sheet(wide, tall, columns, rows)
    return flat.with_points(flat.points[:, [0, 2, 1]] * [1, -1, 1])


def played(scene, store, *names):
    """frame -> points of each subject named, (n, 3) m."""
    evaluator = scene.evaluator(store)
    evaluator.solve_through(scene.doc.end)
    things = [next(t for t in scene.doc.things if t.name == name) for name in names]
    at = lambda frame: [evaluator.subject(t, frame).points for t in things]
    return {k: at(k) for k in range(scene.doc.start, scene.doc.end + 1)}


COTTON = {"density": 0.15, "drag": 0.3, "lift": 0.0, "itself": True, "thickness": 0.004}


@pytest.mark.slow
def test_a_curtain_is_drawn_along_its_rail(store):
    """Rings slide on a path; the first follows a grip that draws it to the side."""
    scene = scene_of(48)
    mesh = hung(1.2, 0.9, 41, 28)
    curtain = do.add_mesh(scene, mesh, "Curtain")
    rings = np.flatnonzero((mesh.points[:, 1] > -1e-9) & (np.arange(mesh.count) % 41 % 5 == 0))
    one = lambda rows: np.isin(np.arange(mesh.count), rows).astype(float)
    maps = [do.add_map(scene, curtain.id, one(rows), name) for rows, name in
            ((rings[1:-1], "Rings"), (rings[-1:], "First ring"), (rings[:1], "Last ring"))]  # fmt: skip
    do.add_layer(scene, curtain.id, "cloth", values={**COTTON, "pins": maps[2].id, "damping": 1.0})
    rail = do.add_thing(scene, "path", "Rail", spots=np.array([[-0.2, 0, 0], [1.4, 0, 0]]))
    hand = do.add_thing(scene, "grip", "Hand", {"x": 1.2})
    for frame, x in ((4, 1.2), (40, 0.45)):
        do.set_key(scene, hand.id, "x", frame, x)
    do.add_layer(scene, curtain.id, "hold_to", "On the rail", {"to": "path", "path": rail.id, "map": maps[0].id})
    do.add_layer(scene, curtain.id, "hold_to", "Drawn", {"grip": hand.id, "map": maps[1].id})
    toward = do.add_thing(scene, "grip", "Draught")
    # so that folds know which way
    do.add_thing(scene, "wind", values={"grip": toward.id, "speed": 1.0, "gustiness": 0.5})
    frames = played(scene, store, "Curtain")
    for points, *_ in list(frames.values())[::4]:
        assert crossings(points, mesh) == 0
        assert np.abs(points[rings][:, 1:]).max() < 0.003, "on the rail"
        assert (np.diff(points[rings][:, 0]) > 0).all(), "in their order"
    last = frames[48][0]
    assert np.ptp(last[rings][:, 0]) == pytest.approx(0.45, abs=0.01)
    assert np.ptp(last[:, 2]) > 0.08, "in folds"


@pytest.mark.slow
@pytest.mark.parametrize("speed", [1.0, 6.0])
def test_rings_on_a_rail_keep_their_order_and_their_width(store, speed):
    """A ring that is drawn pushes those that slide; common practice, no source."""
    far, mesh = 1.5, hung(1.2, 0.8, 13, 9)
    last = round(1 + 24 * far / speed) + 4
    scene = scene_of(last)
    curtain = do.add_mesh(scene, mesh, "Curtain")
    x, y = mesh.points[:, 0], mesh.points[:, 1]
    top = np.flatnonzero(np.isclose(y, y.max()))
    top = top[np.argsort(x[top])]
    only = lambda rows: np.isin(np.arange(mesh.count), rows).astype(float)
    rings, lead = (do.add_map(scene, curtain.id, only(r), n) for r, n in ((top, "Rings"), (top[:1], "Lead")))
    do.add_layer(scene, curtain.id, "cloth", "Cloth", {"meets": False})
    rail = do.add_thing(scene, "path", "Rail", spots=((-1, 0, 0), (4, 0, 0)))
    width = {"to": "path", "path": rail.id, "map": rings.id, "width": 0.03}
    do.add_layer(scene, curtain.id, "hold_to", "On the rail", width)
    hand = do.add_thing(scene, "grip", "Hand")
    for frame, value in ((1, 0.0), (1 + 24 * far / speed, far)):
        do.set_key(scene, hand.id, "x", frame, value, "linear")
    do.add_layer(scene, curtain.id, "hold_to", "Drawn", {"to": "grip", "grip": hand.id, "map": lead.id})
    for frame, (points,) in played(scene, store, "Curtain").items():
        along = points[top, 0]
        assert np.diff(along).min() > 0.03 - 0.002, f"frame {frame}: {np.diff(along).round(4)}"
    assert along[0] == pytest.approx(x.min() + far, abs=1e-4) and along[-1] > x.max() + 0.5, "they were pushed along"


def test_a_banner_tears_loose_where_a_hold_is_let_go(store):
    scene = scene_of(30)
    mesh = hung(0.8, 0.5, 17, 11)
    banner = do.add_mesh(scene, mesh, "Banner")
    corner = lambda i: (np.arange(mesh.count) == i).astype(float)
    stays, goes = (do.add_map(scene, banner.id, corner(i), n) for i, n in ((0, "Left"), (16, "Right")))
    do.add_layer(scene, banner.id, "cloth", values={"pins": stays.id})
    hook = do.add_thing(scene, "grip", "Hook", {"x": 0.8})
    do.add_layer(scene, banner.id, "hold_to", values={"grip": hook.id, "map": goes.id, "ends": True, "at": 10})
    frames = played(scene, store, "Banner")
    assert np.allclose(frames[9][0][16], [0.8, 0, 0], atol=1e-4)
    assert frames[10][0][16, 1] < -0.001, "from that frame on it falls"
    assert frames[24][0][16, 1] < -0.5 and np.allclose(frames[24][0][0], 0, atol=1e-4)


@pytest.mark.slow
def test_a_cloth_over_crates_is_dragged_off_by_the_hand_truck(store):
    scene = scene_of(72)
    crates = joined([box((-0.5, 0, -0.2), (-0.1, 0.3, 0.2)), box((-0.4, 0.301, -0.15), (-0.12, 0.5, 0.12))])
    truck = joined([box((0.08, 0.02, -0.18), (0.45, 0.06, 0.18)), box((0.08, 0.061, -0.18), (0.12, 0.55, 0.18))])
    do.add_mesh(scene, crates, "Crates")
    rolls = do.add_mesh(scene, truck, "Hand truck")
    for frame, x in ((36, 0.0), (60, 1.2)):
        do.set_key(scene, rolls.id, "x", frame, x)
    for name in ("Crates", "Hand truck"):
        subject = next(t for t in scene.doc.things if t.name == name)
        do.add_thing(scene, "collider", f"{name} are solid", {"shape": "mesh", "subject": subject.id, "friction": 0.2})
    do.add_thing(scene, "ground")
    mesh = sheet(1.1, 0.8, 45, 33)
    mesh = mesh.with_points(mesh.points - [0.6, -0.7, 0.4])
    tarp = do.add_mesh(scene, mesh, "Tarpaulin")
    do.add_layer(scene, tarp.id, "cloth", values={**COTTON, "damping": 1.0, "density": 0.3})
    frames = played(scene, store, "Tarpaulin", "Crates", "Hand truck")
    solid = [(crates.points, crates.triangles), (truck.points, truck.triangles)]
    for k in range(1, 73, 4):
        points = frames[k][0]
        here = [(p, t) for p, (_, t) in zip(frames[k][1:], solid, strict=True)]
        assert crossings(points, mesh, here) == 0, k
    over = np.linalg.norm(frames[36][0][:, [0, 2]] - [0.1, 0.0], axis=1) < 0.06
    assert frames[36][0][over, 1].max() > 0.54, "it lies over the truck's back"
    assert frames[72][0][:, 0].mean() > frames[36][0][:, 0].mean() + 0.6, "which takes it along"


@pytest.mark.slow
def test_two_cloths_lie_over_one_another(store):
    scene = scene_of(48)
    do.add_thing(scene, "collider", "Buoy", {"shape": "sphere", "radius": 0.15, "y": 0.15})
    do.add_thing(scene, "ground")
    both = do.add_thing(scene, "cloths", "Blankets")
    meshes = []
    for k, side in enumerate((0.6, 0.5)):
        mesh = sheet(side, side, 31, 31)
        mesh = mesh.with_points(mesh.points - [side / 2, -0.32 - 0.02 * k, side / 2])
        meshes.append(mesh)
        own = do.add_mesh(scene, mesh, f"Blanket {k + 1}")
        do.add_layer(scene, own.id, "cloth", values={**COTTON, "together": both.id})
    frames = played(scene, store, "Blanket 1", "Blanket 2")
    for k in range(1, 49, 4):
        under, over = frames[k]
        assert crossings(under, meshes[0], [(over, meshes[1].triangles)]) == 0, k
    middle = lambda p: p[np.linalg.norm(p[:, [0, 2]], axis=1) < 0.05, 1].mean()
    assert 0.29 < middle(frames[48][0]) + 0.002 < middle(frames[48][1]) < 0.32, "one on the other, on the buoy"


def test_a_wing_is_taut_lags_and_starts_without_a_jump(store):
    """A membrane between three fingers, which fold: what is held stays on them, what is between comes after."""
    scene = scene_of(40)
    angles = np.radians([20, 60, 100])
    ends = [0.6 * np.array([np.cos(a), np.sin(a), 0]) for a in angles]
    out, turn = np.linspace(0.08, 1, 15), np.linspace(angles[0], angles[2], 21)
    points = 0.6 * np.stack([np.outer(np.cos(turn), out), np.outer(np.sin(turn), out), np.zeros((21, 15))], axis=2)
    flat = sheet(1, 1, 15, 21)
    mesh = Mesh(points.reshape(-1, 3), flat.face_counts, flat.face_indices, flat.uv)
    wing = do.add_mesh(scene, mesh, "Wing")
    fingers = joints.add_skeleton(scene, [joints.straight(0.05 * e, e, 2) for e in ends], "Fingers", "Finger")
    share = np.clip(1 - np.abs(turn[:, None] - angles[None]) / np.radians(40), 0, 1)
    dense = np.zeros((mesh.count, 6))
    dense[:, [0, 2, 4]] = np.repeat(share, 15, axis=0)
    outer = np.tile(out > 0.52, 21)
    dense[outer] = np.roll(dense[outer], 1, axis=1)
    joints.put_skin(scene, wing.id, fingers.id, dense)
    held = cloth.hold_along_joints(scene, wing.id, fingers.id)
    do.set_values(scene, held.id, {"drag": 1.2, "density": 0.1})
    do.add_layer(scene, wing.id, "tension", values={"warp": 0.97, "weft": 0.97})
    roots = [j for j in fingers.joints if not j.values.get("parent")]
    for joint in roots:
        for frame, angle in ((8, 0.0), (16, 0.3)):
            do.set_key(scene, joint.id, "turn_x", frame, angle)
    on_fingers = scene.arrays.get(scene.doc.find(wing.id).maps[0].weights) > 0.5
    assert on_fingers.sum() >= 3 * 13
    frames = {k: p for k, (p,) in played(scene, store, "Wing").items()}
    moved = [np.linalg.norm(frames[k + 1] - frames[k], axis=1).max() for k in range(1, 7)]
    assert max(moved) < 0.012, "it is drawn tight without a jump"
    do.set_on(scene, held.id, False)
    skin = scene.evaluate(16)["Wing"]
    off = np.linalg.norm(frames[16] - skin, axis=1)
    assert off[on_fingers].max() < 1e-4 < 0.01 < off[~on_fingers].max(), "it lags between the fingers"
    slack = np.linalg.norm(frames[40] - scene.evaluate(40)["Wing"], axis=1)
    assert slack.max() < 0.08, "and comes to rest near the skin"


def test_a_soft_body_swims_and_bends_the_joints_that_aim_at_it(store):
    """A cage rides on the front joint, soft towards its tail; it keeps its volume, and joints aim at parts of it."""
    scene = scene_of(48)
    front = joints.add_skeleton(scene, [joints.straight(np.array([0, 1, 0.0]), np.array([0, 1, -0.15]), 1)], "Front")
    back = joints.add_skeleton(
        scene, [joints.straight(np.array([0, 1, -0.15]), np.array([0, 1, -0.95]), 4)], "Back", "Tail"
    )
    do.set_value(scene, back.id, "parent", front.joints[0].id)
    do.set_value(scene, back.id, "z", 0.0)
    for frame in range(1, 50, 6):
        do.set_key(scene, front.joints[0].id, "turn_z", frame, 0.35 * (-1) ** (frame // 6))
    t = np.linspace(0, 1, 13)
    body = tube(np.outer(t, [0, 0, -1.0]) + [0, 1, 0], 0.04 + 0.14 * np.sin(np.pi * (0.06 + 0.88 * t)), 10)
    cage = do.add_mesh(scene, body, "Cage")
    joints.put_skin(scene, cage.id, front.id, np.ones((body.count, 1)))
    share = np.clip((-body.points[:, 2] - 0.15) / 0.85, 0, 1)
    firm = do.add_map(scene, cage.id, np.where(share <= 0, 1.0, 0.5 * (1 - share)), "Firm in front")
    values = {"pins": firm.id, "hold": 3.0, "bend": 1e-3, "density": 0.3, "drag": 0.6, "damping": 0.5}
    do.add_layer(scene, cage.id, "cloth", values=values)
    do.add_layer(scene, cage.id, "pressure", values={"keeps": "volume"})
    do.set_on(scene, next(f.id for f in scene.doc.things if f.kind == "gravity"), False)
    for k, strength in enumerate((0.25, 0.5, 0.75)):
        part = do.add_map(scene, cage.id, (np.abs(share - 0.4 - 0.3 * k) < 0.06).astype(float), f"Part {k}")
        joint = back.joints[k + 1].id
        aim = {"target": cage.id, "target_map": part.id, "first": joint, "last": joint, "strength": strength}
        do.add_layer(scene, back.id, "aim", values=aim)
    frames = {k: p for k, (p,) in played(scene, store, "Cage").items()}
    volume = lambda p: volume_of(p, body.triangles)
    assert all(volume(p) == pytest.approx(volume(body.points), rel=0.02) for p in frames.values())
    side = lambda rows: np.array([frames[k][rows, 0].mean() for k in frames])
    head, tail = side((share > 0.3) & (share < 0.4)), side(share > 0.95)
    assert np.ptp(tail[12:]) > 1.5 * np.ptp(head[12:]), "it lashes more towards the tail"
    late = [np.corrcoef(head[12 : 48 - d], tail[12 + d : 48])[0, 1] for d in range(6)]
    assert int(np.argmax(late)) >= 1, "and later"
    made = keys.bake(scene, back.id, frames=(1, 48), tolerance=Tolerance(), store=store)
    live = scene.evaluator(store).poses.at(scene.doc.find(back.id), 30).pose.matrices
    keys.put(scene, made)
    assert np.abs(scene.evaluator(store).poses.at(scene.doc.find(back.id), 30).pose.matrices - live).max() < 0.02
