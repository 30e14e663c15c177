"""A parasol of oiled silk over a stall: its ribs are joints that one runner opens; a gust takes it, and it folds.

It starts folded: over the run-up it folds once from the open shape in which the silk was cut.
"""

import numpy as np
from scipy.spatial.transform import Rotation

from .. import edits as do
from ..edits import cloth, joints
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, disc, joined, tube
from ..scene.document import Document, Rest
from ..scene.scene import Scene

SILKS = ("Persimmon silk", (0.72, 0.24, 0.10)), ("Bone silk", (0.80, 0.70, 0.52))
BAMBOO, LACQUER = ("Bamboo", (0.46, 0.33, 0.16)), ("Lacquer", (0.10, 0.05, 0.05))
RIBS, ACROSS, DOWN = 8, 8, 18  # ribs; quads across a panel and along it
HIGH, INNER, OUTER, DROOP = 1.6, 0.08, 0.62, 0.30  # m, m from the shaft, m, rad below level when it is open
FOLDED, RUN = 1.14, 0.34  # rad that ribs turn down, m that the runner goes
OPENS, GUST, FOLDS, LAST = (10, 20), (54, 62, 84, 92), (112, 134), 156


def _angle(rib: float) -> float:
    return 2 * np.pi * rib / RIBS


def _on_rib(rib: int, out: np.ndarray) -> np.ndarray:
    """(m, 3) m of the open rib, so far (m,) from the shaft along it."""
    a = _angle(rib)
    level, down = out * np.cos(DROOP), out * np.sin(DROOP)
    return np.stack([level * np.cos(a), HIGH - down, level * np.sin(a)], axis=-1)


def canopy() -> tuple[Mesh, np.ndarray]:
    """(panels cut straight from rib to rib with a hollow hem, (n, ribs) share of each rib)."""
    out = np.linspace(INNER, OUTER, DOWN + 1)
    points, shares = [], []
    for rib in range(RIBS):
        one, two = _on_rib(rib, out), _on_rib((rib + 1) % RIBS, out)
        for k in range(ACROSS):
            s = k / ACROSS
            hem = 1 - 0.10 * 4 * s * (1 - s) * (np.arange(DOWN + 1) / DOWN) ** 3
            between = (1 - s) * one + s * two
            apex = [0, HIGH, 0]
            points.append(apex + (between - apex) * hem[:, None])
            share = np.zeros(RIBS)
            share[rib] += 1 - s
            share[(rib + 1) % RIBS] += s
            shares.append(np.repeat(share[None], DOWN + 1, axis=0))
    rays, rows = RIBS * ACROSS, DOWN + 1
    i, j = np.meshgrid(np.arange(rays), np.arange(DOWN), indexing="ij")
    a, b = i * rows + j, (i + 1) % rays * rows + j
    quads = np.stack([a, b, b + 1, a + 1], axis=-1).reshape(-1, 4)
    uv = np.stack([np.repeat(np.arange(rays) / rays, rows), np.tile(np.arange(rows) / DOWN, rays)], axis=1)
    stripes = (i // ACROSS % 2).ravel().astype(np.int32)
    mesh = Mesh(np.concatenate(points), np.full(len(quads), 4), quads.ravel(), uv, list(SILKS), stripes)
    return mesh, np.concatenate(shares)


def frame() -> tuple[Mesh, np.ndarray]:
    """(ribs, which stand on their joints, (n, ribs))."""
    out = np.array([0.015, OUTER + 0.012])
    lines = [tube(_on_rib(k, out) - [0, 0.008, 0], np.full(2, 0.005), 6) for k in range(RIBS)]
    rows = np.repeat(np.arange(RIBS), [m.count for m in lines])
    return coloured(joined(lines), *BAMBOO), np.eye(RIBS)[rows]


def stand() -> Mesh:
    shaft = tube(np.array([[0, 0.0, 0], [0, HIGH + 0.09, 0]]), np.full(2, 0.016), 12)
    tip = tube(np.array([[0, HIGH, 0], [0, HIGH + 0.02, 0], [0, HIGH + 0.06, 0]]), np.array([0.085, 0.07, 0.02]), 16)
    foot = disc(0.26, 3, 24)
    foot = joined([foot.with_points(foot.points + [0, 0.06, 0]), tube([[0, 0, 0], [0, 0.06, 0]], [0.26, 0.26], 24)])
    table = [box([-0.42, 0.46, -0.3], [0.42, 0.49, 0.3])]
    legs = [(x, z) for x in (-0.37, 0.37) for z in (-0.25, 0.25)]
    table += [box([x - 0.025, 0, z - 0.025], [x + 0.025, 0.46, z + 0.025]) for x, z in legs]
    boards = [box([-1.2 + 0.3 * k, -0.05, -1.0], [-0.93 + 0.3 * k, 0.0, 1.0]) for k in range(9)]
    wood = coloured(joined([shaft, *table, *boards]), *BAMBOO)
    return joined([wood, coloured(joined([tip, foot]), *LACQUER)])


def _skeleton(scene: Scene):
    """A runner, and ribs that hang on a hub: their X is the hinge, so that a turn about it folds them."""
    lines = [np.array([[0, HIGH - 0.45, 0], [0, HIGH - 0.40, 0]])]
    lines += [_on_rib(k, np.array([INNER, OUTER])) for k in range(RIBS)]
    made = joints.add_skeleton(scene, lines, "Parasol", "Rib")
    ready = []
    for k, joint in enumerate(made.joints):
        if k == 0:
            ready.append(joint.with_(name="Runner"))
            continue
        a = _angle(k - 1)
        hinge, ahead = np.array([np.sin(a), 0, -np.cos(a)]), np.diff(lines[k], axis=0)[0]
        ahead /= np.linalg.norm(ahead)
        turn = Rotation.from_matrix(np.stack([hinge, ahead, np.cross(hinge, ahead)], axis=1)).as_quat()
        rest = Rest(place=joint.rest.place, turn=tuple(turn.tolist()), tip=joint.rest.tip)
        ready.append(joint.with_(name=f"Rib {k}", rest=rest))
    scene.apply("Hinges", scene.doc.replace(made.with_(joints=tuple(ready))))
    runner, *ribs = ready
    do.set_values(scene, runner.id, {"look": "ring", "look_size": 0.14, "look_ink": "plum", "influence": 0.0})
    for rib in ribs:
        do.set_value(scene, rib.id, "look", "hidden")
        do.link(scene, rib.id, "turn_x", runner.id, "y", span=(-RUN, 0.0), to=(FOLDED, 0.0))
    for at, y in ((-40, 0.0), (-8, -RUN), (OPENS[0], -RUN), (OPENS[1], 0.0), (FOLDS[0], 0.0), (FOLDS[1], -RUN)):
        do.set_key(scene, runner.id, "y", at, y)
    # with the silk that they carry
    values = {"stiffness": 36.0, "tip_stiffness": 1.0, "mass": 0.2, "width": 0.16, "ratio": 0.12}
    do.add_layer(scene, made.id, "stems", "Ribs in the wind", values)
    return scene.doc.find(made.id)


def build() -> Scene:
    scene = Scene(Document(name="parasol", frame_rate=24, start=1, end=LAST, run_up=48))
    do.add_mesh(scene, stand(), "Stand and table")
    silk, shares = canopy()
    rig = _skeleton(scene)
    for mesh, own, name in ((*frame(), "Ribs"), (silk, shares, "Silk")):
        subject = do.add_mesh(scene, mesh, name)
        joints.put_skin(scene, subject.id, rig.id, np.hstack([np.zeros((len(own), 1)), own]))
    held = cloth.hold_along_joints(scene, subject.id, rig.id, width=0.002)
    do.set_values(scene, held.id, {
        "density": 0.09, "warp": 1500.0, "weft": 1500.0, "shear": 150.0, "bend": 5e-6, "damping": 1.0, "itself": True,
        "thickness": 0.0015,
    })  # fmt: skip
    do.rename(scene, held.id, "Oiled silk")
    do.add_layer(scene, subject.id, "tension", "Drawn tight", {"warp": 1.0, "weft": 0.995})
    do.add_thing(scene, "gravity", "Gravity")
    toward = do.add_thing(scene, "grip", "Wind off the sea", {
        "x": -0.7, "y": 1.1, "z": -0.9, "turn_x": -0.55, "turn_y": 0.6, "size": 0.4,
    })  # fmt: skip
    wind = do.add_thing(scene, "wind", "Gust", {
        "grip": toward.id, "gustiness": 0.3, "gust_length": 20.0, "turbulence": 0.06,
    })  # fmt: skip
    for at, speed in zip((1, *GUST), (1.0, 1.0, 11.0, 9.0, 1.0), strict=True):
        do.set_key(scene, wind.id, "speed", at, speed)
    do.add_thing(scene, "collider", "Shaft", {"shape": "capsule", "radius": 0.016, "reach": 0.75, "y": 0.85})
    return scene
