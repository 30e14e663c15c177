"""A paper puppet over a stall's stage: it bows, goes limp, is struck by a buoy on its rope, and is pulled up again."""

import numpy as np

from .. import edits as do
from ..edits import joints, ragdoll
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined, tube
from ..scene.document import Document
from ..scene.scene import Scene

PAPER, RED, INK = ("Bone paper", (0.80, 0.72, 0.56)), ("Red paper", (0.62, 0.10, 0.07)), ("Ink", (0.05, 0.06, 0.08))
BAMBOO, CORK = ("Bamboo", (0.46, 0.33, 0.16)), ("Cork float", (0.72, 0.34, 0.12))
SCALE, LIFT = 0.36, 0.30  # of a figure of 1.72 m, and m that the stage stands high
LIMP, STRUCK, PULLED, UP, LAST = 30, 37, 92, 108, 150  # frames


def _line(*points) -> np.ndarray:
    return np.array(points, float) * SCALE + [0, LIFT, 0]


def _skeleton(scene: Scene):
    trunk = _line([0, 0.95, 0], [0, 1.15, 0], [0, 1.45, 0], [0, 1.75, 0])
    made = joints.add_skeleton(scene, [trunk], "Puppet", "x")
    hips, spine, head = [j.id for j in made.joints]
    for joint, name in ((hips, "Hips"), (spine, "Chest"), (head, "Head")):
        do.rename(scene, joint, name)
    for side, x in (("left", 1), ("right", -1)):
        arm = _line([0.19 * x, 1.42, 0], [0.45 * x, 1.40, 0], [0.72 * x, 1.42, 0])
        leg = _line([0.10 * x, 0.95, 0], [0.11 * x, 0.5, 0.0], [0.12 * x, 0.03, 0])
        for above, way, names in ((spine, arm, ("Upper arm", "Lower arm")), (hips, leg, ("Thigh", "Shin"))):
            for joint, name in zip(joints.extend(scene, above, made.id, way, "x"), names, strict=True):
                do.rename(scene, joint.id, f"{name} {side}")
    return scene.doc.find(made.id)


def _slip(start, end, wide: float, at_end: float, thick: float = 0.012) -> Mesh:
    """A slip of stiff paper between two points of the X-Y plane, so wide at its start and end, with rounded corners."""
    start, end = np.asarray(start, float), np.asarray(end, float)
    way = (end - start) / np.linalg.norm(end - start)
    side = np.array([-way[1], way[0], 0.0])
    long = np.linalg.norm(end - start)
    rows = [(-0.02, 0.5 * wide), (0.02, wide), (0.5 * long, 0.5 * (wide + at_end)), (long - 0.02, at_end),
            (long + 0.02, 0.5 * at_end)]  # fmt: skip
    points = []
    for z in (-thick / 2, thick / 2):
        points += [start + way * a + side * b / 2 * s + [0, 0, z] for a, b in rows for s in (-1, 1)]
    n, quads = len(rows), []
    for k in range(n - 1):
        a, b = 2 * k, 2 * k + 1
        quads += [[a, a + 2, b + 2, b], [2 * n + a, 2 * n + b, 2 * n + b + 2, 2 * n + a + 2]]
        quads += [[a, 2 * n + a, 2 * n + a + 2, a + 2], [b, b + 2, 2 * n + b + 2, 2 * n + b]]
    quads += [[0, 1, 2 * n + 1, 2 * n], [2 * n - 2, 4 * n - 2, 4 * n - 1, 2 * n - 1]]
    return Mesh(np.array(points), np.full(len(quads), 4), np.ravel(quads))


def _figure(bones) -> tuple[Mesh, np.ndarray]:
    """(slips of paper, one a joint, (n, joints) whole weights)."""
    wide = {"Hips": (0.26, 0.20), "Chest": (0.22, 0.34), "Head": (0.16, 0.20), "Upper": (0.11, 0.09),
            "Lower": (0.09, 0.07), "Thigh": (0.14, 0.11), "Shin": (0.11, 0.08)}  # fmt: skip
    parts, rows = [], []
    starts, ends = bones.segment_ends(bones.at_rest)
    joint = bones.segments[0]
    for i, thing in enumerate(bones.joints):
        a, b = (np.array(w) * SCALE for w in wide[thing.name.split()[0]])
        first = np.flatnonzero(joint == i)[0]
        slip = _slip(starts[first], ends[first], a, b, 0.03 * SCALE)
        ink = RED if thing.name.split()[0] in ("Chest", "Hips", "Upper") else PAPER
        made = [coloured(slip, *ink)]
        if thing.name == "Head":
            for x in (-0.04, 0.04):
                eye = np.array([x, 1.62, 0.016]) * SCALE + [0, LIFT, 0]
                made.append(coloured(tube([eye, eye + [0, 0, 0.004]], [0.006, 0.006], 10), *INK))
        parts += made
        rows += [i] * sum(m.count for m in made)
    return joined(parts), np.eye(len(bones.joints))[rows]


def _stage() -> Mesh:
    boards = [box([-0.9 + 0.2 * k, LIFT - 0.03, -0.4], [-0.715 + 0.2 * k, LIFT, 0.4]) for k in range(9)]
    posts = [box([x - 0.03, 0, z - 0.03], [x + 0.03, LIFT - 0.03, z + 0.03]) for x in (-0.8, 0.8) for z in (-0.3, 0.3)]
    return coloured(joined(boards + posts), *BAMBOO)


def build() -> Scene:
    scene = Scene(Document(name="puppet", frame_rate=24, start=1, end=LAST))
    do.add_mesh(scene, _stage(), "Stage")
    made = _skeleton(scene)
    mesh, weights = _figure(scene.values.bones(made))
    subject = do.add_mesh(scene, mesh, "Paper figure")
    joints.put_skin(scene, subject.id, made.id, weights)
    layer = ragdoll.make_limp(scene, made.id)
    do.set_values(scene, layer.id, {"weight": 0.35, "begins": "frame", "at": LIMP, "turn_damping": 1.5, "damping": 0.2})
    for name, hertz in (("spring", 5.0), ("lifted", 6.0)):
        for frame, value in ((PULLED, 0.0), (UP, hertz)):
            do.set_key(scene, layer.id, name, frame, value)
    named = {j.name: j.id for j in scene.doc.find(made.id).joints}
    for name, joint in named.items():
        look = {"look": "ring", "look_size": 0.1} if name in ("Hips", "Head") else {"look": "hidden"}
        do.set_values(scene, joint, look)
    for joint, channel, keys in (
        ("Chest", "turn_x", ((1, 0.0), (12, 0.5), (24, 0.1), (30, 0.0))),
        ("Upper arm left", "turn_z", ((1, 0.0), (12, -0.6), (22, 0.5), (30, 0.3))),
        ("Lower arm left", "turn_z", ((1, 0.0), (12, 0.4), (22, 0.9), (30, 0.4))),
        ("Upper arm right", "turn_z", ((1, 0.0), (12, 0.6), (22, 0.2), (30, 0.0))),
    ):
        for frame, value in keys:
            do.set_key(scene, named[joint], channel, frame, value)
    rope = do.add_thing(scene, "grip", "Rope's end", {"x": 0.05, "y": LIFT + 1.36, "z": 0.0})
    float_ = tube([[0, -1.22, 0], [0, -1.19, 0], [0, -1.08, 0], [0, -1.05, 0]], [0.02, 0.085, 0.085, 0.02], 20)
    cord = tube([[0, -1.05, 0], [0, 0, 0]], [0.006, 0.006], 8)
    buoy = do.add_mesh(scene, joined([coloured(float_, *CORK), coloured(cord, *INK)]), "Buoy on a rope")
    do.set_values(scene, buoy.id, {"parent": rope.id, "y": 0.0})
    swing = ((1, 1.0), (STRUCK - 14, 1.0), (STRUCK, 0.0), (STRUCK + 10, -0.35), (STRUCK + 34, 1.0))
    for frame, angle in swing:
        do.set_key(scene, rope.id, "turn_z", frame, angle)
    do.add_layer(scene, buoy.id, "body", "Buoy drives", {"moved": "driven", "shape": "hulls", "friction": 0.3})
    do.add_thing(scene, "gravity", "Gravity")
    do.add_thing(scene, "ground", "Boards", {"height": LIFT})
    bodies = scene.doc.of_kind("bodies")[0]
    do.rename(scene, bodies.id, "Puppet and buoy")
    do.add_thing(scene, "skinned_mesh", "Puppet (skinned mesh)", {"file": "puppet", "subject": subject.id})
    return scene
