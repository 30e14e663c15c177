"""Making a skeleton a ragdoll: which joints are which parts of a body, proposed by name and place."""

import numpy as np

from ..errors import EstampaError
from ..scene.bones import Bones
from ..scene.document import Thing
from ..scene.scene import Scene
from .names import declared_kind, thing_named, unique_name
from .things import ensemble_in

# words in the names of joints, as riggers write them: common practice, no source
WORDS = {
    "hand": ("hand", "wrist", "palm"),
    "lower_arm": ("forearm", "lowerarm", "lower_arm", "lower arm", "elbow"),
    "upper_arm": ("upperarm", "upper_arm", "upper arm", "shoulder", "arm"),
    "foot": ("foot", "ankle"),
    "shin": ("shin", "calf", "lowerleg", "lower_leg", "lower leg", "knee"),
    "thigh": ("thigh", "upperleg", "upper_leg", "upper leg", "upleg", "hip_", "leg"),
    "head": ("head", "skull"),
    "hips": ("hips", "pelvis", "root"),
    "spine": ("spine", "chest", "torso", "back", "belly"),
}
NOT = ("finger", "thumb", "toe", "eye", "jaw", "twist", "clavicle", "collar", "end", "tip", "ik", "pole")
# rad, (cone, twist): how far a joint of a grown body turns away from the middle of its reach, rounded (common practice,
# no source)
LIMITS = {
    "hips": (0.5, 0.5), "spine": (0.6, 0.5), "head": (0.8, 0.9), "upper_arm": (1.5, 0.9), "lower_arm": (1.3, 0.9),
    "hand": (0.9, 0.3), "thigh": (1.1, 0.5), "shin": (1.2, 0.2), "foot": (0.6, 0.3), "limb": (0.9, 0.6),
}  # fmt: skip
NEEDED = ("hips", "spine", "head", "upper_arm", "lower_arm", "thigh", "shin")


def proposed(bones: Bones) -> dict[str, str]:
    """Joint id -> part, by the names of joints; of several on one line that are the same part the uppermost."""
    found = {}
    for i in bones.order:
        joint = bones.joints[i]
        name = joint.name.lower()
        if any(word in name for word in NOT):
            continue
        part = next((part for part, words in WORDS.items() if any(word in name for word in words)), None)
        if part is None:
            continue
        above = [found.get(bones.joints[j].id) for j in bones.up(int(i))[1:]]
        if part in ("hips", "spine", "head") and part in above:
            continue  # one part is one limb, however many joints a spine has
        found[joint.id] = part
    return found


def missing(parts: dict[str, str]) -> list[str]:
    """What a body of two arms and two legs lacks, in words; nothing where no part was told at all."""
    if not parts:
        return []
    have = list(parts.values())
    pairs = [p for p in NEEDED if p not in ("hips", "spine", "head")]
    lacks = [p.replace("_", " ") for p in ("hips", "spine", "head") if p not in have]
    return lacks + [f"one {p.replace('_', ' ')}" if have.count(p) == 1 else f"both {p.replace('_', ' ')}s"
                    for p in pairs if have.count(p) < 2]  # fmt: skip


def make_limp(scene: Scene, skeleton_id: str) -> Thing:
    """Make a skeleton a ragdoll: name the parts of its body where its joints' names tell them, give them limits, and
    add the layer. Of other creatures every joint that is not short is a limb. In one step of the history."""
    skeleton = thing_named(scene, skeleton_id)
    if skeleton.kind != "skeleton" or not skeleton.joints:
        raise EstampaError(skeleton.name, "has no joints to go limp.", "Select a skeleton.")
    bones = scene.values.bones(skeleton)
    parts = proposed(bones)
    if missing(parts) and len(missing(parts)) > 3:
        parts = {}  # it is no body of that sort
    joints = []
    for joint in skeleton.joints:
        part = parts.get(joint.id, joint.constant("part"))
        values = dict(joint.values)
        if joint.id in parts and "part" not in joint.values:
            cone, twist = LIMITS[part]
            values |= {"part": part} | {n: x for n, x in (("cone", cone), ("twist", twist)) if n not in values}
        joints.append(joint.with_(values=values))
    doc, together = ensemble_in(scene.doc, "bodies")
    title = declared_kind("limp").title
    layer = Thing(kind="limp", name=unique_name(doc, title), values={"together": together})
    changed = skeleton.with_(joints=tuple(joints), stack=(*skeleton.stack, layer))
    scene.apply(f"Make {skeleton.name} limp", doc.replace(changed))
    return layer


def unlike_rest(bones: Bones) -> list[str]:
    """Names of limbs that are hard to tie as they rest: arms that lie along the body, so that shapes overlap."""
    at = bones.at_rest[:, :3, 3]
    ends = np.einsum("nij,nj->ni", bones.at_rest[:, :3, :3], bones.tips) + at
    found = []
    for i, joint in enumerate(bones.joints):
        if joint.constant("part") == "upper_arm":
            way = ends[i] - at[i]
            if -way[1] > 0.9 * np.linalg.norm(way):
                found.append(joint.name)
    return found
