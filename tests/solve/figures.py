"""Figures of 11, 17 and 24 joints, in poses of their own, for trials of ragdolls: falls, energy, hinges, limits."""

from dataclasses import dataclass

import numpy as np
import trimesh

from estampa import edits as do
from estampa.edits import joints as build
from estampa.edits import ragdoll
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry import pose as turns
from estampa.geometry.mesh import Mesh
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.solve.bodies.limbs import hinge_axes
from estampa.solve.bodies.model import Model

G = 9.80665  # m/s2, CGPM 1901


def figure(joints: int, tall: float = 1.75, last: int = 96, **values) -> tuple[Scene, str, str]:
    """(scene, skeleton, layer) of a figure of 11, 17 or 24 joints that stands with its arms held out; no ground."""
    scene = Scene(Document(name="figure", start=1, end=last))
    k = tall / 1.75
    line = lambda *points: np.array(points, float) * k
    heights = {11: (0.95, 1.15, 1.45, 1.72), 17: (0.95, 1.12, 1.28, 1.45, 1.54, 1.75)}
    heights[24] = (0.95, 1.05, 1.16, 1.28, 1.45, 1.54, 1.75)
    names = {11: ("Hips", "Spine", "Head"), 17: ("Hips", "Spine", "Chest", "Neck", "Head")}
    names[24] = ("Hips", "Spine lower", "Spine upper", "Chest", "Neck", "Head")
    made = build.add_skeleton(scene, [line(*([0, y, 0] for y in heights[joints]))], "Figure", "Trunk")
    trunk = [j.id for j in made.joints]
    for joint, name in zip(trunk, names[joints], strict=True):
        do.rename(scene, joint, name)
    chest = trunk[-3] if joints > 11 else trunk[1]
    for side, x in (("left", 1), ("right", -1)):
        arm = [[0.17 * x, 1.42, 0], [0.45 * x, 1.42, 0], [0.72 * x, 1.42, 0]]
        leg = [[0.1 * x, 0.95, 0], [0.1 * x, 0.5, 0], [0.1 * x, 0.08, 0]]
        arms, legs = ["upper arm", "lower arm"], ["thigh", "shin"]
        if joints > 11:
            arm.append([0.88 * x, 1.42, 0])
            leg.append([0.1 * x, 0.03, 0.2])
            arms.append("hand")
            legs.append("foot")
        if joints == 24:  # collar bones, toes and the tips of hands
            arm = [[0.04 * x, 1.43, 0], *arm, [0.96 * x, 1.42, 0]]
            arms = ["collar", *arms, "tips"]
            leg.append([0.1 * x, 0.03, 0.28])
            legs.append("toes")
        for above, way, words in ((chest, arm, arms), (trunk[0], leg, legs)):
            for joint, word in zip(build.extend(scene, above, made.id, line(*way), "x"), words, strict=True):
                do.rename(scene, joint.id, f"{word} {side}")
    assert len(scene.doc.find(made.id).joints) == joints
    layer = ragdoll.make_limp(scene, made.id)
    do.set_values(scene, layer.id, values)
    do.add_thing(scene, "gravity", values={"pull": G})
    return scene, made.id, layer.id


def posed(scene: Scene, skeleton: str, number: int, up: float) -> None:
    """Turn the joints of a figure within their limits, and all of it any way, by chance; and lift it by `up` m."""
    dice = np.random.default_rng(number)
    thing = scene.doc.find(skeleton)
    bones = scene.values.bones(thing)
    for joint in thing.joints[1:]:
        angles = dice.uniform(-0.5, 0.5, 3) * [joint.constant("cone"), joint.constant("twist"), joint.constant("cone")]
        if joint.constant("bends") == "hinge":
            bent = dice.uniform(0, 0.6) * joint.constant("bend_far")
            turn = turns.from_vectors(hinge_axes(bones, np.array([bones.where[joint.id]])) * bent)
            angles = turns.to_euler(turn)[0]
        do.set_values(scene, joint.id, dict(zip(("turn_x", "turn_y", "turn_z"), angles.tolist(), strict=True)))
    lean = dice.uniform(-1, 1, 3) * [np.pi, np.pi, np.pi] if number else np.zeros(3)
    do.set_values(scene, skeleton, dict(zip(("turn_x", "turn_y", "turn_z"), lean.tolist(), strict=True)))
    do.set_value(scene, skeleton, "y", 0.0)
    evaluator = Evaluator(scene.doc, scene, None)
    world = evaluator.poses.world(scene.doc.find(skeleton), 1, [])
    low = world[:, 1, 3].min()
    do.set_value(scene, skeleton, "y", float(up - low + 0.15))


@dataclass
class Fall:
    """What a solved fall is, frame by frame."""

    energy: np.ndarray  # (frames,) J
    parts: np.ndarray  # (frames,) m, the widest hinge
    past: np.ndarray  # (frames,) rad, the joint that is furthest past a limit
    awake: np.ndarray  # (frames,) whether any limb moves
    low: np.ndarray  # (frames,) m, the lowest middle of a limb
    frames: list

    @property
    def rise(self) -> float:
        """The largest rise of energy in a frame, as a share of what it began with."""
        return float(np.diff(self.energy).max() / abs(self.energy[0]))


def fallen(scene: Scene, store, until: int | None = None) -> Fall:
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(until or scene.doc.end)
    run = evaluator.runs.every()[0]
    model = Model.of(evaluator.runs.inputs(run, 1))
    hinges = model.hinges[0]
    mass = model.mass[hinges.span]
    rag = model.ragdolls
    frames = [store.frame(evaluator.runs.key(run, f)) for f in range(1, (until or scene.doc.end) + 1)]
    found = [[], [], [], [], []]
    for frame in frames:
        rows = {
            n: frame["bodies"][n][hinges.span].astype(float) for n in ("position", "turn", "velocity", "spin", "asleep")
        }
        q = turns.product(rows["turn"], rag.axes)
        inward = turns.turned(turns.inverse(q), rows["spin"])
        moving = (
            0.5 * (mass * (rows["velocity"] ** 2).sum(axis=1)).sum()
            + 0.5 * (inward**2 / rag.bodies.inverse_inertia).sum()
        )
        found[0].append(moving + G * (mass * rows["position"][:, 1]).sum())
        own, up = rag.joints.own, rag.joints.up
        end = lambda who, arm: rows["position"][who] + turns.turned(q[who], arm)  # noqa: B023
        found[1].append(np.linalg.norm(end(own, rag.joints.arm_own) - end(up, rag.joints.arm_up), axis=1).max())
        away = turns.product(
            turns.inverse(turns.product(q[up], rag.joints.frame_up)), turns.product(q[own], rag.joints.frame_own)
        )
        swing = 2 * np.arctan2(np.hypot(away[:, 1], away[:, 2]), np.hypot(away[:, 0], away[:, 3]))
        twist = np.abs((2 * np.arctan2(away[:, 0], away[:, 3]) + np.pi) % (2 * np.pi) - np.pi)
        found[2].append(max((swing - rag.joints.cone).max(), (twist - rag.joints.reach).max()))
        found[3].append(bool((rows["asleep"] == 0).any()))
        found[4].append(rows["position"][:, 1].min())
    return Fall(*(np.array(x) for x in found), frames)


THICK = {
    "Hips": 0.16,
    "Spine": 0.15,
    "Spine lower": 0.15,
    "Spine upper": 0.15,
    "Chest": 0.17,
    "Neck": 0.06,
    "Head": 0.1,
}  # m


def dressed(scene: Scene, skeleton: str) -> trimesh.Trimesh:
    """Give a figure a closed skin, a union of hulls about its joints and wider than deep, and bind it to them."""
    import manifold3d as m3

    bones = scene.values.bones(scene.doc.find(skeleton))
    starts, ends = bones.segment_ends(bones.at_rest)
    parts = []
    for i, a, b in zip(bones.segments[0], starts, ends, strict=True):
        name = bones.joints[i].name
        radius = THICK.get(name.split()[0], 0.045 if "arm" in name else 0.075 if "thigh" in name else 0.05)
        ball = trimesh.creation.icosphere(2, radius).vertices * [1.25, 1, 0.75]
        parts.append(m3.Manifold.hull_points(np.concatenate([ball + a, ball + b])))
    made = m3.Manifold.batch_boolean(parts, m3.OpType.Add).simplify(1e-3).refine_to_length(0.05).to_mesh64()
    body = trimesh.Trimesh(made.vert_properties[:, :3], made.tri_verts.astype(int), process=False)
    assert body.is_watertight
    subject = do.add_mesh(scene, Mesh.from_triangles(body.vertices, body.faces), "Skin")
    build.bind_skin(scene, subject.id, skeleton)
    return body
