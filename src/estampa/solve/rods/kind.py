"""Swinging chains: strands of joints as position-based rods, from ropes and tails to curtains of beads."""

from typing import NamedTuple

import numpy as np

from ...errors import EstampaError
from ...fields.force import AIR_DENSITY, Obstacle, World
from ...geometry import pose as turns
from ...geometry.place import Place
from ...geometry.pose import turn_matrices
from ...geometry.triangle_grid import Grid
from ...kinds.channels import choice, number, ref, switch, whole
from ...kinds.fields import FIELDS, POOL
from ...scene.bones import Bones
from ...scene.parts import joints_of
from ..frame import Column, Frame, Table
from ..solver import PLACED, PoseInputs, PoseSolver
from . import arrays, kernels

SHAPES = ("sphere", "capsule", "box", "plane")


class Chain(PoseSolver):
    """Strands that stretch, bend and twist, held where they hang; pushed by wind and forces, and by what is solid.

    A rope, a tail, an antenna, a cord of lanterns, a curtain of beads: a strand runs from each joint on through the
    first that hangs on it. The joints keep their lengths, so what is solved can be baked to turns alone.
    """

    kind, title = "chain", "Swinging chain"
    icon = "M3 2.5 H13 M8 2.5 C8 5 5 6 5.5 8.5 S10 11 9 13.5 M8 4 a.9 .9 0 1 0 .01 0 M5.6 7.4 a.9 .9 0 1 0 .01 0 M9 12.4 a1.2 1.2 0 1 0 .01 0"  # noqa: E501
    group = "swing"
    shortcut = "Ctrl+6"
    rank = 7
    reads = FIELDS - {POOL}
    tables = {
        "points": PLACED,
        "segments": (
            Column("turn", (3,), "rad", "Its turn in the world, as a rotation vector."),
            Column("spin", (3,), "rad/s", "How fast it turns, about its own axes."),
        ),
    }
    shown = ("position", "turn")
    presets = {
        "Rope": {"mass": 0.12, "bend": 0.002, "radius": 0.012},
        "Bead string": {"mass": 0.06, "bend": 0.0, "twist": 0.0, "radius": 0.012, "clamp": False},
        "Cable with lanterns": {"mass": 0.4, "bend": 0.002, "radius": 0.01, "held": "both", "clamp": False},
        "Tail": {"mass": 0.8, "tip_mass": 0.3, "bend": 0.25, "tip_bend": 0.2, "radius": 0.03, "damping": 1.5},
        "Antenna": {"mass": 0.02, "tip_mass": 0.4, "bend": 0.02, "tip_bend": 0.1, "radius": 0.003, "damping": 0.6},
    }

    held = choice(
        "root", "Where the strands are held: they follow the pose that enters there.",
        {"root": "At the root", "tip": "At the tip", "both": "At both ends", "none": "Nowhere"},
    )  # fmt: skip
    clamp = switch(True, "At the root they keep the direction of what they hang on; off, they swing freely about it.")
    hang_on = ref("subject", "Their held ends follow the nearest points of this moving mesh.", title="Hang on mesh")
    mass = number(0.2, "Mass of a metre at the root.", unit="kg/m", soft=(0.005, 3), hard=(1e-5, None))
    tip_mass = number(
        1, "Mass of a metre at the tip, against the root.", title="At the tip", unit="factor", soft=(0.05, 3),
        hard=(1e-3, None),
    )  # fmt: skip
    end_mass = number(0, "What hangs at the tip besides, as a lantern.", unit="kg", soft=(0, 2), hard=(0, None))
    bend = number(0.01, "Resistance to bending at the root (E I).", unit="N.m2", soft=(0, 0.5), hard=(0, None))
    tip_bend = number(
        1, "The same at the tip, against the root.", title="At the tip", unit="factor", soft=(0.02, 1), hard=(0, None)
    )
    twist = number(0.01, "Resistance to twisting (G J).", unit="N.m2", soft=(0, 0.5), hard=(0, None))
    stretch = number(
        20_000, "Force that would make it twice as long (E A).", unit="N", soft=(10, 50_000), hard=(1, None)
    )
    curl = number(
        1, "How far it goes back to the curve that it has at rest; 0 is straight.", title="Rest curve", unit="fraction",
        soft=(0, 1), hard=(0, 1),
    )  # fmt: skip
    damping = number(0.4, "Share of its speed that it loses each second.", unit="1/s", soft=(0, 5), hard=(0, None))
    radius = number(
        0.015, "Half its thickness, for wind and for what it runs into.", unit="m", soft=(0.002, 0.2), hard=(1e-5, None)
    )
    drag = number(1.1, "Drag; a round rod across the wind has about 1.1.", unit="factor", soft=(0, 2), hard=(0, None))
    wind = ref("wind", "The wind that this part reads; none takes all of them.")
    collide = switch(True, "Strands run into colliders.", title="Meets colliders")
    touch = switch(True, "Strands run into one another.", title="Meets one another")
    keeps_length = switch(
        True, "Joints keep their lengths and are only turned; off, they follow where the strand stretches."
    )
    substeps = whole(20, "Small steps in each frame. More are stiffer and slower.", soft=(5, 60), hard=(1, 1000))

    def start(self, inputs):
        lay = Layout.of(inputs.bones, inputs.v)
        points = lay.points_of(inputs.now)
        vectors = turns.turn_vectors(turns.split(inputs.now[lay.joints, :3, :3])[0])
        return self._frame(points, np.zeros_like(points), vectors, np.zeros_like(vectors))

    def _frame(self, place, speed, turn, spin) -> Frame:
        made = {"points": {"position": place, "velocity": speed}, "segments": {"turn": turn, "spin": spin}}
        return Frame({n: Table({c.name: c.array(made[n][c.name]) for c in self.tables[n]}) for n in made})

    def step(self, frame, inputs, dt):
        v, world, bones = inputs.v, inputs.world, inputs.bones
        lay = Layout.of(bones, v)
        if not len(lay.joints):
            return frame
        points, segments = frame["points"], frame["segments"]
        x, q = points["position"].astype(float), turns.from_vectors(segments["turn"].astype(float))
        speed, spin = points["velocity"].astype(float), segments["spin"].astype(float)
        before, now = (lay.points_of(m) for m in (inputs.before, inputs.now))
        if inputs.carried is not None:
            before, now = before + inputs.carried[0][lay.of_joint], now + inputs.carried[1][lay.of_joint]
        rods = lay.rods(bones, inputs, now)
        air = np.ascontiguousarray(world.air(x)) if v.drag > 0 else np.zeros_like(x)
        gravity = np.ascontiguousarray(world.acceleration(x))
        exposed = lay.halves(2 * v.radius * rods.length * inputs.own["area"][lay.joints])
        world_felt = world if v.collide else World()
        solids, surface = _solids(world_felt, v.substeps), _surface(world_felt, v.radius)
        motion = arrays.RodMotion(x, speed, q, spin)
        holds = arrays.RodHolds(before, now, lay.bases(inputs.before), lay.bases(inputs.now))
        forces = arrays.RodForces(gravity, air, 0.5 * AIR_DENSITY * v.drag * exposed, float(v.damping))
        touch = v.touch and len(rods.clamp) > 1
        kernels.advance(rods, motion, holds, forces, solids, surface, touch, v.substeps, dt / v.substeps)
        _check(x, speed, v)
        return self._frame(x, speed, turns.turn_vectors(q), spin)

    def pose(self, frame, bones, pose, at, world, v):
        lay = Layout.of(bones, v)
        joints, parents = lay.joints, bones.parents[lay.joints]
        solved, turn = frame["points"]["position"].astype(float), frame["segments"]["turn"].astype(float)
        if len(solved) != lay.count or len(turn) != len(joints):
            return pose
        back = world.inverse()
        points = back.apply(solved[None])[0]
        stands, size = turns.split(at[:, :3, :3])
        origin = at[:, :3, 3].copy()
        # where the joints are now, within the skeleton's own axes; what is not solved stands as it entered
        stands[joints] = turns.product(turns.turns_of(back.axes)[0], turns.from_vectors(turn))
        origin[joints] = points[lay.point_of]
        above = np.maximum(parents, 0)
        hangs = turns.above_of(stands, parents)
        result = pose.copy()
        result.turn[joints] = turns.product(turns.inverse(hangs), stands[joints])
        moved = (
            ~np.isin(np.arange(len(joints)), lay.segments[:-1]) if not v.keeps_length else np.zeros(len(joints), bool)
        )
        moved[lay.segments[:-1][lay.hung < 0]] = True  # a strand that hangs on another one keeps its place there
        away = turns.turned(
            turns.inverse(hangs), origin[joints] - np.where((parents >= 0)[:, None], origin[above], 0.0)
        )
        away /= np.where((parents >= 0)[:, None] & (np.abs(size[above]) > 1e-9), size[above], 1.0)
        result.place[joints[moved]] = away[moved]
        return result


def _check(x, speed, v):
    if np.isfinite(x).all() and np.abs(x).max() < 1e6 and np.abs(speed).max() < 1e4:
        return
    likely = "Bend or Stretch is high for so few substeps" if v.bend > 1 or v.stretch > 1e6 else "Substeps are too few"
    raise EstampaError(
        "The chain",
        f"flew apart; {likely}.",
        "Raise Substeps or Mass, or lower the channel that you changed last (stiffness or wind speed).",
    )


class Layout(NamedTuple):
    """Where the points and segments of a skeleton's strands stand in flat arrays."""

    joints: np.ndarray  # (m,) the joint of each segment
    points: np.ndarray  # (strands + 1,)
    segments: np.ndarray  # (strands + 1,)
    point_of: np.ndarray  # (m,) first point of each segment
    strand_of: np.ndarray  # (m,)
    of_joint: np.ndarray  # (p,) the joint that each point belongs to
    hung: np.ndarray  # (strands,) a point of another strand that the first one hangs on, or -1
    above: np.ndarray  # (strands,) joint that the first one hangs on, or -1
    tips: np.ndarray  # (n, 3)

    @classmethod
    def of(cls, bones: Bones, v) -> "Layout":
        """Of the joints that a layer's channels say; made once."""
        joints = joints_of(bones, v)
        return bones.kept(("strands", joints.tobytes()), lambda: cls._of(bones, joints))

    @classmethod
    def _of(cls, bones, joints):
        strands = bones.strands(joints)
        sizes = np.array([len(s) for s in strands], np.int64)
        segments = np.concatenate([[0], np.cumsum(sizes)])
        points = np.concatenate([[0], np.cumsum(sizes + 1)])
        joints = np.concatenate(strands) if strands else np.zeros(0, np.int64)
        strand_of = np.repeat(np.arange(len(strands)), sizes)
        point_of = np.arange(len(joints)) + strand_of
        of_joint = np.concatenate([np.append(s, s[-1]) for s in strands]) if strands else joints
        where = {int(j): int(s) for s, j in enumerate(joints)}
        above = np.array([bones.parents[s[0]] for s in strands], np.int64)
        hung = np.array([point_of[where[int(a)]] + 1 if int(a) in where else -1 for a in above], np.int64)
        return cls(joints, points, segments, point_of, strand_of, of_joint, hung, above, bones.tips)

    @property
    def count(self) -> int:
        return int(self.points[-1])

    def points_of(self, world: np.ndarray) -> np.ndarray:
        """(p, 3) where joints as they stand put the points."""
        result = np.empty((self.count, 3))
        result[self.point_of] = world[self.joints, :3, 3]
        ends = self.points[1:] - 1
        last = self.joints[self.segments[1:] - 1]
        result[ends] = turns.ends_of(world[last], self.tips[last])
        return result

    def bases(self, world: np.ndarray) -> np.ndarray:
        """(strands, 4) turns of what the strands hang on."""
        return turns.above_of(turns.split(world[:, :3, :3])[0], self.above)

    def halves(self, of_segments: np.ndarray) -> np.ndarray:
        """(p,) what segments (m,) give to the points at their ends, half to each."""
        result = np.zeros(self.count)
        np.add.at(result, self.point_of, 0.5 * of_segments)
        np.add.at(result, self.point_of + 1, 0.5 * of_segments)
        return result

    def rods(self, bones: Bones, inputs: PoseInputs, now: np.ndarray) -> arrays.Rods:
        v, own = inputs.v, inputs.own
        p, j = self.count, self.joints
        length = np.maximum(np.linalg.norm(now[self.point_of + 1] - now[self.point_of], axis=1), 1e-6)
        sizes = np.diff(self.segments)
        down = (np.arange(len(j)) - self.segments[self.strand_of]) / np.maximum(sizes[self.strand_of] - 1, 1)
        profile = lambda root, tip: root * np.maximum(tip, 1e-9) ** down
        segment = profile(v.mass, v.tip_mass) * length * own["mass"][j]
        mass = self.halves(segment)
        mass[self.points[1:] - 1] += v.end_mass
        weight = 1 / np.maximum(mass, 1e-9)
        if v.held in ("root", "both"):
            weight[self.points[:-1]] = 0
        if v.held in ("tip", "both"):  # what hangs on another strand is held there alone
            weight[self.points[1:][self.hung < 0] - 1] = 0
        tip = bones.tips[j]
        far = np.linalg.norm(tip, axis=1, keepdims=True)
        ahead = np.where(far > 1e-9, tip / np.maximum(far, 1e-12), [0.0, 1, 0])
        # a segment resists twisting as if a tenth as thick as it is long, so that twist goes by at a pace that is seen
        spin_weight = 800 / np.maximum(segment * length**2, 1e-12)
        before = np.roll(length, 1)
        before[self.segments[:-1]] = length[self.segments[:-1]]
        span = 0.5 * (length + before)
        span[self.segments[:-1]] *= 0.5  # a clamp stands for half a segment
        stiff = lambda k: profile(k, v.tip_bend) * own["stiffness"][j] / span
        rest = bones.rest.turn[j]
        curve = rest if v.curl == 1 else turns.slerp(_straight(bones, self, rest), rest, v.curl)
        radius = np.full(p, v.radius)
        clamp = np.full(len(sizes), v.clamp and v.held in ("root", "both"))
        return arrays.Rods(
            self.points, self.segments, weight, length, ahead, spin_weight, np.ascontiguousarray(curve),
            stiff(v.bend), 1 / np.maximum(stiff(v.twist), 1e-12), length / v.stretch, clamp, radius, self.point_of,
            self.strand_of, self.hung,
        )  # fmt: skip


def _straight(bones: Bones, lay: Layout, rest: np.ndarray) -> np.ndarray:
    """(m, 4) rest turns that would lay each segment in line with the one before."""
    inside = ~np.isin(np.arange(len(lay.joints)), lay.segments[:-1])
    joints = lay.joints[inside]
    result = rest.copy()
    here = turns.turned(rest[inside], bones.tips[joints])
    result[inside] = turns.product(turns.between(here, bones.tips[bones.parents[joints]]), rest[inside])
    return result


def _solids(world: World, steps: int) -> arrays.RodSolids:
    """The obstacles of a world at every small step, but for meshes."""
    found = [o for o in world.colliders if o.shape in SHAPES]
    found += [_floor(floor.height, floor.friction) for floor in world.floors]
    t, count = np.linspace(0, 1, steps + 1), len(found)
    origin, axes = np.empty((steps + 1, count, 3)), np.empty((steps + 1, count, 3, 3))
    size = np.empty((steps + 1, count))
    for c, o in enumerate(found):
        a, b = o.places
        origin[:, c] = a.origin + (b.origin - a.origin) * t[:, None]
        size[:, c] = a.size + (b.size - a.size) * t
        q = turns.slerp(turns.turns_of(a.axes), turns.turns_of(b.axes), t)
        axes[:, c] = turn_matrices(q)
    shape = np.array([SHAPES.index(o.shape) for o in found], np.int64)
    dims = np.array([o.dims for o in found], float).reshape(-1, 3)
    friction = np.array([o.friction for o in found], float)
    return arrays.RodSolids(shape, dims, friction, origin, axes, size)


def _floor(height, friction) -> Obstacle:
    place = Place(np.array([[0.0, height, 0.0]]), np.eye(3)[None], np.ones(1))
    return Obstacle("ground", "plane", (0, 0, 0), friction, (place, place))


def _surface(world: World, radius: float) -> arrays.SolidSurface:
    """All solid meshes as one set of triangles, in a grid that holds them over the whole frame."""
    meshes = [o for o in world.colliders if o.shape == "mesh"]
    before = [o.points[0][o.triangles] for o in meshes]
    now = [o.points[1][o.triangles] for o in meshes]
    friction = [np.full(len(o.triangles), float(o.friction)) for o in meshes]
    if not meshes:
        none = np.zeros((0, 3, 3))
        low, counts = np.zeros(3), np.ones(3, np.int64)
        starts, rows = np.zeros(2, np.int64), np.zeros(0, np.int64)
        return arrays.SolidSurface(none, none, np.zeros(0), low, 1.0, counts, starts, rows)
    before, now, friction = np.concatenate(before), np.concatenate(now), np.concatenate(friction)
    moved = float(np.abs(now - before).max(initial=0))
    corners = now.reshape(-1, 3)
    grid = Grid(corners, np.arange(len(corners)).reshape(-1, 3), 4 * radius + moved)
    return arrays.SolidSurface(before, now, friction, grid.low, float(grid.cell), grid.counts, *grid.cells)
