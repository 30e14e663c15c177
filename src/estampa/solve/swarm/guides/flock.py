"""Flock: grains keep apart, go the same way and keep together."""

import numpy as np
from numba import njit, prange

from ....kinds.channels import number
from ..cells import sorted_cells
from ..layer import GrainLayer

AWAY = np.float32(1e9)  # m, where nothing is near


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
    view = number(
        np.radians(300),
        "Its field of view; 360 degrees sees behind too.",
        title="Field of view",
        unit="rad",
        soft=(0, 2 * np.pi),
        hard=(0, 2 * np.pi),
    )
    apart = number(0.2, "Nearer than this they part.", title="Keep apart by", unit="m", soft=(0.01, 1), hard=(0, None))
    part = number(6, "How hard they part.", title="Part", unit="m/s2", soft=(0, 20), hard=(0, None))
    align = number(
        2,
        "How soon they go as fast and the same way as their neighbours.",
        title="Same way",
        unit="1/s",
        soft=(0, 10),
        hard=(0, None),
    )
    gather = number(
        1.5,
        "How hard they go for the middle of their neighbours, a metre away.",
        title="Keep together",
        unit="1/s2",
        soft=(0, 10),
        hard=(0, None),
    )
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
        place = grains.position if every else grains.position[flies]
        speed = grains.velocity if every else grains.velocity[flies]
        felt = self.felt(grains, v)
        felt = felt if every or len(felt) == 1 else felt[flies]
        order, starts, low, cell, counts = sorted_cells(place, float(v.reach))
        numbers = (v.reach, np.cos(v.view / 2), v.apart, v.part, v.align, v.gather, v.radius, v.slowest, v.top)
        # by cell, so that neighbours in space are neighbours in memory; narrow, and a row for each axis, so that the
        # processor takes eight at once
        at, going = _packed(place, speed, order, low)
        felt = np.ascontiguousarray(np.broadcast_to(felt, len(flies))[order])
        found = _flocked(at, going, starts, cell, counts, np.array(numbers, float), felt, float(h[0]))
        grains.velocity[flies[order]] = found


@njit(parallel=True, cache=True, nogil=True)
def _packed(place, speed, order, low):
    """(3, n) float32 places from the corner of the cells, and speeds, by cell."""
    at, going = np.empty((3, len(order)), np.float32), np.empty((3, len(order)), np.float32)
    for i in prange(len(order)):
        for j in range(3):
            at[j, i], going[j, i] = place[order[i], j] - low[j], speed[order[i], j]
        at[0, i] += np.float32(1e-7) * np.float32(i & 15)  # those in the very same place are told apart
    return at, going


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc", "nsz", "nnan", "ninf"})
def _heed(near, count, x, y, z, fx, fy, fz, seen, reach2, apart):
    """What a grain at x, y, z sees of the first `count` that are near (6, c): how many, the sums of their speeds, of
    the ways to them, and of what parts them."""
    many = mu = mv = mw = mx = my = mz = px = py = pz = np.float32(0)
    one, none, least = np.float32(1), np.float32(0), np.float32(1e-9)
    # unsigned: an index that cannot be negative needs no check for it, and the loop becomes vector instructions
    for j in range(np.uint64(0), np.uint64(count)):
        dx, dy, dz = near[0, j] - x, near[1, j] - y, near[2, j] - z
        far2 = dx * dx + dy * dy + dz * dz
        far = np.sqrt(far2)
        sees = (one if far2 <= reach2 else none) * (one if fx * dx + fy * dy + fz * dz >= seen * far else none)
        many += sees
        mu, mv, mw = mu + sees * near[3, j], mv + sees * near[4, j], mw + sees * near[5, j]
        mx, my, mz = mx + sees * dx, my + sees * dy, mz + sees * dz
        push = sees * max(one / max(far, least) - one / apart, none)
        px, py, pz = px - push * dx, py - push * dy, pz - push * dz
    return many, mu, mv, mw, mx, my, mz, px, py, pz


@njit(cache=True, nogil=True)
def _gather(at, going, starts, counts, cx, cy, cz, near):
    """Put the grains in and around a cell into `near` (6, c), as many as it holds, in a crowd every second or third
    one; returns (how many, of how many one)."""
    x0, x1 = max(cx - 1, 0), min(cx + 1, counts[0] - 1) + 1
    y0, y1, z0, z1 = max(cy - 1, 0), min(cy + 2, counts[1]), max(cz - 1, 0), min(cz + 2, counts[2])
    total = 0
    for b in range(z0, z1):
        for a in range(y0, y1):
            row = counts[0] * (a + counts[1] * b)
            total += starts[row + x1] - starts[row + x0]
    stride = 1 + total // (near.shape[1] - 24)
    count = 0
    for b in range(z0, z1):
        for a in range(y0, y1):
            row = counts[0] * (a + counts[1] * b)
            begin, end = np.uint64(starts[row + x0]), np.uint64(starts[row + x1])
            if stride == 1:  # stretch by stretch, which is several at once
                to, many = np.uint64(count), end - begin
                for k in range(np.uint64(3)):
                    for j in range(many):
                        near[k, to + j] = at[k, begin + j]
                    for j in range(many):
                        near[k + np.uint64(3), to + j] = going[k, begin + j]
                count += np.int64(many)
                continue
            for j in range(begin, end, np.uint64(stride)):
                near[0, count], near[1, count], near[2, count] = at[0, j], at[1, j], at[2, j]
                near[3, count], near[4, count], near[5, count] = going[0, j], going[1, j], going[2, j]
                count += 1
    while count % 8:  # far away, so that the last eight are as quick as all
        near[:3, count], near[3:, count] = AWAY, 0
        count += 1
    return count, stride


@njit(parallel=True, cache=True, nogil=True)
def _flocked(at, going, starts, cell, counts, numbers, felt, h):
    """(n, 3) m/s, the new speeds (Reynolds 1987, "Flocks, herds and schools"). at, going (3, n), by cell."""
    reach, seen, apart, part, align, gather, radius, slowest, top = numbers
    reach2, close = np.float32(reach * reach), np.float32(max(apart, 1e-6))
    found = np.empty((at.shape[1], 3))
    for line in prange(counts[1] * counts[2]):
        cy, cz = np.int64(line) % counts[1], np.int64(line) // counts[1]
        near = np.empty((6, 1024 + 24), np.float32)
        for cx in range(counts[0]):
            own = cx + counts[0] * np.int64(line)
            if starts[own] == starts[own + 1]:
                continue
            count, stride = _gather(at, going, starts, counts, cx, cy, cz, near)
            for i in range(starts[own], starts[own + 1]):
                x, y, z = at[0, i], at[1, i], at[2, i]
                u, v, w = np.float64(going[0, i]), np.float64(going[1, i]), np.float64(going[2, i])
                fast = np.sqrt(u * u + v * v + w * w)
                fx, fy, fz, sight = u, v, w, np.float32(-2.0)
                if fast > 1e-9:
                    fx, fy, fz, sight = u / fast, v / fast, w / fast, np.float32(seen)
                me = _place_of(i, starts, counts, cx, cy, cz, stride)
                gx, gy, gz = np.float32(fx), np.float32(fy), np.float32(fz)
                if me < count:
                    near[0, me] = AWAY  # it does not heed itself
                sums = _heed(near, count, x, y, z, gx, gy, gz, sight, reach2, close)
                if me < count:
                    near[0, me] = x
                ax = ay = az = 0.0
                if sums[0] > 0:
                    s = 1.0 / sums[0]
                    ax = part * sums[7] + align * (sums[1] * s - u) + gather * sums[4] * s
                    ay = part * sums[8] + align * (sums[2] * s - v) + gather * sums[5] * s
                    az = part * sums[9] + align * (sums[3] * s - w) + gather * sums[6] * s
                share = felt[i]
                was = max(fast, slowest)
                u, v, w = u + h * share * ax, v + h * share * ay, w + h * share * az
                if radius > 0 and fast > 1e-9:  # it turns by no more than its way on a circle of that radius
                    ahead = u * fx + v * fy + w * fz
                    tx, ty, tz = u - ahead * fx, v - ahead * fy, w - ahead * fz
                    turn = np.sqrt(tx * tx + ty * ty + tz * tz)
                    most = min(h * was / radius, np.pi)
                    # (an angle is less than its tangent: most need no arc tangent)
                    if turn > max(most * ahead, 1e-12) and np.arctan2(turn, ahead) > most:
                        long = np.sqrt(u * u + v * v + w * w)
                        a, b = long * np.cos(most), long * np.sin(most) / turn
                        u, v, w = a * fx + b * tx, a * fy + b * ty, a * fz + b * tz
                fast = np.sqrt(u * u + v * v + w * w)
                if share > 0 and fast > 1e-9:
                    k = 1 + (min(max(fast, slowest), top) / fast - 1) * min(share, 1.0)
                    u, v, w = u * k, v * k, w * k
                found[i, 0], found[i, 1], found[i, 2] = u, v, w
    return found


@njit(cache=True, nogil=True)
def _place_of(i, starts, counts, cx, cy, cz, stride):
    """The number of grain i among those that were gathered for its cell; one that none has where it was left out."""
    x0, x1 = max(cx - 1, 0), min(cx + 1, counts[0] - 1) + 1
    before = 0
    for b in range(max(cz - 1, 0), cz + 1):
        for a in range(max(cy - 1, 0), min(cy + 2, counts[1])):
            row = counts[0] * (a + counts[1] * b)
            begin = starts[row + x0]
            if a == cy and b == cz:
                return before + (i - begin) // stride if (i - begin) % stride == 0 else 1 << 40
            before += (starts[row + x1] - begin + stride - 1) // stride
    return 1 << 40
