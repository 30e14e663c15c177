"""Which joints of a skeleton are which parts of a body: told by their names, their places and their chains together."""

import re
from typing import NamedTuple

import numpy as np

from ..scene.bones import Bones
from ..solve.bodies.limbs import across

# words in the names of joints, as riggers write them, with how surely they tell: common practice, no source
WORDS: dict[str, dict[str, float]] = {
    "hips": {"hips": 2, "pelvis": 2, "hip": 1.2, "root": 0.6, "cog": 0.8},
    "spine": {"spine": 2, "waist": 1.5, "belly": 1.5, "abdomen": 1.5, "stomach": 1.5, "lumbar": 2, "back": 1,
              "torso": 1},
    "chest": {"chest": 2, "thorax": 2, "ribs": 1.5, "ribcage": 2, "spine": 0.8, "torso": 0.8},
    "head": {"head": 2, "skull": 2},
    "upper_arm": {"upperarm": 2, "uparm": 2, "armup": 2, "armupper": 2, "humerus": 2, "bicep": 1.5, "biceps": 1.5,
                  "arm": 1.2, "shoulder": 1},
    "lower_arm": {"forearm": 2, "lowerarm": 2, "lowarm": 2, "armlow": 2, "armlower": 2, "elbow": 2, "ulna": 2},
    "hand": {"hand": 2, "wrist": 2, "palm": 1.5},
    "thigh": {"thigh": 2, "upperleg": 2, "upleg": 2, "legup": 2, "legupper": 2, "femur": 2, "hip": 1.2, "leg": 1.1},
    "shin": {"shin": 2, "calf": 2, "lowerleg": 2, "lowleg": 2, "leglow": 2, "leglower": 2, "knee": 2, "tibia": 2,
             "leg": 1},
    "foot": {"foot": 2, "ankle": 2, "feet": 1.5},
}  # fmt: skip
NOT = frozenset(
    "finger fingers thumb index middle ring pinky little toe toes ball eye eyes jaw tongue ear ears hair twist roll "
    "clavicle collar collarbone scapula end tip nub ik pole target helper prop weapon".split()
)
LEFT, RIGHT = frozenset("l left lft lt".split()), frozenset("r right rgt rt".split())
ONE = ("hips", "spine", "chest", "neck", "head")
TWO = ("upper_arm", "lower_arm", "hand", "thigh", "shin", "foot")
# the parts of a body that can be named, and on which side of it
SLOTS = (*((part, "") for part in ONE), *((part, side) for part in TWO for side in ("left", "right")))
NEEDED = ("hips", "spine", "head", "upper_arm", "lower_arm", "thigh", "shin")
ASIDE = 0.01  # of its height, from where on a joint is on one side of a body
# where along its line each part begins, as a share of that: of a grown body, about
ALONG = {"spine": 0.22, "chest": 0.48, "head": 0.9, "upper_arm": 0.0, "lower_arm": 0.46, "hand": 0.9, "thigh": 0.0,
         "shin": 0.48, "foot": 0.95}  # fmt: skip
SPREAD = 0.16  # of its line, by how much that varies
SURE = 0.45  # least of name and place together by which a joint is told to be a part
BENT = np.radians(8)  # from where on a chain's own bend tells which way a hinge goes
STRAIGHT = 0.05  # rad, by which knees and elbows give beyond straight


class Lines(NamedTuple):
    """Joints of a body that stands: trunk from the hips to the head, and from each side's first joint to its last."""

    trunk: list[int]
    arms: list[list[int]]
    legs: list[list[int]]


def proposed(bones: Bones) -> dict[str, str]:
    """Joint id -> part, by names, places and chains together; by names alone where its joints hang as no body's do."""
    lines = lines_of(bones)
    if lines is None:
        return by_names(bones)
    found = {lines.trunk[0]: "hips"}
    found |= _along(bones, lines.trunk[1:], ("spine", "chest", "head"), lines.trunk[0])
    for line in lines.arms:
        found |= _along(bones, line, ("upper_arm", "lower_arm", "hand"))
    for line in lines.legs:
        found |= _along(bones, line, ("thigh", "shin", "foot"))
    if "spine" not in found.values() and "chest" in found.values():
        found = {i: "spine" if part == "chest" else part for i, part in found.items()}
    return {bones.joints[i].id: part for i, part in found.items()}


def words_of(name: str) -> list[str]:
    """The words of a joint's name in small letters: parted at signs, numbers and capitals, without what stands before a
    colon, and without left and right."""
    plain = name.rsplit(":", 1)[-1].rsplit("|", 1)[-1]
    plain = re.sub(r"([a-z0-9])([A-Z])|([A-Z]+)([A-Z][a-z])", r"\1\3 \2\4", plain)
    words = [w.lower() for w in re.findall(r"[A-Za-z]+", plain)]
    found = []
    for word in words:
        for side in ("left", "right"):
            word = word.removeprefix(side) if word != side else word
        found.append(word)
    return [w for w in found if w and w not in LEFT | RIGHT]


def named_side(name: str) -> str:
    """ "left" or "right", as a name spells it; "" where it tells none."""
    plain = re.sub(r"([a-z0-9])([A-Z])", r"\1 \2", name.rsplit(":", 1)[-1])
    words = [w.lower() for w in re.findall(r"[A-Za-z]+", plain)]
    for side, spelled in (("left", LEFT), ("right", RIGHT)):
        if any(w in spelled or w.startswith(side) or w.endswith(side) for w in words):
            return side
    return ""


def name_score(name: str, part: str) -> float:
    """How surely a name tells a part: below 0 where it tells that it is none."""
    words = words_of(name)
    if NOT & set(words):
        return -4.0
    joined = {a + b for a, b in zip(words, words[1:], strict=False)} | set(words)
    own = max((sure for word, sure in WORDS.get(part, {}).items() if word in joined), default=0.0)
    other = max((s for p, w in WORDS.items() if p != part for word, s in w.items() if word in joined), default=0.0)
    return own - 0.7 * max(other - own, 0.0)


def side_of(bones: Bones, joint_id: str) -> str:
    """ "left" or "right" of a body that looks along +Z, as the standard of glTF has it, or as it is named where it
    stands in the middle; "" of what has no side."""
    i, tall = bones.where[joint_id], max(float(np.ptp(bones.at_rest[:, :3, 3], axis=0).max()), 1e-9)
    x = (bones.at_rest[i] @ [*(bones.tips[i] / 2), 1.0])[0]
    if abs(x) < ASIDE * tall:
        return named_side(bones.joints[i].name)
    return "left" if x > 0 else "right"


def by_slot(bones: Bones, parts: dict[str, str]) -> dict[tuple[str, str], str]:
    """(part, side) -> joint id of what is named, sides included."""
    return {(part, "" if part in ONE else side_of(bones, joint)): joint for joint, part in parts.items()}


def lines_of(bones: Bones) -> Lines | None:
    """Two legs down from the hips, two arms aside from the trunk; None where it is no such body."""
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
        return None
    trunk, arms = [hips, max(up, key=high)], []
    while children[trunk[-1]]:
        own = children[trunk[-1]]
        nearest = min(own, key=lambda c: abs(ends[bones.below(c), 0].mean() - at[hips, 0]))
        arms = arms or _pair(bones, [c for c in own if c != nearest], ends)
        trunk.append(nearest)
    if len(arms) < 2 or len(trunk) < 3:
        return None
    return Lines(trunk, [_line(bones, i) for i in arms], [_line(bones, i) for i in _pair(bones, down, ends)])


def _line(bones: Bones, root: int) -> list[int]:
    """From a joint down to its last, by the longest way, without a collar bone or half a pelvis before it."""
    line = [root]
    while bones.children[line[-1]]:
        line.append(max(bones.children[line[-1]], key=lambda c: bones.lengths[bones.below(c)].sum()))
    short = len(line) > 3 and bones.lengths[line[0]] < 0.7 * bones.lengths[line[1]]
    return line[1:] if short and name_score(bones.joints[line[0]].name, "upper_arm") < 1.5 else line


def _along(bones: Bones, line: list[int], parts: tuple[str, ...], before: int | None = None) -> dict[int, str]:
    """Joint -> part, of parts that come in this order along a line: what names and places tell most of, together."""
    lengths = bones.lengths[[before, *line] if before is not None else line]
    start = np.concatenate([[0], np.cumsum(lengths)])[: len(lengths)]
    whole = float(lengths.sum()) if parts[-1] in ("hand", "foot") else float(start[-1] or 1)
    along = start[-len(line) :] / max(whole if whole else 1.0, 1e-9)
    names = [bones.joints[i].name for i in line]
    last = len(line) - 1

    def score(k: int, part: str) -> float:
        place = np.exp(-(((along[k] - ALONG[part]) / SPREAD) ** 2) / 2)
        if part == "head":
            place = 1.0 if k == last else 0.3 if k == last - 1 else 0.0
        return 2 * name_score(names[k], part) + 1.2 * place - SURE

    best: dict[tuple[int, int], tuple[float, dict[int, str]]] = {}

    def most(k: int, p: int) -> tuple[float, dict[int, str]]:
        if k == len(line) or p == len(parts):
            return 0.0, {}
        if (k, p) not in best:
            choices = [most(k + 1, p), most(k, p + 1)]
            value, chosen = most(k + 1, p + 1)
            own = score(k, parts[p])
            if own > 0:
                choices.append((value + own, {line[k]: parts[p], **chosen}))
            best[k, p] = max(choices, key=lambda c: c[0])
        return best[k, p]

    return most(0, 0)[1]


def _pair(bones: Bones, joints: list[int], ends) -> list[int]:
    """The two of joints that hang on one thing to the left and to the right, or fewer."""
    aside = [(ends[bones.below(i), 0].mean() - bones.at_rest[bones.parents[i], 0, 3], i) for i in joints]
    left, right = [x for x in aside if x[0] > 0], [x for x in aside if x[0] < 0]
    return [i for _, i in (max(left, default=(0, -1)), min(right, default=(0, -1))) if i >= 0]


def by_names(bones: Bones) -> dict[str, str]:
    """Joint id -> part, by the names of joints; of several on one line that are the same part the uppermost."""
    found: dict[str, str] = {}
    for i in bones.order:
        joint = bones.joints[i]
        scores = {part: name_score(joint.name, part) for part in WORDS}
        if named_side(joint.name):
            scores |= {part: -1.0 for part in ONE if part in scores}
        above = {found.get(bones.joints[j].id) for j in bones.up(int(i))[1:]}
        if "thigh" in above:  # a plain “leg” below a thigh is a shin
            scores["thigh"] -= 2
        if "upper_arm" in above:
            scores["upper_arm"] -= 2
        part = max(scores, key=lambda p: scores[p])
        if scores[part] <= SURE or part in above:
            continue
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


def front_of(bones: Bones, parts: dict[str, str]) -> np.ndarray:
    """(3,) a unit, where a body looks to as it rests: along its feet, or along +Z, as the standard of glTF has it."""
    feet = [bones.where[joint] for joint, part in parts.items() if part == "foot"]
    ways = [bones.at_rest[i, :3, :3] @ bones.tips[i] * [1, 0, 1] for i in feet]
    ahead = np.sum(ways, axis=0) if ways else np.zeros(3)
    long = float(np.linalg.norm(ahead))
    return ahead / long if ways and long > 0.3 * bones.lengths[feet].sum() else np.array([0.0, 0.0, 1.0])


def hinge_of(bones: Bones, joint_id: str, part: str, front: np.ndarray) -> dict[str, float | str]:
    """The channels of a joint by which a shin bends backwards, and a lower arm forwards: about the chain's own bend
    where it has one that goes that way; else by where the body looks to, front (3,)."""
    i = bones.where[joint_id]
    axes, above = bones.at_rest[i, :3, :3], int(bones.parents[i])
    way = _unit(axes @ bones.tips[i])
    wanted = -front if part == "shin" else front
    axis = np.cross(way, wanted)
    if np.linalg.norm(axis) < 0.3:  # an arm that is held out ahead bends upwards
        axis = np.cross(way, [0.0, 1.0, 0.0])
    axis, bent = _unit(axis), 0.0
    if above >= 0:
        upper = _unit(bones.at_rest[i, :3, 3] - bones.at_rest[above, :3, 3])
        own = np.cross(upper, way)
        angle = float(np.arctan2(np.linalg.norm(own), upper @ way))
        if BENT < angle < np.pi - BENT and _unit(own) @ axis > 0.5:
            axis, bent = _unit(own), angle
    local, along = _unit(np.linalg.solve(axes, axis)), _unit(bones.tips[i])
    first = across(along)
    about = float(np.arctan2(local @ np.cross(along, first), local @ first))
    most = {"shin": 2.4, "lower_arm": 2.5}[part]
    return {"bends": "hinge", "bend_about": about, "bend_far": max(most - bent, 0.1), "bend_back": bent + STRAIGHT}


def _unit(v: np.ndarray) -> np.ndarray:
    return v / max(float(np.linalg.norm(v)), 1e-12)
