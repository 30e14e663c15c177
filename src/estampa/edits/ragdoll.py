"""Making a skeleton a ragdoll: the parts of its body, how far each joint goes, and the layer."""

import numpy as np

from ..errors import EstampaError
from ..scene.bones import Bones
from ..scene.document import Thing
from ..scene.scene import Scene
from ..scene.skeleton import TURNS
from .body_parts import front_of, hinge_of, missing, proposed
from .names import declared_kind, thing_named, unique_name
from .things import ensemble_in

# rad, (cone, twist): how far a joint of a grown body turns away from the middle of its reach, rounded (common practice,
# no source)
LIMITS = {
    "hips": (0.5, 0.5), "spine": (0.6, 0.5), "chest": (0.5, 0.5), "neck": (0.5, 0.6), "head": (0.8, 0.9),
    "upper_arm": (1.5, 0.9), "lower_arm": (1.3, 0.9), "hand": (0.9, 0.3), "thigh": (1.1, 0.5), "shin": (1.2, 0.2),
    "foot": (0.6, 0.3), "limb": (0.9, 0.6),
}  # fmt: skip
HINGED = ("shin", "lower_arm")
HALF = np.radians(5)  # within so much of half a turn a joint is a mirrored one


def make_limp(
    scene: Scene,
    skeleton_id: str,
    parts: dict[str, str] | None = None,
    at_zero: bool = False,
    weight: float | None = None,
) -> Thing:
    """Make a skeleton a ragdoll: name the parts of its body, give them limits, and add the layer if it has none. In one
    step of the history.

    parts -- joint id -> part; None takes what names and places tell. Of other creatures every joint that is not short
    is a limb. at_zero -- put the turns of its joints by hand to zero, but for those of mirrored ones; weight -- kg
    """
    skeleton = thing_named(scene, skeleton_id)
    if not skeleton.joints:
        raise EstampaError(skeleton.name, "has no joints to go limp.", "Select a skeleton.")
    bones = scene.values.bones(skeleton)
    by_hand = parts is not None
    if not by_hand:
        parts = proposed(bones)
        if len(missing(parts)) > 3:
            parts = {}  # it is no body of that sort
    cleared = {j.id for j in turned_away(skeleton)} if at_zero else set()
    front, joints = front_of(bones, parts), []
    for joint in skeleton.joints:
        part, values = parts.get(joint.id, "none" if by_hand else joint.constant("part")), dict(joint.values)
        if by_hand and part != joint.constant("part") or joint.id in parts and "part" not in joint.values:
            values |= limits_of(bones, joint, part, front)
        if joint.id in cleared:
            values = {n: x for n, x in values.items() if n not in TURNS}
        joints.append(joint.with_(values=values))
    layer = next(iter(skeleton.layers_of("limp")), None)
    mass = {} if weight is None else {"weight": float(weight)}
    if layer is not None:
        stack = tuple(l.with_(values=l.values | mass) if l is layer else l for l in skeleton.stack)
        changed = skeleton.with_(joints=tuple(joints), stack=stack)
        scene.apply(f"Name the parts of {skeleton.name}", scene.doc.replace(changed))
        return scene.doc.find(layer.id)
    doc, together = ensemble_in(scene.doc, "bodies")
    title = declared_kind("limp").title
    layer = Thing(kind="limp", name=unique_name(doc, title), values={"together": together} | mass)
    changed = skeleton.with_(joints=tuple(joints), stack=(*skeleton.stack, layer))
    scene.apply(f"Make {skeleton.name} limp", doc.replace(changed))
    return layer


def limits_of(bones: Bones, joint: Thing, part: str, front: np.ndarray) -> dict[str, float | str]:
    """The channels of a joint by which it goes as far as that of a part does."""
    cone, twist = LIMITS.get(part, (joint.constant("cone"), joint.constant("twist")))
    hinge = hinge_of(bones, joint.id, part, front) if part in HINGED else {"bends": "any"}
    return {"part": part, "cone": cone, "twist": twist, **hinge}


def turned_away(skeleton: Thing) -> list[Thing]:
    """Joints that are turned away from their rest by hand, without keys, but for mirrored ones: half a turn is right
    there, and clearing it would throw the limb to the other side."""
    found = []
    for joint in skeleton.joints:
        angles = [joint.values.get(n, 0.0) for n in TURNS]
        plain = all(isinstance(a, (int, float)) for a in angles)
        if plain and any(angles) and not any(abs(abs(a) - np.pi) < HALF for a in angles):
            found.append(joint)
    return found


def unlike_rest(bones: Bones, parts: dict[str, str] | None = None) -> list[str]:
    """Names of limbs that are hard to tie as they rest: arms that lie along the body, so that shapes overlap.
    parts -- joint id -> part; None takes what joints are named."""
    at = bones.at_rest[:, :3, 3]
    ends = np.einsum("nij,nj->ni", bones.at_rest[:, :3, :3], bones.tips) + at
    found = []
    for i, joint in enumerate(bones.joints):
        if (joint.constant("part") if parts is None else parts.get(joint.id)) == "upper_arm":
            way = ends[i] - at[i]
            if -way[1] > 0.9 * np.linalg.norm(way):
                found.append(joint.name)
    return found
