"""One topology laid on surfaces that have another at every frame, as skins of liquids do.

It is begun from one of them, and from frame to frame it is carried on by the surface's own speed, evened along itself,
and put on the nearest place of the next one. Where drops part or meet it is drawn out or folds in: how far it then is
from the true surface is measured both ways.
"""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ..lazy import spatial
from .skin import neighbours
from .triangle_grid import Grid

ROUNDS, EVEN = 3, 0.4  # of being put on the next surface, and how much it is evened along itself in each


class ShrunkSurface(NamedTuple):
    points: np.ndarray  # (n, 3) m
    triangles: np.ndarray  # (t, 3)
    speed: np.ndarray  # (n, 3) m/s


def wrap(
    surface: Callable[[int], ShrunkSurface | None],
    base: int,
    frames: list[int],
    rate: float,
    on_progress=lambda done, frame: None,
) -> tuple[np.ndarray, dict[int, np.ndarray], dict[int, float]]:
    """(triangles (t, 3), frame -> points (n, 3) m, frame -> m how far it is from the surface at the most).

    frames -- without a gap between them, `base` among them. Where there is no surface it stays as it was.
    """
    first = surface(base)
    near = neighbours(len(first.points), first.triangles)
    found = {base: first.points}
    onward, back = [f for f in frames if f > base], [f for f in reversed(frames) if f < base]
    for way, row in ((1, onward), (-1, back)):
        last = first
        points = first.points
        for frame in row:
            now = surface(frame)
            if now is not None and len(now.triangles):
                points = points + way / rate * _speed_at(last, points)
                points, last = laid(points, near, now), now
            found[frame] = points
            on_progress(0.7 * len(found) / len(frames), frame)
    found = _calmed(found, frames)
    apart = {}
    for frame in frames:
        now = surface(frame)
        apart[frame] = distance(found[frame], first.triangles, now) if now is not None and len(now.triangles) else 0.0
        on_progress(0.7 + 0.3 * len(apart) / len(frames), frame)
    return first.triangles, found, apart


def _calmed(found, frames) -> dict[int, np.ndarray]:
    """Evened over time, by a quarter of each neighbour: what is put on the nearest place trembles."""
    at = lambda f: found[min(max(f, frames[0]), frames[-1])]
    return {f: 0.25 * at(f - 1) + 0.5 * at(f) + 0.25 * at(f + 1) for f in frames}


def laid(points: np.ndarray, near, onto: ShrunkSurface) -> np.ndarray:
    """(n, 3) points put on a surface, evened along it."""
    put = _putting(onto)
    for _ in range(ROUNDS):
        on = put(points)
        points = put(on + EVEN * (near @ on - on))
    return points


def distance(points: np.ndarray, triangles: np.ndarray, surface: ShrunkSurface) -> float:
    """m, the farthest that either is from the other, at vertices (Hausdorff's distance, sampled there)."""
    there = np.linalg.norm(_putting(surface)(points) - points, axis=1).max(initial=0.0)
    back = _putting(ShrunkSurface(points, triangles, points))(surface.points) - surface.points
    return float(max(there, np.linalg.norm(back, axis=1).max(initial=0.0)))


def faded(found: dict[int, np.ndarray], first: int, last: int, fade: int) -> dict[int, np.ndarray]:
    """Frames from `first` to before `last`, of which the last `fade` ones go over into those before the first."""
    made = {}
    for frame in range(first, last):
        share = (frame - (last - fade)) / fade if fade else -1.0
        points = found[frame]
        if share > 0:
            share = share * share * (3 - 2 * share)
            points = (1 - share) * points + share * found[frame - (last - first)]
        made[frame] = points
    return made


def _putting(surface: ShrunkSurface):
    """(n, 3) points -> the nearest places on a surface."""
    sides = np.linalg.norm(np.diff(surface.points[surface.triangles[:, [0, 1]]], axis=1), axis=2)
    grid = Grid(surface.points, surface.triangles, float(sides.mean()) if len(sides) else 1.0)
    tree = spatial.cKDTree(surface.points)

    def put(points):
        which, on = grid.closest(points)
        far = which < 0
        if far.any():  # by way of the nearest vertex
            seed = surface.points[tree.query(points[far])[1]]
            toward = points[far] - seed
            long = np.maximum(np.linalg.norm(toward, axis=1), 1e-300)
            seed += toward * np.minimum(1, 0.7 * grid.reach / long)[:, None]
            which, there = grid.closest(seed)
            on[far] = np.where(which[:, None] >= 0, there, seed)
        return on

    return put


def _speed_at(surface: ShrunkSurface, points) -> np.ndarray:
    return surface.speed[spatial.cKDTree(surface.points).query(points)[1]]
