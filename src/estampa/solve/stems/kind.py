"""Wind on stems: joints as damped rotational springs, loaded by the wind's drag on their segments."""

from typing import NamedTuple

import numpy as np

from ...errors import EstampaError
from ...fields.force import AIR_DENSITY
from ...geometry import pose as turns
from ...geometry.pose import turn_matrices
from ...kinds.channels import number, ref, switch, whole
from ...kinds.fields import ACCELERATION, AIR
from ...scene.bones import Bones
from ...scene.parts import joints_of
from ..frame import Column, Frame
from ..solver import PoseInputs, PoseSolver
from . import kernels


class Stems(PoseSolver):
    """Every joint is a damped rotational spring that goes back to the pose that enters; the wind drags at its segment.

    The pose that enters may move: what hangs on it lags behind. Parts may read winds of their own: give each part a
    layer. A stiff trunk has a stiffness in the thousands, stalks twenty times less, leaves least (common practice).
    """

    kind, title = "stems", "Wind on stems"
    icon = "M8 14 V9 M8 9 C8 5 6 4 3 4 M8 9 C8 6 10 5 13 5.5 M8 12 C9.5 10 11.5 9.5 13.5 10 M1.5 7 H4 M1.5 9.5 H5"
    group = "swing"
    shortcut = "Ctrl+5"
    rank = 8
    reads = frozenset({ACCELERATION, AIR})
    tables = {
        "joints": (
            Column("turn", (3,), "rad", "Its turn within what it hangs on, as a rotation vector."),
            Column("spin", (3,), "rad/s", "How fast it turns within that."),
        )
    }
    shown = ("turn",)
    presets = {
        "Trunk": {"stiffness": 3000.0, "tip_stiffness": 0.15, "mass": 4.0, "width": 0.12, "ratio": 0.08},
        "Stalk": {"stiffness": 150.0, "tip_stiffness": 0.1, "mass": 0.5, "width": 0.03, "ratio": 0.06},
        "Reed": {"stiffness": 20.0, "tip_stiffness": 0.1, "mass": 0.1, "width": 0.012, "ratio": 0.05},
        "Leaf": {"stiffness": 0.6, "tip_stiffness": 0.1, "mass": 0.02, "width": 0.05, "ratio": 0.12},
    }

    wind = ref("wind", "The wind that this part reads; none takes all of them.")
    stiffness = number(50, "Of the first joint's spring.", unit="N.m/rad", soft=(0.1, 3000), hard=(0, None))
    tip_stiffness = number(
        0.2, "Of the last one's, against the first.", title="At the tip", unit="factor", soft=(0.01, 1), hard=(0, None)
    )
    ratio = number(
        0.08, "How soon each spring comes to rest: 0 never, 1 without overshooting (damping ratio).",
        title="Damping ratio", unit="factor", soft=(0, 1), hard=(0, None),
    )  # fmt: skip
    mass = number(0.3, "Mass of a metre of the first segment.", unit="kg/m", soft=(0.005, 5), hard=(1e-6, None))
    tip_mass = number(
        0.4,
        "Of the last one's, against the first.",
        title="At the tip",
        unit="factor",
        soft=(0.05, 1),
        hard=(1e-6, None),
    )
    width = number(0.03, "How wide the segments are to the wind.", unit="m", soft=(0.002, 0.5), hard=(0, None))
    drag = number(1.1, "Drag; a round rod across the wind has about 1.1.", unit="factor", soft=(0, 2), hard=(0, None))
    weight = switch(
        False,
        "Sags under gravity; off, the rest is taken to be the shape that its weight gave it.",
        title="Feels gravity",
    )
    substeps = whole(8, "Small steps in each frame.", soft=(2, 30), hard=(1, 1000))

    def start(self, inputs):
        chain = joints_of(inputs.bones, inputs.v)
        vectors = turns.turn_vectors(_within(inputs.now, inputs.bones, chain))
        return Frame.of(self.tables, "joints", turn=vectors, spin=np.zeros((len(chain), 3)))

    def step(self, frame, inputs, dt):
        bones, v, world = inputs.bones, inputs.v, inputs.world
        chain = joints_of(bones, v)
        if not len(chain):
            return frame
        parts = StemParts.of(bones, chain, inputs.now, inputs.own, v)
        turn = turn_matrices(turns.from_vectors(frame["joints"]["turn"].astype(float)))
        spin = frame["joints"]["spin"].astype(float)
        base = _base(bones, chain, parts.parents, inputs, dt)
        axes, middles = parts.laid_out(turn, base.turn, base.place)
        air = np.ascontiguousarray(world.air(middles)) if v.drag * parts.area.sum() > 0 else np.zeros_like(middles)
        gravity = world.acceleration(middles) if v.weight else np.zeros_like(middles)
        rest = turn_matrices(_within(inputs.now, bones, chain))
        whirls = EstampaError(
            "The stems",
            "whirl faster than can be followed.",
            "Raise Substeps or Mass, or lower the wind's speed; what you changed last is the likely one.",
        )
        try:
            kernels.advance(
                turn, spin, parts, base, rest, gravity, air, 0.5 * AIR_DENSITY * v.drag, v.substeps, dt / v.substeps
            )  # fmt: skip
        except np.linalg.LinAlgError:  # a mass next to none beside a large one
            raise whirls from None
        if not (np.isfinite(turn).all() and np.isfinite(spin).all() and np.abs(spin).max() < 1e5):
            raise whirls
        vectors = turns.turn_vectors(turns.turns_of(turn))
        return Frame.of(self.tables, "joints", turn=vectors, spin=spin)

    def pose(self, frame, bones, pose, at, world, v):
        chain = joints_of(bones, v)
        if len(chain) != len(frame["joints"]):
            return pose
        # turns within the parent's axes; under a stretched parent, that of its turn alone
        result = pose.copy()
        result.turn[chain] = turns.from_vectors(frame["joints"]["turn"].astype(float))
        return result


def _within(world: np.ndarray, bones: Bones, chain) -> np.ndarray:
    """(m, 4) turns of joints within what they hang on, from their matrices in the world."""
    own = turns.split(world[:, :3, :3])[0]
    return turns.product(turns.inverse(turns.above_of(own, bones.parents[chain])), own[chain])


class StemParts(NamedTuple):
    """A tree of m rigid segments, as `kernels.advance` takes it."""

    parents: np.ndarray  # (m,) -1 hangs on the base; parents stand before their children
    offset: np.ndarray  # (m, 3) m the joint, in the frame of its parent
    middle: np.ndarray  # (m, 3) m the middle of its mass, in its own frame
    inertia: np.ndarray  # (m, 3, 3) kg m2 about the joint, in its own frame
    mass: np.ndarray  # (m,) kg
    stiff: np.ndarray  # (m,) N m / rad
    damp: np.ndarray  # (m,) N m s / rad
    area: np.ndarray  # (m,) m2

    @classmethod
    def of(cls, bones: Bones, chain, world: np.ndarray, own: dict, v) -> "StemParts":
        """world (n, 4, 4) of the joints as they stand; own -- the joints' own factors."""
        where = np.full(len(bones), -1)
        where[chain] = np.arange(len(chain))
        parents = np.where(bones.parents[chain] >= 0, where[bones.parents[chain]], -1)
        axes = turn_matrices(turns.split(world[:, :3, :3])[0])
        above = np.where(bones.parents[chain] >= 0, bones.parents[chain], chain)
        step = world[chain, :3, 3] - world[above, :3, 3]
        offset = np.einsum("mji,mj->mi", axes[above], step)
        tip = np.einsum("mji,mjk,mk->mi", axes[chain], world[chain, :3, :3], bones.tips[chain])
        length = np.linalg.norm(tip, axis=1)
        share = _down(bones, chain)
        profile = lambda root, tip_factor: root * np.maximum(tip_factor, 1e-9) ** share
        mass = profile(v.mass, v.tip_mass) * np.maximum(length, 1e-4) * own["mass"][chain]
        mass = np.maximum(mass, 1e-9)
        along = tip / np.maximum(length, 1e-12)[:, None]
        about = mass * np.maximum(length, 1e-3) ** 2 / 3
        round_ = np.einsum("mi,mj->mij", along, along)
        thick = np.maximum(mass * v.width**2 / 8, 0.02 * about)  # a segment that turns about itself
        inertia = about[:, None, None] * (np.eye(3) - round_) + thick[:, None, None] * round_
        stiff = profile(v.stiffness, v.tip_stiffness) * own["stiffness"][chain]
        area = v.width * length * own["area"][chain]
        parts = cls(parents, offset, tip / 2, inertia, mass, stiff, stiff * 0, area)
        return parts._replace(damp=2 * v.ratio * np.sqrt(stiff * parts.beyond()))

    def laid_out(self, turn, base_turn, base_place):
        """((m, 3, 3) axes, (m, 3) middles) in the world."""
        axes, place = np.empty_like(turn), np.empty((len(turn), 3))
        for i, p in enumerate(self.parents):
            axes[i] = (base_turn[i] if p < 0 else axes[p]) @ turn[i]
            place[i] = base_place[i] if p < 0 else place[p] + axes[p] @ self.offset[i]
        return axes, place + np.einsum("mij,mj->mi", axes, self.middle)

    def beyond(self) -> np.ndarray:
        """(m,) kg m2: the largest inertia about each joint of all that hangs on it, taken as stretched out straight."""
        total, weight = np.linalg.norm(self.inertia, 2, axis=(1, 2)), self.mass.copy()
        moment = self.mass * np.linalg.norm(self.middle, axis=1)
        for i in range(len(self.parents) - 1, -1, -1):
            p = self.parents[i]
            if p >= 0:
                far = float(np.linalg.norm(self.offset[i]))
                total[p] += total[i] + 2 * far * moment[i] + weight[i] * far**2
                moment[p] += moment[i] + weight[i] * far
                weight[p] += weight[i]
        return total

    def frequencies(self) -> np.ndarray:
        """(m,) Hz of each joint alone, with all that hangs on it held stiff: sqrt(k / I) / 2 pi."""
        return np.sqrt(self.stiff / self.beyond()) / (2 * np.pi)

    def modes(self, turn, base_turn, base_place, count: int = 6) -> np.ndarray:
        """(count,) Hz, the lowest natural frequencies of the whole tree: of K w = (2 pi f)^2 M w."""
        from scipy.linalg import eigh

        m = len(self.parents)
        axes, middles = self.laid_out(turn, base_turn, base_place)
        place = middles - np.einsum("mij,mj->mi", axes, self.middle)
        system = np.zeros((3 * m, 3 * m))
        for b in range(m):
            c = middles[b] - place[b]
            about = axes[b] @ self.inertia[b] @ axes[b].T - self.mass[b] * (c @ c * np.eye(3) - np.outer(c, c))
            spin, move = np.zeros((3, 3 * m)), np.zeros((3, 3 * m))
            i = b
            while i >= 0:
                spin[:, 3 * i : 3 * i + 3] = np.eye(3)
                move[:, 3 * i : 3 * i + 3] = -_skew(middles[b] - place[i])
                i = self.parents[i]
            system += spin.T @ about @ spin + self.mass[b] * move.T @ move
        squares = eigh(
            np.diag(np.repeat(self.stiff, 3)), system, eigvals_only=True, subset_by_index=[0, min(count, 3 * m) - 1]
        )
        return np.sqrt(np.maximum(squares, 0)) / (2 * np.pi)


def _skew(a) -> np.ndarray:
    return np.array([[0, -a[2], a[1]], [a[2], 0, -a[0]], [-a[1], a[0], 0]])


def _down(bones: Bones, chain) -> np.ndarray:
    """(m,) how far each joint is down the longest way through it, 0 at a root and 1 at a tip."""
    inside = set(int(i) for i in chain)
    above, under = np.zeros(len(bones)), np.zeros(len(bones))
    for i in chain:
        p = int(bones.parents[i])
        above[i] = above[p] + 1 if p in inside else 0
    for i in chain[::-1]:
        p = int(bones.parents[i])
        if p in inside:
            under[p] = max(under[p], under[i] + 1)
    return above[chain] / np.maximum(above[chain] + under[chain], 1)


def _base(bones, chain, parents, inputs: PoseInputs, dt) -> kernels.StemBase:
    """How what the roots hang on moves over a frame: turn, place at its start, rates at its start and their changes."""
    m = len(chain)
    turn, place = np.tile(np.eye(3), (m, 1, 1)), np.zeros((m, 3))
    spin, speed, gain, push = (np.zeros((m, 3)) for _ in range(4))
    roots = np.flatnonzero(parents < 0)
    above = bones.parents[chain[roots]]
    frames = []
    for world in (inputs.earlier, inputs.before, inputs.now):
        own = turns.split(world[:, :3, :3])[0]
        frames.append((turns.above_of(own, above), world[chain[roots], :3, 3]))
    (q0, p0), (q1, p1), (q2, p2) = frames
    rate = lambda a, b: turns.turn_vectors(turns.product(b, turns.inverse(a))) / dt
    w0, w1 = rate(q0, q1), rate(q1, q2)
    v0, v1 = (p1 - p0) / dt, (p2 - p1) / dt
    turn[roots], place[roots] = turn_matrices(q1), p1
    # speeds go over from the last frame's mean to this one's, and the base arrives where it should
    spin[roots], gain[roots] = 0.5 * (w0 + w1), (w1 - w0) / dt
    speed[roots], push[roots] = 0.5 * (v0 + v1), (v1 - v0) / dt
    return kernels.StemBase(turn, place, spin, speed, gain, push)


def parts_of(evaluator, skeleton, layer, frame: float) -> tuple[Bones, np.ndarray, StemParts]:
    """(bones, joints, their parts) of a stems layer at a frame, for what a sheet tells of them."""
    poses = evaluator.poses
    bones, v = poses.bones(skeleton), evaluator.resolve(layer, skeleton, frame)
    chain = joints_of(bones, v)
    world = poses.world(skeleton, frame, evaluator.layers_above(skeleton, layer) if layer.on else [])
    return bones, chain, StemParts.of(bones, chain, world, poses.factors(bones, frame), v)
