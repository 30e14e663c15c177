"""Making a skeleton a ragdoll: which joints are which parts of a body, proposed by name and place."""

import numpy as np

from ..errors import EstampaError
from ..scene.bones import Bones
from ..scene.document import Thing
from ..scene.scene import Scene
from ..scene.skeleton import TURNS
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
ONE, TWO = ("hips", "spine", "head"), ("upper_arm", "lower_arm", "hand", "thigh", "shin", "foot")
# the parts of a body that can be named, and on which side of it
SLOTS = (*((part, "") for part in ONE), *((part, side) for part in TWO for side in ("left", "right")))
ASIDE = 0.01  # of its height, from where on a joint is on one side of a body
HALF = np.radians(5)  # within so much of half a turn a joint is a mirrored one
NEEDED = ("hips", "spine", "head", "upper_arm", "lower_arm", "thigh", "shin")


def proposed(bones: Bones) -> dict[str, str]:
    """Joint id -> part, by the names of joints, or where these tell little, by where they are."""
    named = by_names(bones)
    return named if len(missing(named)) < 4 and named else by_place(bones) or named


def side_of(bones: Bones, joint_id: str) -> str:
    """ "left" or "right" of a body that looks along +Z, as the standard of glTF has it; "" in its middle."""
    i, tall = bones.where[joint_id], max(float(np.ptp(bones.at_rest[:, :3, 3], axis=0).max()), 1e-9)
    x = (bones.at_rest[i] @ [*(bones.tips[i] / 2), 1.0])[0]
    return "" if abs(x) < ASIDE * tall else "left" if x > 0 else "right"


def by_slot(bones: Bones, parts: dict[str, str]) -> dict[tuple[str, str], str]:
    """(part, side) -> joint id of what is named, sides included."""
    return {(part, "" if part in ONE else side_of(bones, joint)): joint for joint, part in parts.items()}


def by_place(bones: Bones) -> dict[str, str]:
    """Joint id -> part, by where joints hang: two legs down from the hips, two arms aside from the trunk; none where
    it is no such body."""
    at, children = bones.at_rest[:, :3, 3], bones.children
    ends = np.einsum("nij,nj->ni", bones.at_rest[:, :3, :3], bones.tips) + at
    tall = float(np.ptp(np.concatenate([at, ends])[:, 1]))
    low = lambda i: ends[bones.below(i), 1].min()
    high = lambda i: ends[bones.below(i), 1].max()
    for hips in bones.order[np.argsort(bones.depth[bones.order], kind="stable")].tolist():
        down = [c for c in children[hips] if at[hips, 1] - low(c) > 0.25 * tall]
        up = [c for c in children[hips] if high(c) - at[hips, 1] > 0.2 * tall and c not in down]
        if len(_pair(bones, down, ends)) == 2 and up:
            break
    else:
        return {}
    trunk, arms = [max(up, key=high)], []
    while children[trunk[-1]]:
        own = children[trunk[-1]]
        nearest = min(own, key=lambda c: abs(ends[bones.below(c), 0].mean() - at[hips, 0]))
        arms = arms or _pair(bones, [c for c in own if c != nearest], ends)
        trunk.append(nearest)
    if len(arms) < 2 or len(trunk) < 2:
        return {}
    found = {hips: "hips", trunk[max(len(trunk) // 2 - 1, 0)]: "spine", trunk[-1]: "head"}
    for roots, words in ((arms, ("upper_arm", "lower_arm", "hand")), (_pair(bones, down, ends), TWO[3:])):
        for root in roots:
            line = [root]
            while children[line[-1]]:
                line.append(max(children[line[-1]], key=lambda c: bones.lengths[bones.below(c)].sum()))
            if len(line) > 3 and bones.lengths[line[0]] < 0.7 * bones.lengths[line[1]]:
                line = line[1:]  # a collar bone, or half a pelvis
            found |= dict(zip(line, words, strict=False))
    return {bones.joints[i].id: part for i, part in found.items()}


def _pair(bones: Bones, joints: list[int], ends) -> list[int]:
    """The two of joints that hang on one thing to the left and to the right, or fewer."""
    aside = [(ends[bones.below(i), 0].mean() - bones.at_rest[bones.parents[i], 0, 3], i) for i in joints]
    left, right = [x for x in aside if x[0] > 0], [x for x in aside if x[0] < 0]
    return [i for _, i in (max(left, default=(0, -1)), min(right, default=(0, -1))) if i >= 0]


def by_names(bones: Bones) -> dict[str, str]:
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
    joints = []
    for joint in skeleton.joints:
        part, values = parts.get(joint.id, "none" if by_hand else joint.constant("part")), dict(joint.values)
        if by_hand and part != joint.constant("part") or joint.id in parts and "part" not in joint.values:
            cone, twist = LIMITS.get(part, (joint.constant("cone"), joint.constant("twist")))
            values |= {"part": part, "cone": cone, "twist": twist}
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
