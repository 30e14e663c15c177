"""Paths: smooth curves through points, measured by arc length, with a frame that does not spin along them."""

import numpy as np

FINE = 24  # samples between two points


def sampled(spots, closed: bool = False, smooth: bool = True) -> "Sampled | None":
    """The path through spots (rows that begin with x, y, z in metres); None when it has no length."""
    try:
        return Sampled([s[:3] for s in spots], closed, smooth) if len(spots) else None
    except ValueError:
        return None


class Sampled:
    """A path as a fine polyline.

    spots (k, 3), points (m, 3) metres; along (m,) arc length from the start; axes (m, 3, 3): columns side, up, forward.
    """

    def __init__(self, spots, closed: bool = False, smooth: bool = True):
        """spots -- (k, 3) metres, at least two that differ. Raises ValueError when the path has no length."""
        self.spots = spots = np.asarray(spots, float)
        if len(spots) > 1:
            stays = np.linalg.norm(np.diff(spots, axis=0), axis=1) > 1e-12
            spots = spots[np.concatenate([[True], stays])]
        if closed and len(spots) > 2 and np.linalg.norm(spots[0] - spots[-1]) > 1e-12:
            spots = np.vstack([spots, spots[:1]])
        if len(spots) < 2:
            raise ValueError("the path has no length")
        self.closed = closed and len(spots) > 2
        self.points = _through(spots, self.closed) if smooth and len(spots) > 2 else _straight(spots)
        steps = np.linalg.norm(np.diff(self.points, axis=0), axis=1)
        self.along = np.concatenate([[0.0], np.cumsum(steps)])
        self.axes = _frames(self.points)

    @property
    def length(self) -> float:
        return float(self.along[-1])

    def at(self, distance):
        """(positions (k, 3), axes (k, 3, 3)) at distances along; past an end it goes straight on, or round."""
        d = np.atleast_1d(np.asarray(distance, float))
        inside = np.mod(d, self.length) if self.closed else np.clip(d, 0, self.length)
        i = np.clip(np.searchsorted(self.along, inside, side="right") - 1, 0, len(self.along) - 2)
        t = ((inside - self.along[i]) / np.maximum(self.along[i + 1] - self.along[i], 1e-300))[:, None]
        place = self.points[i] * (1 - t) + self.points[i + 1] * t
        axes = self.axes[i] * (1 - t[:, None]) + self.axes[i + 1] * t[:, None]
        axes = _squared(axes)
        place += axes[:, :, 2] * (d - inside)[:, None] * (not self.closed)
        return place, axes

    def chord(self, distance: float, length: float, sign: float) -> float:
        """Distance along, in m, of the nearest place ahead (sign 1) or behind (-1) that lies `length` m straight away
        from the one at `distance`: where the polyline first leaves the ball around it."""
        if length < 1e-12:
            return distance
        start = self._point(distance)
        knots, corners = self._ahead(distance, sign)
        corners = np.concatenate([start[None], corners])
        knots = np.concatenate([[0.0], knots])
        out = np.flatnonzero(np.linalg.norm(corners - start, axis=1) >= length)
        if not len(out):
            if self.closed:  # too short to go so far away: as far as it goes
                return distance + sign * float(knots[-1])
            way = self.at(0.0 if sign < 0 else self.length)[1][0, :, 2] * sign
            return distance + sign * (float(knots[-1]) + _leaves(corners[-1] - start, way, length))
        k = int(out[0])
        step = corners[k] - corners[k - 1]
        long = float(np.linalg.norm(step))
        return distance + sign * (
            float(knots[k - 1]) + _leaves(corners[k - 1] - start, step / max(long, 1e-300), length)
        )

    def _point(self, distance: float) -> np.ndarray:
        """(3,) what `at` gives for one place, without its axes."""
        inside = distance % self.length if self.closed else min(max(distance, 0.0), self.length)
        i = min(max(int(np.searchsorted(self.along, inside, side="right")) - 1, 0), len(self.along) - 2)
        t = (inside - self.along[i]) / max(self.along[i + 1] - self.along[i], 1e-300)
        place = self.points[i] * (1 - t) + self.points[i + 1] * t
        if inside != distance and not self.closed:
            place = place + self.axes[0 if distance < 0 else -1][:, 2] * (distance - inside)
        return place

    def _ahead(self, distance, sign):
        """((k,) m how far ahead the points of the polyline are from there, (k, 3) m); once round of a closed one."""
        if self.closed:
            inside = distance % self.length
            points, along = self.points[:-1], self.along[:-1]
            away = np.mod(sign * (along - inside), self.length)
        else:
            points, along = self.points, self.along
            away = sign * (along - distance)
        own = away > 1e-12
        order = np.argsort(away[own], kind="stable")
        return away[own][order], points[own][order]


def _leaves(offset, way, length) -> float:
    """m along a unit `way` from `offset` to where it is `length` m from the origin."""
    along = float(offset @ way)
    return -along + float(np.sqrt(max(along * along - float(offset @ offset) + length * length, 0.0)))


def _straight(spots):
    t = np.arange(0, len(spots) - 1 + 0.5 / FINE, 1 / FINE)
    i = np.minimum(t.astype(int), len(spots) - 2)
    return spots[i] + (spots[i + 1] - spots[i]) * (t - i)[:, None]


def _through(spots, closed):
    """A centripetal Catmull-Rom curve (Yuksel, Schaefer and Keyser 2011): no loops between uneven points."""
    ends = (spots[-2], spots[1]) if closed else (2 * spots[0] - spots[1], 2 * spots[-1] - spots[-2])
    p = np.vstack([ends[0], spots, ends[1]])
    knots = np.concatenate([[0.0], np.cumsum(np.sqrt(np.linalg.norm(np.diff(p, axis=0), axis=1)))])
    result = [spots[:1]]
    for i in range(1, len(p) - 2):
        k0, k1, k2, k3 = knots[i - 1 : i + 3]
        t = (k1 + (k2 - k1) * np.arange(1, FINE + 1) / FINE)[:, None]
        mix = lambda a, b, ka, kb: a + (b - a) * (t - ka) / max(kb - ka, 1e-300)  # noqa: B023
        a, b, c = mix(p[i - 1], p[i], k0, k1), mix(p[i], p[i + 1], k1, k2), mix(p[i + 1], p[i + 2], k2, k3)
        result.append(mix(mix(a, b, k0, k2), mix(b, c, k1, k3), k1, k2))
    return np.vstack(result)


def _frames(points):
    """Rotation-minimizing frames by double reflection (Wang, Juettler, Zheng and Liu 2008)."""
    forward = np.gradient(points, axis=0)
    forward /= np.linalg.norm(forward, axis=1)[:, None]
    start = np.array([0.0, 1, 0]) if abs(forward[0, 1]) < 0.95 else np.array([0.0, 0, 1])
    up = np.empty_like(points)
    up[0] = start - forward[0] * (start @ forward[0])
    up[0] /= np.linalg.norm(up[0])
    for i in range(len(points) - 1):
        v1 = points[i + 1] - points[i]
        c1 = max(v1 @ v1, 1e-300)
        r = up[i] - v1 * (2 / c1 * (v1 @ up[i]))
        t = forward[i] - v1 * (2 / c1 * (v1 @ forward[i]))
        v2 = forward[i + 1] - t
        c2 = v2 @ v2
        up[i + 1] = r - v2 * (2 / c2 * (v2 @ r)) if c2 > 1e-20 else r
    return np.stack([np.cross(up, forward), up, forward], axis=2)


def _squared(axes):
    """Axes that were blended, made unit and square again: forward kept, up as near as can be."""
    forward = axes[:, :, 2] / np.linalg.norm(axes[:, :, 2], axis=1)[:, None]
    up = axes[:, :, 1] - forward * (axes[:, :, 1] * forward).sum(axis=1)[:, None]
    up /= np.linalg.norm(up, axis=1)[:, None]
    return np.stack([np.cross(up, forward), up, forward], axis=2)
