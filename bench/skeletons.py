"""Skeletons: binding against factorising its matrix, skinning against a copy, strands against NumPy, baking against
evaluating."""

import tempfile

import numpy as np
from scipy.sparse import csc_matrix
from scipy.sparse.linalg import splu

from estampa import edits as do
from estampa.baking.keys import bake
from estampa.edits import joints as build
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry import weights
from estampa.geometry.primitives import tube
from estampa.motion.skin import blend_normals
from estampa.scene.document import Document
from estampa.scene.reduce import Tolerance
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore

from .measure import Row, in_turn, ms, seconds

STRANDS, POINTS, SUBSTEPS = 50, 40, 20


def rows() -> list[Row]:
    return [binding(), skinning(), *strands(), baking()]


def binding() -> Row:
    """50,000 vertices and 30 joints."""
    line = np.stack([0.3 * np.sin(np.linspace(0, 9, 1000)), np.linspace(0, 6, 1000), np.zeros(1000)], axis=1)
    mesh = tube(line, 0.2 + 0.05 * np.sin(np.linspace(0, 40, 1000)), 50)
    points = line[np.linspace(0, 999, 31).astype(int)]
    starts, ends, joint = points[:-1], points[1:], np.arange(30)
    _, distance, _ = weights.seen_joints(mesh, starts, ends, joint, 30)
    system = csc_matrix(weights.heat_system(mesh, 1 / distance**2)[0])
    bind, factor = in_turn(lambda: weights.diffused(mesh, starts, ends, joint, 30), lambda: splu(system), times=3)
    what, good = "Automatic weights, 50,000 vertices, 30 joints", bind < 3 * factor
    return Row(what, ms(bind), f"splu of its matrix, {ms(factor)}", bind / factor, "under 3", good)


def skinning() -> Row:
    """A million vertices, four influences: positions and normals against copying both."""
    n, chance = 1_000_000, np.random.default_rng(2)
    points, normals = chance.normal(size=(1, n, 3)), chance.normal(size=(1, n, 3))
    indices = chance.integers(0, 60, (n, 4)).astype(np.int32)
    indices.sort(axis=1)
    felt = chance.dirichlet([1, 1, 1, 1], n).astype(np.float32)
    palette = chance.normal(size=(1, 60, 3, 4))

    def copy():
        points.copy(), normals.copy()

    skin, plain = in_turn(lambda: blend_normals(points, normals, palette, indices, felt), copy, times=9)
    what = "Skinning 1,000,000 vertices, 4 influences, with normals"
    return Row(what, ms(skin), f"a copy of both, {ms(plain)}", skin / plain, "at most 5", skin <= 5 * plain)


def curtain(end: int) -> Scene:
    scene = Scene(Document(start=1, end=end))
    lines = [build.straight([x, 0, 0], [x, -2, 0], POINTS - 1) for x in np.linspace(-1, 1, STRANDS)]
    skeleton = build.add_skeleton(scene, lines, "Curtain", "Bead")
    values = {"radius": 0.012, "bend": 0.0, "twist": 0.0, "clamp": False, "substeps": SUBSTEPS, "mass": 0.1}
    do.add_layer(scene, skeleton.id, "chain", values=values)
    ball = do.add_thing(scene, "collider", values={"radius": 0.2, "y": -1.2})
    do.set_key(scene, ball.id, "z", 1, -0.4)
    do.set_key(scene, ball.id, "z", end, 0.5)
    do.add_thing(scene, "gravity")
    return scene


def strands() -> list[Row]:
    scene = curtain(60)
    with tempfile.TemporaryDirectory() as folder:
        evaluator = Evaluator(scene.doc, scene, FrameStore(folder))
        evaluator.solve_through(6)
        frames = 40
        each = seconds(lambda: evaluator.solve_through(6 + frames)) / frames
        owner, layer = evaluator.solvers()[0]
        run = evaluator.runs.of(owner, layer)
        state = evaluator.store.frame(evaluator.runs.key(run, 45))
        inputs, solver = evaluator.runs.inputs(run, 46), layer.declared()
        step, plain = in_turn(lambda: solver.step(state, inputs, 1 / 24), lambda: numpy_frame(1), times=7)
    what = f"{STRANDS} strands × {POINTS} points, {SUBSTEPS} substeps, with collisions"
    return [
        Row(f"{what}, stored", ms(each), "30 frames a second, 33.3 ms", each * 30, "at most 1", each * 30 <= 1),
        Row(
            f"{what}, the step alone",
            ms(step),
            f"the same in NumPy, {ms(plain)}",
            plain / step,
            "at least 20",
            plain >= 20 * step,
        ),
    ]


def numpy_frame(frames: int) -> np.ndarray:
    """The curtain by the method of rod_kernels in plain NumPy, all strands at once, without bending, as the curtain is.

    Drag, lengths (Thomas), segments that follow, a ball with friction, and segments that meet at their closest points.
    Returns (strands, points, 3) where they end.
    """
    h, r, m = 1 / 24 / SUBSTEPS, 0.012, POINTS - 1
    x = np.zeros((STRANDS, POINTS, 3))
    x[..., 0], x[..., 1] = np.linspace(-1, 1, STRANDS)[:, None], np.linspace(0, -2, POINTS)
    speed, w, length = np.zeros_like(x), np.full((STRANDS, POINTS), 200.0), 2 / m
    w[:, 0] = 0
    q, spin = np.tile([0.0, 0, 0, 1], (STRANDS, m, 1)), np.zeros((STRANDS, m, 3))
    pairs = touching(x, 2 * r)
    for step in range(frames * SUBSTEPS):
        before, turned = x.copy(), q.copy()
        caught = h * 4e-4 * np.linalg.norm(speed, axis=2, keepdims=True) * w[..., None]
        speed = (speed + h * np.array([0, -9.8, 0])) * np.exp(-0.4 * h) - caught / (1 + caught) * speed
        x = x + np.where(w[..., None] > 0, h * speed, 0)
        lengths(x, w, length)
        follow(x, q)
        ball = np.array([0, -1.2, -0.4 + 0.01 * step / SUBSTEPS])
        away = x - ball
        far = np.linalg.norm(away, axis=2)
        deep = np.where(w > 0, np.maximum(0.2 + r - far, 0), 0)
        n = away / far[..., None]
        x += deep[..., None] * n
        slid = x - before - [0, 0, 0.01 / SUBSTEPS]
        slid -= (slid * n).sum(axis=2, keepdims=True) * n
        gone = np.maximum(np.linalg.norm(slid, axis=2), 1e-12)
        x -= (np.minimum(0.3 * deep / gone, 1))[..., None] * slid
        if step % 4 == 0:
            pairs = touching(x, 2 * r + 8 * float(np.abs(x - before).max()))
        meet(x.reshape(-1, 3), before.reshape(-1, 3), pairs, r, h)
        x[:, 0] = before[:, 0]
        follow(x, q)
        speed = (x - before) / h
        spin = (
            2
            / h
            * (q[..., 3:] * -turned[..., :3] + turned[..., 3:] * q[..., :3] - np.cross(q[..., :3], turned[..., :3]))
        )
    return x + 0 * spin.sum()


def follow(x, q) -> None:
    """Turn segments the least way onto the lines between their points."""
    d = np.diff(x, axis=1)
    d /= np.linalg.norm(d, axis=2, keepdims=True)
    now = np.array([0.0, -1, 0]) + 2 * np.cross(
        q[..., :3], np.cross(q[..., :3], [0.0, -1, 0]) + q[..., 3:] * [0.0, -1, 0]
    )
    a, w = np.cross(now, d), 1 + (now * d).sum(axis=2, keepdims=True)
    xyz = w * q[..., :3] + a * q[..., 3:] + np.cross(a, q[..., :3])
    q[..., 3:] = w * q[..., 3:] - (a * q[..., :3]).sum(axis=2, keepdims=True)
    q[..., :3] = xyz
    q /= np.linalg.norm(q, axis=2, keepdims=True)


def meet(x, before, pairs, r, h) -> None:
    """Push segments apart at their closest points, all at once (the kernel takes one pair after another)."""
    p, k = pairs[:, 0], pairs[:, 1]
    d1, d2, gap = x[p + 1] - x[p], x[k + 1] - x[k], x[p] - x[k]
    aa, ee, bb = (d1 * d1).sum(1), (d2 * d2).sum(1), (d1 * d2).sum(1)
    c, f = (d1 * gap).sum(1), (d2 * gap).sum(1)
    det = np.maximum(aa * ee - bb * bb, 1e-18)
    s = np.clip((bb * f - c * ee) / det, 0, 1)
    t = np.clip((bb * s + f) / ee, 0, 1)
    s = np.clip((bb * t - c) / aa, 0, 1)
    n = gap + s[:, None] * d1 - t[:, None] * d2
    far = np.maximum(np.linalg.norm(n, axis=1), 1e-9)
    rate = x - before
    one, two = rate[p] + s[:, None] * (rate[p + 1] - rate[p]), rate[k] + t[:, None] * (rate[k + 1] - rate[k])
    closer = np.maximum(-(n * (one - two)).sum(1) / far, 0) + h
    total = (1 - s) ** 2 + s**2 + (1 - t) ** 2 + t**2
    push = (np.clip(2 * r - far, 0, closer) / (total * far))[:, None] * n
    for at, share in ((p, 1 - s), (p + 1, s), (k, t - 1), (k + 1, -t)):
        np.add.at(x, at, share[:, None] * push)


def lengths(x, w, length) -> None:
    m = x.shape[1] - 1
    d = np.diff(x, axis=1)
    far = np.linalg.norm(d, axis=2)
    n = d / far[..., None]
    turn = (n[:, 1:] * n[:, :-1]).sum(axis=2)
    upper, right = np.zeros_like(far), np.zeros_like(far)
    for j in range(m):
        a, b = w[:, j] + w[:, j + 1] + 1e-6, length - far[:, j]
        if j:
            lower = -w[:, j] * turn[:, j - 1]
            a, b = a - lower * upper[:, j - 1], b - lower * right[:, j - 1]
        if j + 1 < m:
            upper[:, j] = -w[:, j + 1] * turn[:, j] / a
        right[:, j] = b / a
    for j in range(m - 2, -1, -1):
        right[:, j] -= upper[:, j] * right[:, j + 1]
    x[:, :-1] -= (w[:, :-1] * right)[..., None] * n
    x[:, 1:] += (w[:, 1:] * right)[..., None] * n


def touching(x, reach) -> np.ndarray:
    """(c, 2) first points of segments of different strands whose bounds, grown by half a reach, overlap."""
    count = x.shape[1]
    low, high = (f(x[:, :-1], x[:, 1:]).reshape(-1, 3) for f in (np.minimum, np.maximum))
    first = (np.arange(len(x))[:, None] * count + np.arange(count - 1)).ravel()
    strand = first // count
    near = strand[:, None] < strand
    for j in range(3):
        near &= (low[:, None, j] - reach < high[:, j]) & (low[:, j] - reach < high[:, None, j])
    a, b = np.nonzero(near)
    return np.stack([first[a], first[b]], axis=1)


def baking() -> Row:
    """300 frames of 60 joints: with fewer keys, against evaluating the frames twice."""
    scene = Scene(Document(start=1, end=300))
    lines = [build.straight([x, 0, 0], [x, -1, 0], 10) for x in np.linspace(0, 1, 6)]
    skeleton = build.add_skeleton(scene, lines)
    do.add_layer(scene, skeleton.id, "chain", values={"damping": 0.5})
    do.add_layer(scene, skeleton.id, "turn_noise", values={"angle": 0.1})
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "wind", values={"speed": 5.0})
    with tempfile.TemporaryDirectory() as folder:
        store = FrameStore(folder)
        scene.evaluator(store).solve_through(300)

        def evaluate():
            evaluator = scene.evaluator(store)
            evaluator.solve_through(300)
            for frame in range(1, 301):
                evaluator.poses.at(scene.doc.find(skeleton.id), frame)

        run = lambda: bake(scene, skeleton.id, tolerance=Tolerance(0.003, np.radians(1)), store=store)
        baked, plain = in_turn(run, evaluate, times=3)
    what, good = "Baking 300 frames of 60 joints to fewer keys", baked < 2 * plain
    return Row(what, ms(baked), f"evaluating them, {ms(plain)}", baked / plain, "under 2", good)
