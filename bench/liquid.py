"""Liquids: against a plain position-based sketch in the same run, one thread against two, and growth."""

import tempfile

import numba
import numpy as np
from numba import njit, prange

from estampa import edits as do
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.skin import LEVEL, carried, covered, cut, smoothed
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore

from .measure import Row, ms, seconds

S = 0.02


def _dam(count: int, frames: int):
    """(scene, liquid): a block of about so many grains that breaks in a tank."""
    side = S * round((count / 0.8) ** (1 / 3))
    scene = Scene(Document(start=1, end=frames))
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground")
    for x, turn in ((-side, -np.pi / 2), (1.5 * side, np.pi / 2)):
        do.add_thing(scene, "collider", values={"shape": "plane", "x": x, "turn_z": turn})
    for z, turn in ((-0.4 * side, np.pi / 2), (0.4 * side, -np.pi / 2)):
        do.add_thing(scene, "collider", values={"shape": "plane", "z": z, "turn_x": turn})
    made = do.add_thing(scene, "liquid", values={"spacing": S}).id
    grip = do.add_thing(scene, "grip", values={"x": -side / 2, "y": side / 2})
    box = {"where": "box", "around": grip.id, "wide": side, "tall": side, "deep": 0.8 * side}
    do.add_layer(scene, made, "fill", values=box)
    return scene, made


def _solve(count: int, frames: int):
    """(s a frame, grains, the largest crowding and mean small steps, places of the last frame)."""
    scene, _ = _dam(count, frames)
    with tempfile.TemporaryDirectory() as folder:
        evaluator = Evaluator(scene.doc, scene, FrameStore(folder))
        took = seconds(lambda: evaluator.solve_through(frames)) / (frames - 1)
        run = evaluator.runs.every()[0]
        found = [evaluator.store.frame(evaluator.runs.key(run, f)) for f in range(2, frames + 1)]
        crowded = max(float(f["report"]["crowded"][0]) for f in found)
        return took, len(found[-1]["grains"]), crowded, found[-1]["grains"]["position"].astype(float)


@njit(cache=True, inline="always")
def _hashed(a, b, c, side):
    return (a * 73856093 ^ b * 19349663 ^ c * 83492791) % side


@njit(parallel=True, cache=True)
def _lambdas(x, cells, side, heads, nexts, h, w0, lam):
    for i in prange(len(x)):
        rho, gx, gy, gz, sq = 0.0, 0.0, 0.0, 0.0, 0.0
        for dz in range(-1, 2):
            for dy in range(-1, 2):
                for dx in range(-1, 2):
                    j = heads[_hashed(cells[i, 0] + dx, cells[i, 1] + dy, cells[i, 2] + dz, side)]
                    while j >= 0:
                        a, b, d = x[i, 0] - x[j, 0], x[i, 1] - x[j, 1], x[i, 2] - x[j, 2]
                        r2 = a * a + b * b + d * d
                        if r2 < h * h:
                            r = np.sqrt(r2)
                            rho += w0 * 315 / (64 * np.pi * h**9) * (h * h - r2) ** 3
                            if r > 1e-9:
                                g = -w0 * 45 / (np.pi * h**6) * (h - r) ** 2 / r
                                gx, gy, gz, sq = gx + g * a, gy + g * b, gz + g * d, sq + g * g * r2
                        j = nexts[j]
        lam[i] = -max(rho - 1, 0.0) / (sq + gx * gx + gy * gy + gz * gz + 50.0)


@njit(parallel=True, cache=True)
def _corrections(x, cells, side, heads, nexts, h, w0, lam, to):
    for i in prange(len(x)):
        mx, my, mz = 0.0, 0.0, 0.0
        for dz in range(-1, 2):
            for dy in range(-1, 2):
                for dx in range(-1, 2):
                    j = heads[_hashed(cells[i, 0] + dx, cells[i, 1] + dy, cells[i, 2] + dz, side)]
                    while j >= 0:
                        a, b, d = x[i, 0] - x[j, 0], x[i, 1] - x[j, 1], x[i, 2] - x[j, 2]
                        r2 = a * a + b * b + d * d
                        if 1e-18 < r2 < h * h:
                            r = np.sqrt(r2)
                            g = -(lam[i] + lam[j]) * w0 * 45 / (np.pi * h**6) * (h - r) ** 2 / r
                            mx, my, mz = mx + g * a, my + g * b, mz + g * d
                        j = nexts[j]
        to[i, 0], to[i, 1], to[i, 2] = x[i, 0] + mx, x[i, 1] + my, x[i, 2] + mz


@njit(cache=True)
def _linked(cells, side):
    heads, nexts = np.full(side, -1, np.int64), np.full(len(cells), -1, np.int64)
    for i in range(len(cells)):
        c = _hashed(cells[i, 0], cells[i, 1], cells[i, 2], side)
        nexts[i] = heads[c]
        heads[c] = i
    return heads, nexts


def _sketch(count: int, frames: int, substeps: int, rounds: int):
    """The same block as one writes it first (Macklin and Mueller 2013): (s a frame, grains)."""
    side = S * round((count / 0.8) ** (1 / 3))
    n = [round(side / S), round(side / S), round(0.8 * side / S)]
    x = np.stack([a.ravel() for a in np.meshgrid(*[(np.arange(k) + 0.5) * S for k in n], indexing="ij")], axis=1)
    low, high = np.zeros(3), np.array([2.5 * side, 1e9, 0.8 * side])
    v, h, w0, dt = np.zeros_like(x), 2 * S, S**3, 1 / 24 / substeps
    lam, to = np.zeros(len(x)), np.empty_like(x)

    def frame():
        nonlocal x, v, to
        for _ in range(substeps):
            v[:, 1] -= 9.80665 * dt
            old, x = x, np.clip(x + dt * v, low, high)
            cells = np.floor(x / h).astype(np.int64)
            heads, nexts = _linked(cells, 131_071)
            for _ in range(rounds):
                _lambdas(x, cells, 131_071, heads, nexts, h, w0, lam)
                _corrections(x, cells, 131_071, heads, nexts, h, w0, lam, to)
                x = np.clip(to, low, high)
            v = (x - old) / dt

    frame()
    return seconds(lambda: [frame() for _ in range(frames - 1)]) / (frames - 1), len(x)


def rows() -> list[Row]:
    _solve(2_000, 3)
    _sketch(2_000, 2, 4, 4)
    plain, many = _sketch(50_000, 4, 4, 4)
    ours, grains, crowded, place = _solve(50_000, 4)
    found = [
        Row(f"{grains:,} in a dam break, a frame; {100 * crowded:.0f} % at the densest", ms(ours),
            f"{ms(plain)} a position-based sketch of {many:,}, 4 × 4", plain / ours, "≥ 3", plain / ours >= 3),
    ]  # fmt: skip
    small, own, _, _ = _solve(10_000, 6)
    found.append(Row(f"{own:,} grains, frames a second", f"{1 / small:.1f}", "10", 1 / small / 10, "≥ 1", small <= 0.1))
    grows = ours / grains / (small / own)
    words = "a grain among 50,000 against one among 10,000"
    found.append(Row(words, f"{grows:.2f}", "1", grows, "≤ 1.25", grows <= 1.25))
    numba.set_num_threads(1)
    one = _solve(20_000, 4)[0]
    numba.set_num_threads(numba.config.NUMBA_NUM_THREADS)
    two = _solve(20_000, 4)[0]
    words, gain = "20,000 on two threads against one", one / two
    found.append(Row(words, ms(two), f"{ms(one)} one thread", gain, "≥ 1.6", gain >= 1.6))

    def skin():
        field = covered(place, S, 0.5 * S)
        points, triangles = cut(*field, LEVEL)
        points = smoothed(points, triangles, 4)
        carried(place, np.zeros((len(place), 6)), S, points)

    skin()
    took = seconds(skin)
    found.append(Row(f"skin of {grains:,}", ms(took), f"{ms(ours)} their solve", took / ours, "≤ 1", took <= ours))
    each = 36 * 8 + 4 * 4 * 4 + 3 * (4 + 12 + 4) + 8 * (3 + 3 + 3 + 5 + 3)
    found.append(Row("working memory of a grain", f"{each} bytes", "250", each / 250, "≤ 1", each <= 250))
    return found
