"""Hold height, orbit, and limits of speed: what keeps grains where and as they should be."""

import numpy as np
from numba import njit, prange

from ....kinds.channels import number, ref
from ....motion.layer import origin_frame
from ..grains import chance, one, salt
from ..layer import GrainLayer


class Hold(GrainLayer):
    """Keeps grains at a height, each at one of its own."""

    kind, title = "grain_hold", "Hold height"
    icon = "M2.5 8 H13.5 M5 8 V4.5 M8 8 V12 M11 8 V5.5"
    rank = 18

    height = number(1.5, "The height in the middle.", unit="m", soft=(0, 10))
    varies = number(0.3, "Higher or lower by chance, up to this.", unit="m", soft=(0, 3), hard=(0, None))
    hertz = number(0.5, "How quickly they get there.", title="Pace", unit="Hz", soft=(0, 3), hard=(0, 60))

    def guide(self, grains, v, now, h):
        numbers = (float(v.height), float(v.varies), 2 * np.pi * float(v.hertz), salt(now.seed, v.id + "height"))
        _hold(grains.position, grains.velocity, grains.ids, grains.sits, *numbers, self.felt(grains, v), h)


@njit(parallel=True, cache=True, nogil=True)
def _hold(place, speed, ids, sits, height, varies, w, salt, felt, h):
    """A spring that does not swing past, taken implicitly so that none is too stiff."""
    for i in prange(len(place)):
        if sits[i] > 0:
            continue
        t, own = one(h, i), height + varies * (2 * chance(ids[i], salt) - 1)
        after = (speed[i, 1] + w * w * t * (own - place[i, 1])) / (1 + 2 * w * t + w * w * t * t)
        speed[i, 1] += min(one(felt, i), 1.0) * (after - speed[i, 1])


class Orbit(GrainLayer):
    """Takes grains round a grip's upright axis, each on a ring of its own."""

    kind, title = "grain_orbit", "Orbit"
    icon = "M2.5 8 a5.5 3 0 1 0 11 0 a5.5 3 0 1 0 -11 0 M8 8 h.01 M12.4 6 h.01"
    rank = 17

    grip = ref("placed", "What they go round; its axis is its Y.")
    radius = number(1, "Of the rings, in the middle.", unit="m", soft=(0, 5), hard=(0, None))
    varies = number(0.3, "Wider or narrower by chance, up to this share.", unit="fraction", soft=(0, 1), hard=(0, 1))
    speed = number(1, "How fast they go; the other way round below 0.", unit="m/s", soft=(-5, 5))
    grips = number(2, "How soon they keep to it.", title="Keeps to it", unit="1/s", soft=(0, 10), hard=(0, None))

    def guide(self, grains, v, now, h):
        origin, axes, size = origin_frame(v.grip)
        numbers = (
            float(v.radius) * size,
            float(v.varies),
            float(v.speed),
            float(v.grips),
            salt(now.seed, v.id + "ring"),
        )
        _orbit(
            grains.position,
            grains.velocity,
            grains.ids,
            grains.sits,
            origin,
            np.ascontiguousarray(axes[:, 1]),
            *numbers,
            self.felt(grains, v),
            h,
        )


@njit(parallel=True, cache=True, nogil=True)
def _orbit(place, speed, ids, sits, origin, axis, radius, varies, pace, grips, salt, felt, h):
    for i in prange(len(place)):
        if sits[i] > 0:
            continue
        x, y, z = place[i, 0] - origin[0], place[i, 1] - origin[1], place[i, 2] - origin[2]
        up = x * axis[0] + y * axis[1] + z * axis[2]
        x, y, z = x - up * axis[0], y - up * axis[1], z - up * axis[2]
        far = max(np.sqrt(x * x + y * y + z * z), 1e-9)
        x, y, z = x / far, y / far, z / far
        own = radius * (1 + varies * (2 * chance(ids[i], salt) - 1))
        t = one(h, i)
        take = one(felt, i) * (1 - np.exp(-grips * t))
        rx, ry, rz = axis[1] * z - axis[2] * y, axis[2] * x - axis[0] * z, axis[0] * y - axis[1] * x
        back = 0.5 * grips * (own - far)
        for j in range(3):
            out, round_ = (x, y, z)[j], (rx, ry, rz)[j]
            # it falls inwards as fast as its ring bends
            wanted = pace * round_ + back * out - 0.5 * grips * up * axis[j]
            speed[i, j] += take * (wanted - speed[i, j]) - one(felt, i) * t * pace * pace / max(own, 1e-6) * out


class Limit(GrainLayer):
    """Keeps speeds between a slowest and a fastest."""

    kind, title = "grain_limit", "Limit speeds"
    icon = "M3 12 a6 6 0 1 1 10 0 M8 10 L11 6"
    rank = 20

    slowest = number(0, "They go at least so fast.", unit="m/s", soft=(0, 5), hard=(0, None))
    fastest = number(3, "And at most so fast.", unit="m/s", soft=(0, 20), hard=(0, None))

    def guide(self, grains, v, now, h):
        _limit(
            grains.velocity,
            grains.heading,
            grains.sits,
            float(v.slowest),
            max(float(v.fastest), float(v.slowest)),
            self.felt(grains, v),
        )


@njit(parallel=True, cache=True, nogil=True)
def _limit(speed, heading, sits, slowest, fastest, felt):
    for i in prange(len(speed)):
        if sits[i] > 0:
            continue
        fast = np.sqrt(speed[i, 0] ** 2 + speed[i, 1] ** 2 + speed[i, 2] ** 2)
        share = min(one(felt, i), 1.0)
        wanted = min(max(fast, slowest), fastest)
        for j in range(3):
            way = speed[i, j] / fast if fast > 1e-9 else heading[i, j]
            speed[i, j] += share * (wanted * way - speed[i, j])
