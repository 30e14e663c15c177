"""What a skeleton is before anything moves: its joints in order, how they hang, their rest; and its pose by hand."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..errors import EstampaError
from ..geometry import pose as turns
from ..geometry.pose import Pose, Ring, ends_of, in_skeleton, parents_first
from ..hashing import digest
from .document import Rest, Thing
from .skeleton import LIMB, OWN, PLACES, POSED, STRETCHES, TURNS, Joint


@dataclass(frozen=True, eq=False)
class Bones:
    """The joints of a skeleton as arrays; n joints, in the order in which the skeleton names them."""

    name: str
    joints: tuple[Thing, ...]
    parents: np.ndarray  # (n,) int64, -1 for a root
    order: np.ndarray  # (n,) parents before their children
    rest: Pose

    @classmethod
    def of(cls, skeleton: Thing) -> "Bones":
        """Raises EstampaError when joints hang on one another in a ring."""
        joints = skeleton.joints
        where = {j.id: i for i, j in enumerate(joints)}
        parents = np.array([where.get(j.constant("parent"), -1) for j in joints], np.int64)
        return cls(skeleton.name, joints, parents, _order(skeleton.name, joints, parents), rest_of(joints))

    def __len__(self) -> int:
        return len(self.joints)

    @property
    def ids(self) -> tuple[str, ...]:
        return tuple(j.id for j in self.joints)

    @cached_property
    def where(self) -> dict[str, int]:
        """Which joint an id is."""
        return {j.id: i for i, j in enumerate(self.joints)}

    @cached_property
    def posed(self) -> list[int]:
        """The joints that hands have moved."""
        return [i for i, j in enumerate(self.joints) if any(n in j.values for n in POSED)]

    @cached_property
    def numbers(self) -> list[tuple[int, str]]:
        """(joint, channel) of every number that is not left as it is declared."""
        known = Joint.channels
        return [(i, n) for i, j in enumerate(self.joints) for n in j.values if n in known and known[n].type == "number"]

    @cached_property
    def children(self) -> list[list[int]]:
        found = [[] for _ in self.joints]
        for i, p in enumerate(self.parents):
            if p >= 0:
                found[p].append(i)
        return found

    @cached_property
    def tips(self) -> np.ndarray:
        """(n, 3) where each joint ends, in its own space: at its first child, or at its own tip."""
        own = np.array([(j.rest or Rest()).tip for j in self.joints], float).reshape(-1, 3)
        for i, below in enumerate(self.children):
            if below:
                own[i] = self.rest.place[below[0]]
        return own

    @cached_property
    def segments(self) -> tuple[np.ndarray, np.ndarray]:
        """((s,) joint, (s, 3) end in its own space): from each joint to each that hangs on it, or to its tip."""
        joint, end = [], []
        for i, below in enumerate(self.children):
            ends = [self.rest.place[c] for c in below] or [self.tips[i]]
            joint += [i] * len(ends)
            end += ends
        return np.array(joint, np.int64), np.array(end, float).reshape(-1, 3)

    def segment_ends(self, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """((s, 3) starts, (s, 3) ends) of the segments where matrices (n, 4, 4) put the joints."""
        joint, end = self.segments
        return at[joint, :3, 3], ends_of(at[joint], end)

    @cached_property
    def lengths(self) -> np.ndarray:
        """(n,) metres from each joint to its end, at rest, in the skeleton's own space."""
        return np.linalg.norm(np.einsum("nij,nj->ni", self.at_rest[:, :3, :3], self.tips), axis=1)

    @cached_property
    def depth(self) -> np.ndarray:
        """(n,) how many joints each hangs below a root."""
        found = np.zeros(len(self), np.int64)
        for i in self.order:
            found[i] = 0 if self.parents[i] < 0 else found[self.parents[i]] + 1
        return found

    @cached_property
    def at_rest(self) -> np.ndarray:
        """(n, 4, 4) rest matrices in the skeleton's own space."""
        return in_skeleton(self.rest, self.parents, self.order)

    @cached_property
    def digest(self) -> bytes:
        own = [[j.values.get(n) for n in OWN] for j in self.joints]
        plain = [[v if isinstance(v, (int, float)) else None for v in row] for row in own]
        known = lambda v: v if isinstance(v, (int, float, str)) else None  # not what a newer version wrote
        limbs = [[known(j.values.get(n)) for n in LIMB] for j in self.joints]
        given = limbs if any(any(row) for row in limbs) else None
        return digest("bones", self.parents, *self.rest, self.tips, plain, *([given] if given else []))

    def below(self, joint: int) -> np.ndarray:
        """A joint and all that hang on it, parents first."""
        inside = np.zeros(len(self), bool)
        inside[joint] = True
        for i in self.order:
            inside[i] |= self.parents[i] >= 0 and inside[self.parents[i]]
        return self.order[inside[self.order]]

    def chain(self, first: int | None, last: int | None) -> np.ndarray:
        """The joints from `first` down to `last`; without a last one all that hang on the first, and without a first
        one all there are. Parents first. Empty when the last does not hang on the first."""
        if first is None:
            return self.order if last is None else self.up(last)[::-1]
        if last is None:
            return self.below(first)
        up = self.up(last)
        return up[: list(up).index(first) + 1][::-1] if first in up else np.zeros(0, np.int64)

    def tapered(self, chain: np.ndarray, tip: float) -> tuple[np.ndarray, np.ndarray]:
        """((m,) how many joints down each of a chain is, (m,) factors that go from 1 there to `tip` at the deepest)."""
        down = self.depth[chain] - self.depth[chain].min()
        return down, 1 + (tip - 1) * down / max(down.max(), 1)

    def up(self, joint: int) -> np.ndarray:
        """A joint and those that it hangs on, up to the root."""
        found = [joint]
        while self.parents[found[-1]] >= 0:
            found.append(int(self.parents[found[-1]]))
        return np.array(found, np.int64)

    def kept(self, what, make):
        """Something that depends on the joints alone, made once."""
        found = self.__dict__.setdefault("_made", {})
        if what not in found:
            found[what] = make()
        return found[what]

    def strands(self, among: np.ndarray) -> list[np.ndarray]:
        """The joints `among` as strands: each from a joint whose own is not among them, or that branches off, on
        through first children."""
        inside = set(int(i) for i in among)
        found = []
        for i in among:
            parent = int(self.parents[i])
            if parent in inside and self.children[parent][0] == i:
                continue
            line = [int(i)]
            while self.children[line[-1]] and self.children[line[-1]][0] in inside:
                line.append(self.children[line[-1]][0])
            found.append(np.array(line, np.int64))
        return found


def _order(name, joints, parents) -> np.ndarray:
    try:
        return parents_first(parents)
    except Ring as err:
        at, ring = err.at, []
        while at not in ring:
            ring.append(at)
            at = int(parents[at])
        words = " → ".join(joints[j].name for j in [*ring[ring.index(at) :], at])
        raise EstampaError(
            name, f"has joints that hang on one another in a ring: {words}.", "Let one of them hang on another joint."
        ) from None


def rest_of(joints) -> Pose:
    rests = [j.rest or Rest() for j in joints]
    count = len(rests)
    return Pose(
        np.array([r.place for r in rests], float).reshape(count, 3),
        np.array([r.turn for r in rests], float).reshape(count, 4),
        np.array([r.stretch for r in rests], float).reshape(count, 3),
    )


def hand_poses(values, bones: Bones, rows) -> Pose:
    """The pose by hand in each row: arrays (k, n, 3), (k, n, 4), (k, n, 3). values -- a scene.values.Values."""
    k = len(rows)
    place, turn, stretch = (np.repeat(part[None], k, axis=0) for part in bones.rest)
    for i in bones.posed:
        joint = bones.joints[i]
        v = {n: values.rows(joint, n, rows) for n in POSED if n in joint.values}
        for j, name in enumerate(PLACES):
            if name in v:
                place[:, i, j] += v[name]
        for j, name in enumerate(STRETCHES):
            if name in v:
                stretch[:, i, j] *= v[name]
        if any(n in v for n in TURNS):
            still = np.zeros(k)
            turn[:, i] = turns.product(turn[:, i], turns.from_euler(*(v.get(n, still) for n in TURNS)))
    return Pose(place, turn, stretch)


def hand_pose(values, bones: Bones, rows) -> Pose:
    """The pose by hand in the first row."""
    return Pose(*(part[0] for part in hand_poses(values, bones, rows)))


def posed_channels(bones: Bones, pose: Pose, joints=None, near: dict | None = None) -> dict[int, dict[str, float]]:
    """Channel values that would put joints into a pose by hand; `near` are turns (3,) to stay near to, by joint."""
    found = {}
    for i in range(len(bones)) if joints is None else joints:
        rest = Pose(*(part[i] for part in bones.rest))
        turn = turns.product(turns.inverse(rest.turn), pose.turn[i])
        angles = turns.to_euler(turn[None], (near or {}).get(int(i)))[0]
        size = pose.stretch[i] / np.where(rest.stretch == 0, 1, rest.stretch)
        numbers = np.concatenate([pose.place[i] - rest.place, angles, size])
        found[int(i)] = dict(zip(POSED, numbers.tolist(), strict=True))
    return found
