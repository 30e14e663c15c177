"""A pose by hand, and its keys, from one skeleton to another whose joints have other names, axes and lengths."""

from typing import NamedTuple

import numpy as np

from ..geometry import pose as turns
from ..geometry.pose import Pose, in_skeleton
from ..scene.bones import Bones, hand_poses, posed_channels
from ..scene.curves import Curve, Key
from ..scene.document import Thing
from ..scene.skeleton import PLACES, POSED, TURNS
from ..scene.values import Rows, Values
from . import body_parts

ALIKE = 1e-6  # by which axes of two rests may differ and be the same
TURNED = 0.02  # rad, from where on limbs that rest otherwise are turned into the pose


class Reposed(NamedTuple):
    """joints -- of the new skeleton, in the pose of the old one; alone -- names of old joints that are posed and have
    no partner there."""

    joints: tuple[Thing, ...]
    alone: tuple[str, ...]


def reposed(values: Values, old: Thing, new: Thing, start: float) -> Reposed:
    """The joints of a new skeleton in the pose, and with the keys, that hands gave an old one.

    Partners are joints of one name; else those whose names say the same; else the same part of a body. Where rests are
    turned alike, channels are taken over as they are; else they are keyed at the frames of all keys of the old one.
    """
    before, after = Bones.of(old), Bones.of(new)
    partner = partners(before, after)
    moved = [i for i in before.posed if any(before.joints[i].values.get(n) not in (None, 0.0, 1.0) for n in POSED)]
    alone = tuple(before.joints[i].name for i in moved if i not in set(partner.tolist()))
    if _is_alike(before, after, partner):
        own = lambda i: {n: v for n, v in before.joints[partner[i]].values.items() if n in POSED}
        moved_along = (
            j.with_(values={**j.values, **own(i)}) if partner[i] >= 0 else j for i, j in enumerate(new.joints)
        )
        return Reposed(tuple(moved_along), alone)
    frames = sorted({k.frame for j in old.joints for n in POSED if (c := j.curve(n)) is not None for k in c.keys})
    keyed = frames or [start]
    found = _channels(before, after, partner, hand_poses(values, before, Rows.over(np.array(keyed, float))))
    joints: list[Thing] = []
    for i, joint in enumerate(after.joints):
        given = {n: _channel(keyed, column, bool(frames)) for n, column in found.get(i, {}).items()}
        joints.append(joint.with_(values={**joint.values, **given}) if given else joint)
    return Reposed(tuple(joints), alone)


def partners(before: Bones, after: Bones) -> np.ndarray:
    """(n,) of the joints of `after` those of `before` that are the same, each taken once; -1 where there is none."""
    found, taken = np.full(len(after), -1), set()
    sides = [{j.id: body_parts.named_side(j.name) for j in bones.joints} for bones in (before, after)]
    slots = [
        {joint: slot for slot, joint in body_parts.by_slot(bones, _parts(bones)).items()} for bones in (before, after)
    ]
    said = lambda k, joint: (*body_parts.words_of(joint.name), _number(joint.name), sides[k][joint.id])
    for sort in (lambda k, j: j.name, said, lambda k, j: slots[k].get(j.id)):
        known: dict = {}
        for i, joint in enumerate(before.joints):
            known.setdefault(sort(0, joint), i)
        for i, joint in enumerate(after.joints):
            other = known.get(sort(1, joint)) if sort(1, joint) else None
            if found[i] < 0 and other is not None and other not in taken:
                found[i] = other
                taken.add(other)
    return found


def _number(name: str) -> str:
    return "".join(c for c in name if c.isdigit()).lstrip("0")


def _parts(bones: Bones) -> dict[str, str]:
    own = {j.id: j.constant("part") for j in bones.joints if j.constant("part") not in ("none", "limb")}
    return own or body_parts.proposed(bones)


def _is_alike(before: Bones, after: Bones, partner: np.ndarray) -> bool:
    """Whether every two partners rest turned alike, and hang on partners."""
    for i in np.flatnonzero(partner >= 0):
        a, b = before.at_rest[partner[i]][:3, :3], after.at_rest[i][:3, :3]
        up = after.parents[i]
        hangs = before.parents[partner[i]] == (partner[up] if up >= 0 else -1)
        if not hangs or np.abs(a - b).max() > ALIKE * max(np.abs(a).max(), 1e-12):
            return False
    return True


def _channels(before: Bones, after: Bones, partner: np.ndarray, poses: Pose) -> dict[int, dict[str, np.ndarray]]:
    """Joint -> channel -> (k,) values by which joints stand in the world as their partners do in poses (k, ...)."""
    rest_before, rest_after = (turns.split(b.at_rest[:, :3, :3])[0] for b in (before, after))
    lean = _leans(before, after, partner)
    tall = [max(float(np.ptp(b.at_rest[:, 1, 3])), 1e-9) for b in (before, after)]
    size = tall[1] / tall[0]
    found: dict[int, dict[str, list]] = {}
    near: dict[int, np.ndarray] = {}
    for place, turn, stretch in zip(*poses, strict=True):
        world = in_skeleton(Pose(place, turn, stretch), before.parents, before.order)
        now = turns.split(world[:, :3, :3])[0]
        went = turns.product(now, turns.inverse(rest_before))
        pose, whole = after.rest._replace(**{n: getattr(after.rest, n).copy() for n in Pose._fields}), rest_after.copy()
        for i in after.order.tolist():
            up, k = int(after.parents[i]), int(partner[i])
            above = whole[up] if up >= 0 else np.array([0.0, 0, 0, 1])
            own = turns.product(above[None], after.rest.turn[i][None])[0]
            if k >= 0:
                own = turns.product(went[k][None], turns.product(lean[i][None], rest_after[i][None]))[0]
            whole[i], pose.turn[i] = own, turns.product(turns.inverse(above[None]), own[None])[0]
            if k >= 0 and up < 0:
                pose.place[i] = after.rest.place[i] + size * (world[k, :3, 3] - before.at_rest[k, :3, 3])
        for i, values in posed_channels(after, pose, np.flatnonzero(partner >= 0), near).items():
            near[i] = np.array([values[n] for n in TURNS])
            for name in (*TURNS, *(PLACES if after.parents[i] < 0 else ())):
                found.setdefault(i, {}).setdefault(name, []).append(values[name])
    return {i: {n: np.array(c) for n, c in own.items()} for i, own in found.items()}


def _leans(before: Bones, after: Bones, partner: np.ndarray) -> np.ndarray:
    """(n, 4) what turns each limb of `after` from where it rests to where its partner does."""
    found = np.tile([0.0, 0, 0, 1], (len(after), 1))
    for i in after.order.tolist():
        k, up = int(partner[i]), int(after.parents[i])
        if k < 0 or not (before.children[k] and after.children[i]):
            found[i] = found[up] if up >= 0 else found[i]
            continue
        ways = [b.at_rest[j, :3, :3] @ b.tips[j] for b, j in ((after, i), (before, k))]
        ways = [w / max(float(np.linalg.norm(w)), 1e-12) for w in ways]
        if np.arccos(np.clip(ways[0] @ ways[1], -1, 1)) > TURNED:
            found[i] = turns.between(ways[0][None], ways[1][None])[0]
    return found


def _channel(frames: list, column: np.ndarray, is_keyed: bool) -> float | Curve:
    if not is_keyed or np.ptp(column) < ALIKE:
        return float(column[0])
    return Curve(keys=tuple(Key(frame=f, value=float(v)) for f, v in zip(frames, column, strict=True)))
