"""The edits that build skeletons and bind meshes to them; all can be undone."""

import numpy as np

from ..errors import EstampaError
from ..geometry import pose as turns
from ..geometry import weights as bound
from ..geometry.mesh import Mesh
from ..geometry.pose import Pose, pose_of
from ..motion.cage import coordinates
from ..scene.bones import Bones, hand_pose
from ..scene.document import Bind, Document, Rest, Thing
from ..scene.ids import new_id
from ..scene.limits import MOST_JOINTS
from ..scene.scene import Scene
from ..scene.skeleton import OWN, POSED
from ..scene.values import Rows
from .names import Names, thing_named, unique_name
from .things import add_layer

BIND_WAYS = {"heat": "Heat over the surface", "nearest": "Nearest joint, for loose planes"}


# -- building ------------------------------------------------------------------------------------------------
def add_skeleton(scene: Scene, lines: list[np.ndarray], name: str = "Skeleton", joint_name: str = "Joint") -> Thing:
    """Add a skeleton with a strand of joints along each line of points (m, 3), metres in the world; the last point of a
    line is where its last joint ends. Raises EstampaError when a strand has no length."""
    _refuse_many(name, sum(len(line) - 1 for line in lines))
    joints, names = [], Names(scene.doc)
    for line in lines:
        joints += _strand(line, None, np.eye(4), joint_name, names)
    skeleton = Thing(kind="skeleton", name=unique_name(scene.doc, name), joints=tuple(joints))
    scene.apply(f"Add {skeleton.name}", scene.doc.adding(skeleton))
    return skeleton


def extend(scene: Scene, joint_id: str | None, skeleton_id: str, line, joint_name: str = "Joint") -> list[Thing]:
    """Hang a strand of joints along a line (m, 3), metres in the world, on a joint, or on the skeleton itself."""
    skeleton = thing_named(scene, skeleton_id)
    bones = scene.values.bones(skeleton)
    above = scene.values.place(skeleton, Rows.one(scene.doc.start)).matrices[0]
    if joint_id is not None:
        above = above @ bones.at_rest[bones.where[joint_id]]
    _refuse_many(skeleton.name, len(bones) + len(line) - 1)
    made = _strand(line, joint_id, above, joint_name, Names(scene.doc))
    joints = list(skeleton.joints)
    if joint_id is not None and not bones.children[bones.where[joint_id]]:
        i = bones.where[joint_id]  # it ends where the new one begins
        rest = joints[i].rest or Rest()
        joints[i] = joints[i].with_(rest=rest.with_(tip=made[0].rest.place))
    scene.apply(f"Extend {skeleton.name}", scene.doc.replace(skeleton.with_(joints=(*joints, *made))))
    return made


def _strand(line, parent, above, joint_name, names) -> list[Thing]:
    line = np.asarray(line, float)
    steps = np.linalg.norm(np.diff(line, axis=0), axis=1) if len(line) > 1 else np.zeros(0)
    if len(line) < 2 or (steps < 1e-9).any():
        raise EstampaError(
            "A joint",
            "would have no length: two points of the strand are in one place.",
            "Click points that lie apart, or take fewer joints.",
        )
    made = []
    back = np.linalg.inv(above)
    local = line @ back[:3, :3].T + back[:3, 3]
    standing, at = turns.turns_of(np.eye(3)[None])[0], np.zeros(3)
    axis = np.array([0.0, 1, 0])
    for k in range(len(line) - 1):
        ahead = local[k + 1] - local[k]
        own = turns.product(turns.between(turns.turned(standing, axis), ahead), standing)
        turn = turns.product(turns.inverse(standing), own)
        place = turns.turned(turns.inverse(standing), local[k] - at)
        rest = Rest(place=_row(place), turn=_row(turn), tip=(0.0, float(np.linalg.norm(ahead)), 0.0))
        values = {"parent": parent} if parent else {}
        joint = Thing(kind="joint", name=names.numbered(joint_name), rest=rest, values=values)
        made.append(joint)
        parent, standing, at = joint.id, own, local[k]
    return made


def _row(values) -> tuple:
    return tuple(float(x) for x in values)


def _refuse_many(name, count):
    if count > MOST_JOINTS:
        raise EstampaError(name, f"would have {count:,} joints.", f"At most {MOST_JOINTS:,} are made; take fewer.")


def straight(start, end, count: int) -> np.ndarray:
    """(count + 1, 3) points of a straight strand of so many joints."""
    return np.linspace(np.asarray(start, float), np.asarray(end, float), count + 1)


def along_path(line, count: int) -> np.ndarray:
    """(count + 1, 3) points at even distances along a path. line -- geometry.paths.Sampled, in the world."""
    return line.at(np.linspace(0, line.length, count + 1))[0]


def bead_lines(mesh: Mesh, every: int = 1) -> list[np.ndarray]:
    """Strands of joints for a mesh of beads: islands that follow one another closely are one string, from its highest
    bead down; a joint a bead, or one every n. Each line goes through the middles of the beads, on to the last one's
    end."""
    count = mesh.island_count
    if count < 2:
        raise EstampaError("The beads", "are one island.", "Use a mesh whose beads are separate parts.")
    middle, radius = mesh.island_middles, _bead_sizes(mesh)
    lines = []
    for string in _strings(middle, radius):
        points = middle[string]
        points = points[:: max(every, 1)]
        last = points[-1] - points[-2] if len(points) > 1 else np.array([0.0, -1, 0])
        end = points[-1] + last / np.linalg.norm(last) * radius[string[-1]]
        lines.append(np.vstack([points, end]))
    return lines


def bead_radius(mesh: Mesh) -> float:
    """Half the thickness across its string of the thickest bead, in the mesh's own unit, so that strings that touch do
    not overlap."""
    widest = 0.0
    middle = mesh.island_middles
    for string in _strings(middle, _bead_sizes(mesh)):
        along = np.gradient(middle[string], axis=0) if len(string) > 1 else np.array([[0.0, -1, 0]])
        along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-12)
        for bead, way in zip(string, along, strict=True):
            away = mesh.points[mesh.islands == bead] - middle[bead]
            widest = max(widest, float(np.linalg.norm(away - np.outer(away @ way, way), axis=1).max()))
    return widest


def _bead_sizes(mesh: Mesh) -> np.ndarray:
    """(islands,) how far each bead reaches from its middle."""
    away = np.linalg.norm(mesh.points - mesh.island_middles[mesh.islands], axis=1)
    radius = np.zeros(mesh.island_count)
    np.maximum.at(radius, mesh.islands, away)
    return radius


def _strings(middle, radius) -> list[np.ndarray]:
    """Beads sorted into strings: each bead is tied to the nearest that is not yet on a string, when it is close."""
    from scipy.spatial import cKDTree

    tree, left, found = cKDTree(middle), set(range(len(middle))), []
    gaps = tree.query(middle, k=2)[0][:, 1]
    reach = 2.2 * float(np.median(gaps))
    for start in np.lexsort((middle[:, 0], middle[:, 2], -middle[:, 1])):
        if start not in left:
            continue
        string = [int(start)]
        left.discard(int(start))
        while True:
            near = [int(i) for i in tree.query_ball_point(middle[string[-1]], reach) if int(i) in left]
            if not near:
                break
            ahead = middle[string[-1]] - middle[string[-2]] if len(string) > 1 else np.array([0.0, -1, 0])
            ahead = ahead / max(np.linalg.norm(ahead), 1e-9)
            step = middle[near] - middle[string[-1]]
            far = np.linalg.norm(step, axis=1)
            bend = 1 - step @ ahead / np.maximum(far, 1e-9)  # straight on first, sideways last
            following = near[int(np.argmin(far * (1 + 2 * bend)))]
            if bend.min() > 0.8 and len(string) > 1:
                break
            string.append(following)
            left.discard(following)
        found.append(np.array(string))
    return found


# -- changing ------------------------------------------------------------------------------------------------
def _rebuilt(scene: Scene, skeleton: Thing, joints, label: str) -> None:
    Bones.of(skeleton.with_(joints=tuple(joints)))  # refuses rings
    scene.apply(label, scene.doc.replace(skeleton.with_(joints=tuple(joints))))


def skeleton_of(scene: Scene, joint_id: str) -> Thing:
    owner = scene.doc.owner(joint_id)
    if owner is None or all(j.id != joint_id for j in owner.joints):
        raise EstampaError("This", "is for joints.", "Select a joint in the roster or in the view first.")
    return owner


def subdivide(scene: Scene, joint_id: str, parts: int = 2) -> list[Thing]:
    """Cut a joint into so many along its length; what hangs on its end hangs on the last of them."""
    skeleton = skeleton_of(scene, joint_id)
    bones = scene.values.bones(skeleton)
    i = bones.where[joint_id]
    joint, tip = bones.joints[i], bones.tips[i]
    if np.linalg.norm(tip) < 1e-9:
        raise EstampaError(joint.name, "has no length to be cut.", "Give it an end first: extend it.")
    step, names = tip / parts, Names(scene.doc)
    joints, last = list(bones.joints), joint
    made = []
    for _ in range(parts - 1):
        rest = Rest(place=_row(step), tip=_row(step))
        added = Thing(kind="joint", name=names.numbered(joint.name), rest=rest, values={"parent": last.id})
        made.append(added)
        last = added
    for k in bones.children[i]:
        rest = bones.joints[k].rest or Rest()
        ends_here = np.linalg.norm(np.array(rest.place) - tip) < 1e-6 * max(np.linalg.norm(tip), 1e-9)
        if ends_here:
            values = {**bones.joints[k].values, "parent": last.id}
            joints[k] = bones.joints[k].with_(rest=rest.with_(place=_row(step)), values=values)
    joints[i] = joint.with_(rest=(joint.rest or Rest()).with_(tip=_row(step)))
    at = i + 1
    _rebuilt(scene, skeleton, [*joints[:at], *made, *joints[at:]], f"Subdivide {joint.name}")
    return made


def mirror(scene: Scene, joint_id: str, axis: str = "x") -> list[Thing]:
    """Mirror a joint and all that hang on it across a plane through the skeleton's origin, across its X, Y or Z.

    Left becomes right in the names. The mirrored joints are proper turns, with no negative stretch.
    """
    skeleton = skeleton_of(scene, joint_id)
    bones = scene.values.bones(skeleton)
    across = "xyz".index(axis)
    flip = np.ones(3)
    flip[across] = -1
    picked = bones.below(bones.where[joint_id])
    ids = {int(i): new_id() for i in picked}
    names, made, standing = Names(scene.doc), [], {}
    for i in picked:
        matrix = bones.at_rest[i].copy()
        # mirrored in space, and about its own X too, so that it is a turn again
        matrix[:3] = flip[:, None] * matrix[:3]
        matrix[:3, 0] *= -1
        parent = int(bones.parents[i])
        above = standing.get(parent, bones.at_rest[parent] if parent >= 0 else np.eye(4))
        standing[int(i)] = matrix
        own = pose_of((np.linalg.inv(above) @ matrix)[None])
        joint = bones.joints[i]
        name = names.plain(_mirrored_name(joint.name))
        hangs = ids.get(parent) or (bones.joints[parent].id if parent >= 0 else None)
        tip = bones.tips[i] * [-1, 1, 1]
        rest = Rest(place=_row(own.place[0]), turn=_row(own.turn[0]), stretch=_row(own.stretch[0]), tip=_row(tip))
        values = {n: v for n, v in joint.values.items() if n in OWN}
        values |= {"parent": hangs} if hangs else {}
        made.append(Thing(id=ids[int(i)], kind="joint", name=name, rest=rest, values=values))
    _rebuilt(scene, skeleton, [*bones.joints, *made], f"Mirror {bones.joints[picked[0]].name}")
    return made


def _mirrored_name(name: str) -> str:
    for a, b in (("left", "right"), ("Left", "Right"), ("LEFT", "RIGHT")):
        if a in name:
            return name.replace(a, b)
        if b in name:
            return name.replace(b, a)
    return f"{name} mirrored"


def rename_joints(scene: Scene, joint_ids: list[str], base: str, first: int = 1) -> None:
    """Name joints by a base and numbers, in their order down the skeleton."""
    base = base.strip()
    if not base or not joint_ids:
        raise EstampaError("The joints", "need a base name.", "Type one, as “Tail”.")
    skeleton = skeleton_of(scene, joint_ids[0])
    bones = scene.values.bones(skeleton)
    chosen = sorted((bones.where[j] for j in joint_ids if j in bones.where), key=lambda i: (bones.depth[i], i))
    digits = max(2, len(str(first + len(chosen) - 1)))
    others = {t.name for t, _ in scene.doc.everything() if t.id not in set(joint_ids)}
    joints = list(bones.joints)
    for k, i in enumerate(chosen, first):
        name = f"{base} {k:0{digits}d}"
        if name in others:
            raise EstampaError(f"“{name}”", "is a name that is taken.", "Take another base name or first number.")
        joints[i] = joints[i].with_(name=name)
    scene.apply(f"Rename {len(chosen)} joints", scene.doc.replace(skeleton.with_(joints=tuple(joints))))


def remove_joint(scene: Scene, joint_id: str) -> None:
    """Remove a joint: what hangs on it hangs on its own parent, in place, and skins give its weights to that parent (or
    to the first that hung on it)."""
    skeleton = skeleton_of(scene, joint_id)
    bones = scene.values.bones(skeleton)
    i, joints = bones.where[joint_id], list(bones.joints)
    parent = int(bones.parents[i])
    above = bones.at_rest[parent] if parent >= 0 else np.eye(4)
    heir = bones.joints[parent].id if parent >= 0 else None
    for k in bones.children[i]:
        own = pose_of((np.linalg.inv(above) @ bones.at_rest[k])[None])
        values = {n: v for n, v in joints[k].values.items() if n != "parent"} | ({"parent": heir} if heir else {})
        rest = (joints[k].rest or Rest()).with_(place=_row(own.place[0]), turn=_row(own.turn[0]))
        joints[k] = joints[k].with_(rest=rest.with_(stretch=_row(own.stretch[0])), values=values)
    heir = heir or (bones.joints[bones.children[i][0]].id if bones.children[i] else None)
    if parent >= 0 and bones.children[parent] == [i]:
        tip = bones.at_rest[i] @ [*bones.tips[i], 1.0]
        tip = (np.linalg.inv(above) @ tip)[:3]
        joints[parent] = joints[parent].with_(rest=(joints[parent].rest or Rest()).with_(tip=_row(tip)))
    doc = scene.doc.replace(skeleton.with_(joints=tuple(j for k, j in enumerate(joints) if k != i)))
    doc = _given_on(scene, doc, joint_id, heir)
    scene.apply(f"Remove {bones.joints[i].name}", _cleared(doc, joint_id))


def _given_on(scene, doc, joint_id, heir) -> Document:
    """Skins without a joint: its weights go to another one."""
    for subject in doc.subjects:
        for layer in subject.stack:
            bind = layer.bind
            if bind is None or joint_id not in bind.joints or heir not in bind.joints:
                continue
            dense = weights_of(scene, layer)
            gone, to = bind.joints.index(joint_id), bind.joints.index(heir)
            dense[:, to] += dense[:, gone]
            keep = [k for k in range(len(bind.joints)) if k != gone]
            indices, weights = bound.top_influences(dense[:, keep], scene.arrays.get(bind.indices).shape[1])
            back = scene.arrays.get(bind.back)[keep]
            put = scene.arrays.put
            changed = bind.with_(
                joints=tuple(bind.joints[k] for k in keep), indices=put(indices), weights=put(weights), back=put(back)
            )
            doc = doc.replace(layer.with_(bind=changed))
    return doc


def _cleared(doc: Document, gone: str) -> Document:
    changed = {}
    for thing, _ in doc.everything():
        kept = {n: v for n, v in thing.values.items() if v != gone}
        if len(kept) != len(thing.values):
            changed[thing.id] = thing.with_(values=kept)
    return doc.replace_all(changed)


def to_rest(scene: Scene, skeleton_id: str, joint_ids: list[str] | None = None) -> None:
    """Take joints (all of them when none are named) back to rest: what moved them by hand is cleared, keys too."""
    skeleton = thing_named(scene, skeleton_id)
    chosen = None if joint_ids is None else set(joint_ids)
    joints = [_unmoved(j) if chosen is None or j.id in chosen else j for j in skeleton.joints]
    if any(a is not b and a.values != b.values for a, b in zip(joints, skeleton.joints, strict=True)):
        scene.apply(f"{skeleton.name} to rest", scene.doc.replace(skeleton.with_(joints=tuple(joints))))


def _unmoved(joint: Thing) -> Thing:
    return joint.with_(values={n: v for n, v in joint.values.items() if n not in POSED})


def rest_here(scene: Scene, skeleton_id: str, frame: float) -> None:
    """Make the pose by hand at a frame the rest pose. What moved the joints by hand is cleared.

    Skins keep what they were bound to, so the mesh stays as it is shown.
    """
    skeleton = thing_named(scene, skeleton_id)
    bones = scene.values.bones(skeleton)
    pose = hand_pose(scene.values, bones, Rows.one(frame))
    joints = [_with_rest(_unmoved(j), pose, i) for i, j in enumerate(bones.joints)]
    scene.apply(f"New rest of {skeleton.name}", scene.doc.replace(skeleton.with_(joints=tuple(joints))))


def _with_rest(joint: Thing, pose: Pose, i: int) -> Thing:
    rest = (joint.rest or Rest()).with_(
        place=_row(pose.place[i]), turn=_row(pose.turn[i]), stretch=_row(pose.stretch[i])
    )
    return joint.with_(rest=rest)


# -- binding -------------------------------------------------------------------------------------------------
def bind_skin(
    scene: Scene,
    subject_id: str,
    skeleton_id: str,
    way: str = "heat",
    most: int = 4,
    method: str = "linear",
    layer_id: str | None = None,
) -> tuple[Thing, int]:
    """Bind a subject to a skeleton as it rests, in a new skin layer on top of the stack, or in one that is there.

    way -- "heat" (diffusion) or "nearest". Returns (the layer, how many vertices saw no joint and took the nearest).
    """
    dense, cold = worked_out(scene, subject_id, skeleton_id, way)
    return put_skin(scene, subject_id, skeleton_id, dense, most, method, layer_id), int(cold.sum())


def worked_out(scene: Scene, subject_id: str, skeleton_id: str, way: str) -> tuple[np.ndarray, np.ndarray]:
    """((n, joints) weights, (n,) which vertices saw no joint); changes nothing, so it may run beside the window."""
    subject, skeleton = thing_named(scene, subject_id), thing_named(scene, skeleton_id)
    bones = scene.values.bones(skeleton)
    if not len(bones):
        raise EstampaError(skeleton.name, "has no joints.", "Click some into the mesh first (Joint tool, J).")
    mesh = scene.mesh(subject.mesh)
    joint, starts, ends = _segments_in(scene, subject, skeleton, bones)
    if way == "nearest":
        return bound.nearest(mesh, starts, ends, joint, len(bones)), np.zeros(mesh.count, bool)
    return bound.diffused(mesh, starts, ends, joint, len(bones))


def put_skin(scene, subject_id, skeleton_id, dense, most=4, method="linear", layer_id=None) -> Thing:
    """Put worked-out weights (n, joints) into a skin layer."""
    subject, skeleton = thing_named(scene, subject_id), thing_named(scene, skeleton_id)
    bones = scene.values.bones(skeleton)
    indices, weights = bound.top_influences(dense, min(max(most, 1), 8))
    bind = bound_to(scene, subject, skeleton, bones.ids, bones.at_rest, indices, weights)
    fresh = Thing(kind="skin", name=f"Skin on {skeleton.name}", values={"method": method})
    return _put_bound(scene, subject, skeleton, layer_id, fresh, {"skeleton": skeleton.id}, bind)


def _put_bound(scene, subject, to, layer_id, fresh: Thing, values: dict, bind: Bind) -> Thing:
    """Bind a layer that is there, or a fresh one on top of the stack."""
    held = next((l for l in subject.stack if l.id == layer_id), None)
    layer = held or fresh.with_(name=unique_name(scene.doc, fresh.name))
    layer = layer.with_(bind=bind, values={**layer.values, **values})
    changed = layer if held else subject.with_(stack=(layer, *subject.stack))
    scene.apply(f"Bind {subject.name} to {to.name}", scene.doc.replace(changed))
    return layer


def bound_to(scene: Scene, subject: Thing, skeleton: Thing, ids, at_rest: np.ndarray, indices, weights) -> Bind:
    """A Bind of a subject to joints as they stand at rest; at_rest (j, 4, 4) in the skeleton's own space."""
    start, put = Rows.one(scene.doc.start), scene.arrays.put
    of = scene.values.place
    into = of(subject, start).inverse().matrices[0] @ of(skeleton, start).matrices[0]
    joints = into @ at_rest
    flat = np.abs(np.linalg.det(joints[:, :3, :3])) < 1e-15
    if flat.any():
        name = next(t.name for t in skeleton.joints if t.id == ids[int(np.argmax(flat))])
        raise EstampaError(
            name, "is scaled to nothing at rest, so nothing can be bound to it.", "Give its rest a size, or remove it."
        )
    return Bind(joints=tuple(ids), indices=put(indices), weights=put(weights), back=put(np.linalg.inv(joints)))


def _segments_in(scene, subject, skeleton, bones):
    """((s,) joint, (s, 3) starts, (s, 3) ends) of a skeleton's segments at rest, in the subject's own space."""
    start, of = Rows.one(scene.doc.start), scene.values.place
    into = of(subject, start).inverse() @ of(skeleton, start)
    return bones.segments[0], *(into.apply(points[None])[0] for points in bones.segment_ends(bones.at_rest))


def set_weights(scene: Scene, layer_id: str, dense: np.ndarray, label: str, merge: str | None = None) -> None:
    """Put other weights (n, joints of the bind) on a skin; rows are normalised, and only the largest are kept."""
    layer = thing_named(scene, layer_id)
    bind = layer.bind
    indices, weights = bound.top_influences(dense, scene.arrays.get(bind.indices).shape[1])
    changed = bind.with_(indices=scene.arrays.put(indices), weights=scene.arrays.put(weights))
    scene.apply(label, scene.doc.replace(layer.with_(bind=changed)), merge)


def weights_of(scene: Scene, layer: Thing) -> np.ndarray:
    """(n, joints of the bind) float64 weights of a skin."""
    bind = layer.bind
    return bound.spread(scene.arrays.get(bind.indices), scene.arrays.get(bind.weights), len(bind.joints))


def set_joint_locked(scene: Scene, layer_id: str, joint_id: str, on: bool) -> None:
    """Lock the weights of a joint, so that painting leaves them alone, or free them."""
    layer = thing_named(scene, layer_id)
    locked = tuple(j for j in layer.bind.locked if j != joint_id) + ((joint_id,) if on else ())
    scene.apply("Lock weights", scene.doc.replace(layer.with_(bind=layer.bind.with_(locked=locked))))


def bind_cage(scene: Scene, subject_id: str, cage_id: str, layer_id: str | None = None) -> Thing:
    """Bind a subject to a cage around it as both are at rest, in a new cage layer on top of the stack or in one that is
    there. Raises EstampaError when the cage is not closed or does not hold the subject."""
    return put_cage(scene, subject_id, cage_id, cage_coordinates(scene, subject_id, cage_id), layer_id)


def cage_coordinates(scene: Scene, subject_id: str, cage_id: str) -> np.ndarray:
    """(n, vertices of the cage) coordinates of a subject in its cage; changes nothing, so it may run on any thread."""
    subject, cage = thing_named(scene, subject_id), thing_named(scene, cage_id)
    if subject.id == cage.id or cage.mesh is None:
        raise EstampaError(cage.name, "cannot be a cage here.", "Choose another subject of few faces.")
    mesh, around = scene.mesh(subject.mesh), scene.mesh(cage.mesh)
    if around.open_edges:
        raise EstampaError(
            cage.name, f"has {around.open_edges} open edges, so it encloses nothing.", "Close it, then bind again."
        )
    start = Rows.one(scene.doc.start)
    into = scene.values.place(subject, start).inverse() @ scene.values.place(cage, start)
    weights = coordinates(mesh.points, into.apply(around.points[None])[0], around.triangles)
    if not np.isfinite(weights).all():
        raise EstampaError(cage.name, "gives no coordinates for some vertices.", "Make it larger, without flat faces.")
    return weights


def put_cage(scene: Scene, subject_id: str, cage_id: str, weights: np.ndarray, layer_id: str | None = None) -> Thing:
    """Put worked-out coordinates into a cage layer."""
    subject, cage = thing_named(scene, subject_id), thing_named(scene, cage_id)
    fresh, bind = Thing(kind="cage", name=f"{cage.name} carries"), Bind(weights=scene.arrays.put(weights))
    return _put_bound(scene, subject, cage, layer_id, fresh, {"cage": cage.id}, bind)


def from_beads(scene: Scene, subject_id: str, every: int = 1, swing: bool = True) -> Thing:
    """Skeleton, skin and swinging chain from a mesh of beads, in one step of the history."""
    subject = thing_named(scene, subject_id)
    mesh, aside = scene.mesh(subject.mesh), Scene(scene.doc, scene.arrays)  # what is built there is one step here
    place = scene.values.place(subject, Rows.one(scene.doc.start))
    lines = [place.apply(line[None])[0] for line in bead_lines(mesh, every)]
    skeleton = add_skeleton(aside, lines, f"{subject.name} strings", "Bead")
    # every bead follows one joint as a whole: the nearest to its middle
    bones = aside.values.bones(skeleton)
    joint, starts, ends = _segments_in(aside, subject, skeleton, bones)
    apart = bound.distances(mesh.island_middles, starts, ends)[0]
    dense = np.zeros((mesh.count, len(bones)))
    dense[np.arange(mesh.count), joint[apart.argmin(axis=1)][mesh.islands]] = 1
    put_skin(aside, subject_id, skeleton.id, dense, 1)
    if swing:
        preset = {"mass": 0.06, "bend": 0.0, "twist": 0.0, "clamp": False}
        size = float(place.size[0])
        add_layer(aside, skeleton.id, "chain", values={**preset, "radius": max(bead_radius(mesh) * size, 1e-4)})
    scene.apply(f"Strings of {subject.name}", aside.doc)
    return scene.doc.find(skeleton.id)
