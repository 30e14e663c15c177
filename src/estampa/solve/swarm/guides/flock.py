"""Flock: grains keep apart, go the same way and keep together."""

import numpy as np
from numba import njit, prange

from ....kinds.channels import number
from ..cells import sorted_cells
from ..grains import one
from ..layer import GrainLayer


class Flock(GrainLayer):
    """Grains heed those that they see near by: they keep apart, go the same way, and keep together.

    They turn no tighter than their turning radius, and go between a slowest and a top speed.
    """

    kind, title = "grain_flock", "Flock"
    icon = "M2.5 10 L4.5 9 L6.5 10 M6 6 L8 5 L10 6 M9.5 10 L11.5 9 L13.5 10 M6 13.5 L8 12.5 L10 13.5"
    rank = 15
    social = True

    reach = number(
        0.5, "How far a grain sees others.", title="Sees as far as", unit="m", soft=(0.05, 3), hard=(1e-4, None)
    )
    view = number(np.radians(300), "Its field of view; 360 degrees sees behind too.", title="Field of view", unit="rad",
                  soft=(0, 2 * np.pi), hard=(0, 2 * np.pi))  # fmt: skip
    apart = number(0.2, "Nearer than this they part.", title="Keep apart by", unit="m", soft=(0.01, 1), hard=(0, None))
    part = number(6, "How hard they part.", title="Part", unit="m/s2", soft=(0, 20), hard=(0, None))
    align = number(2, "How soon they go as fast and the same way as their neighbours.", title="Same way", unit="1/s",
                   soft=(0, 10), hard=(0, None))  # fmt: skip
    gather = number(1.5, "How hard they go for the middle of their neighbours, a metre away.", title="Keep together",
                    unit="1/s2", soft=(0, 10), hard=(0, None))  # fmt: skip
    radius = number(
        0.3, "They turn no tighter than this.", title="Turning radius", unit="m", soft=(0, 3), hard=(0, None)
    )
    slowest = number(0.3, "They go at least so fast.", unit="m/s", soft=(0, 3), hard=(0, None))
    top = number(2, "And at most so fast.", title="Top speed", unit="m/s", soft=(0.1, 10), hard=(0, None))

    def guide(self, grains, v, now, h):
        flies = np.flatnonzero(grains.sits <= 0)
        if not len(flies):
            return
        every = len(flies) == len(grains)
        place = grains.place if every else grains.place[flies]
        speed = grains.speed if every else grains.speed[flies]
        felt = self.felt(grains, v)
        felt = felt if every or len(felt) == 1 else felt[flies]
        order, starts, low, cell, counts = sorted_cells(place, float(v.reach))
        numbers = np.array(
            [v.reach, np.cos(v.view / 2), v.apart, v.part, v.align, v.gather, v.radius, v.slowest, v.top], float
        )
        # by cell, so that neighbours in space are neighbours in memory
        near = _flocked(np.ascontiguousarray(place[order]), np.ascontiguousarray(speed[order]), starts, low, cell, counts,
                        numbers, felt if len(felt) == 1 else felt[order], float(h[0]))  # fmt: skip
        grains.speed[flies[order]] = near


@njit(parallel=True, cache=True, nogil=True, fastmath={"contract"})
def _flocked(place, speed, starts, low, cell, counts, numbers, felt, h):
    """(n, 3) m/s, the new speeds (Reynolds 1987, "Flocks, herds and schools")."""
    reach, seen, apart, part, align, gather, radius, slowest, top = numbers
    n, reach2 = len(place), reach * reach
    found = np.empty((n, 3))
    for i in prange(n):
        x, y, z = place[i, 0], place[i, 1], place[i, 2]
        u, v, w = speed[i, 0], speed[i, 1], speed[i, 2]
        fast = np.sqrt(u * u + v * v + w * w)
        fx, fy, fz = u, v, w
        if fast > 1e-9:
            fx, fy, fz = u / fast, v / fast, w / fast
        px = py = pz = mu = mv = mw = mx = my = mz = 0.0
        many = 0
        cx = min(int((x - low[0]) / cell), counts[0] - 1)
        cy = min(int((y - low[1]) / cell), counts[1] - 1)
        cz = min(int((z - low[2]) / cell), counts[2] - 1)
        x0, x1 = max(cx - 1, 0), min(cx + 1, counts[0] - 1) + 1
        y0, y1, z0, z1 = max(cy - 1, 0), min(cy + 2, counts[1]), max(cz - 1, 0), min(cz + 2, counts[2])
        tried = 0
        for b in range(z0, z1):
            for a in range(y0, y1):
                row = counts[0] * (a + counts[1] * b)
                tried += starts[row + x1] - starts[row + x0]
        stride = 1 + tried // 512  # in a crowd each heeds every second, or every third one, and so on
        for b in range(z0, z1):
            for a in range(y0, y1):
                row = counts[0] * (a + counts[1] * b)
                for j in range(starts[row + x0], starts[row + x1], stride):
                    dx, dy, dz = place[j, 0] - x, place[j, 1] - y, place[j, 2] - z
                    far2 = dx * dx + dy * dy + dz * dz
                    if far2 > reach2 or j == i:
                        continue
                    far = np.sqrt(far2)
                    if fast > 1e-9 and fx * dx + fy * dy + fz * dz < seen * far:
                        continue
                    many += 1
                    mu, mv, mw = mu + speed[j, 0], mv + speed[j, 1], mw + speed[j, 2]
                    mx, my, mz = mx + dx, my + dy, mz + dz
                    if far < apart:
                        if far < 1e-9:  # two in one place part by their order
                            dx, far = (1e-9 if j > i else -1e-9), 1e-9
                        push = (1 - far / apart) / far
                        px, py, pz = px - push * dx, py - push * dy, pz - push * dz
        ax = ay = az = 0.0
        if many:
            s = 1.0 / many
            ax = part * px + align * (mu * s - u) + gather * mx * s
            ay = part * py + align * (mv * s - v) + gather * my * s
            az = part * pz + align * (mw * s - w) + gather * mz * s
        share = one(felt, i)
        ax, ay, az = share * ax, share * ay, share * az
        was = max(fast, slowest)
        u, v, w = u + h * ax, v + h * ay, w + h * az
        if radius > 0 and fast > 1e-9:  # it turns by no more than its way on a circle of that radius
            ahead = u * fx + v * fy + w * fz
            tx, ty, tz = u - ahead * fx, v - ahead * fy, w - ahead * fz
            turn = np.sqrt(tx * tx + ty * ty + tz * tz)
            most = min(h * was / radius, np.pi)
            if turn > 1e-12 and np.arctan2(turn, ahead) > most:
                long = np.sqrt(u * u + v * v + w * w)
                a, b = long * np.cos(most), long * np.sin(most) / turn
                u, v, w = a * fx + b * tx, a * fy + b * ty, a * fz + b * tz
        fast = np.sqrt(u * u + v * v + w * w)
        if share > 0 and fast > 1e-9:
            k = min(max(fast, slowest), top) / fast
            k = 1 + (k - 1) * min(share, 1.0)
            u, v, w = u * k, v * k, w * k
        found[i, 0], found[i, 1], found[i, 2] = u, v, w
    return found
