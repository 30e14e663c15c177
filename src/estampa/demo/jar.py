"""A glazed lantern jar on a stall: it flies apart as a hoop runs down over it, and is whole again behind it."""

import numpy as np

from .. import edits as do
from ..edits.things import add_mesh
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined, ring
from ..scene.document import Document
from ..scene.scene import Scene

GLAZE, FOOT = ("Sea-green glaze", (0.10, 0.30, 0.27)), ("Bare clay", (0.42, 0.20, 0.11))
BAMBOO, BRASS = ("Bamboo", (0.46, 0.33, 0.16)), ("Brass", (0.62, 0.47, 0.20))
WALL, ROUND, HIGH = 0.012, 72, 0.46  # m, sides, m
CELLS, CYCLE = 260, 96  # pieces; frames of a loop
# (radius, height) m of the outside from the middle of the foot upwards, through which a curve runs
OUTLINE = ((0.0, 0.0), (0.105, 0.0), (0.115, 0.015), (0.15, 0.10), (0.178, 0.20), (0.17, 0.30), (0.125, 0.375),
           (0.082, 0.41), (0.078, 0.43), (0.098, HIGH))  # fmt: skip


def jar() -> Mesh:
    """A turned jar with a wall: one closed surface, the lowest of it without glaze."""
    from ..geometry.paths import Sampled

    line = Sampled([(r, y, 0.0) for r, y in OUTLINE[2:]], False, True)
    out = np.concatenate([np.array(OUTLINE[1:2]), line.points[::4, :2], line.points[-1:, :2]])
    out = out[np.concatenate([[True], np.linalg.norm(np.diff(out, axis=0), axis=1) > 1e-3])]
    way = np.gradient(out, axis=0)
    across = np.stack([way[:, 1], -way[:, 0]], axis=1) / np.linalg.norm(way, axis=1, keepdims=True)
    inner = (out - WALL * across)[1:][::-1]
    inner[:, 1] = np.maximum(inner[:, 1], WALL)
    inner = inner[inner[:, 1] > WALL + 1e-4]
    profile = np.concatenate([out, inner, [[inner[-1, 0] - 0.004, WALL]]])
    a = 2 * np.pi * np.arange(ROUND) / ROUND
    rows = len(profile)
    points = np.stack(
        [profile[:, :1] * np.cos(a), np.repeat(profile[:, 1:], ROUND, axis=1), profile[:, :1] * np.sin(a)]
    )
    points = points.transpose(1, 2, 0).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(rows - 1), np.arange(ROUND), indexing="ij")
    p, q = i * ROUND + j, i * ROUND + (j + 1) % ROUND
    quads = np.stack([p, p + ROUND, q + ROUND, q], axis=-1).reshape(-1, 4)
    top, low, last = len(points) + 1, len(points), (rows - 1) * ROUND
    k = np.arange(ROUND)
    caps = np.concatenate([
        np.stack([np.full(ROUND, low), k, (k + 1) % ROUND], axis=1),
        np.stack([np.full(ROUND, top), last + (k + 1) % ROUND, last + k], axis=1),
    ])  # fmt: skip
    points = np.concatenate([points, [[0, 0, 0], [0, WALL, 0]]])
    counts = np.concatenate([np.full(len(quads), 4), np.full(len(caps), 3)])
    height = points[quads][:, :, 1].mean(axis=1)
    bare = np.concatenate([(height < 0.05) & (i.ravel() < len(out)), k < 0, k < 0])
    bare[len(quads) : len(quads) + ROUND] = True
    uv = np.column_stack([np.arctan2(points[:, 2], points[:, 0]) / (2 * np.pi), points[:, 1]])
    return Mesh(points, counts, np.concatenate([quads.ravel(), caps.ravel()]), uv, [GLAZE, FOOT], bare.astype(np.int32))


def stall() -> Mesh:
    boards = [box([-0.72 + 0.24 * k, -0.03, -0.4], [-0.50 + 0.24 * k, 0.0, 0.4]) for k in range(6)]
    legs = [box([x - 0.03, -0.5, z - 0.03], [x + 0.03, -0.03, z + 0.03]) for x in (-0.6, 0.6) for z in (-0.32, 0.32)]
    return coloured(joined(boards + legs), *BAMBOO)


def build() -> Scene:
    scene = Scene(Document(name="jar", frame_rate=24, start=1, end=CYCLE))
    add_mesh(scene, stall(), "Stall")
    pot = add_mesh(scene, jar(), "Lantern jar")
    hoop = add_mesh(scene, coloured(ring(0.30, 0.011, 64, 10), *BRASS), "Hoop")
    runner = do.add_thing(scene, "grip", "Hoop's way", {"x": 0.0, "z": 0.0})
    top, low, half = HIGH + 0.36, -0.36, CYCLE // 2
    for frame, y in ((1, top), (1 + half, low), (1 + CYCLE, top)):
        do.set_key(scene, runner.id, "y", frame, y)
    do.set_values(scene, hoop.id, {"parent": runner.id, "turn_z": np.pi / 2})
    zone = do.add_thing(scene, "zone", "Where it breaks", {
        "parent": runner.id, "shape": "sphere", "reach": 0.34, "soft": 0.85,
    })  # fmt: skip
    do.add_layer(scene, pot.id, "break", "Break", {
        "count": CELLS, "seed": 5, "gather": "surface", "spread": 0.02, "thin": 0.02, "inner": "clay", "smallest": 0.1,
    })  # fmt: skip
    felt = {"zone": zone.id}
    do.add_layer(scene, pot.id, "part", "Away from the middle", {"by": "times", "times": 0.55, "ways": "away"} | felt)
    do.add_layer(scene, pot.id, "toss", "Tumble", {
        "x": 0.05, "y": 0.09, "z": 0.05, "all_y": 0.03, "turn": 2.4, "smaller": 0.75, "larger": 1.0, "seed": 4,
    } | felt)  # fmt: skip
    do.add_layer(scene, pot.id, "wobble", "Float", {
        "far": 0.012, "turn": 0.25, "rate": 0.6, "loops": True,
    } | felt)  # fmt: skip
    do.set_loop(scene, 1, 1 + CYCLE)
    do.add_thing(scene, "piece_skin", "Jar in pieces", {"file": "jar", "subject": pot.id})
    return scene
