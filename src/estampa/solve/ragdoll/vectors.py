"""Vectors and turns as tuples, for kernels: nothing is allocated. Turns are quaternions x, y, z, w."""

import math

from numba import njit

single = njit(cache=True, nogil=True, error_model="numpy")


@single
def dot(a, b):
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@single
def cross(a, b):
    return a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]


@single
def add(a, b):
    return a[0] + b[0], a[1] + b[1], a[2] + b[2]


@single
def sub(a, b):
    return a[0] - b[0], a[1] - b[1], a[2] - b[2]


@single
def scaled(a, s):
    return a[0] * s, a[1] * s, a[2] * s


@single
def length(a):
    return math.sqrt(a[0] * a[0] + a[1] * a[1] + a[2] * a[2])


@single
def vector(rows, i):
    return rows[i, 0], rows[i, 1], rows[i, 2]


@single
def quaternion(rows, i):
    return rows[i, 0], rows[i, 1], rows[i, 2], rows[i, 3]


@single
def put(rows, i, v):
    rows[i, 0], rows[i, 1], rows[i, 2] = v[0], v[1], v[2]


@single
def put_turn(rows, i, q):
    rows[i, 0], rows[i, 1], rows[i, 2], rows[i, 3] = q[0], q[1], q[2], q[3]


@single
def product(a, b):
    """The turn that is b first, then a."""
    return (
        a[3] * b[0] + b[3] * a[0] + a[1] * b[2] - a[2] * b[1],
        a[3] * b[1] + b[3] * a[1] + a[2] * b[0] - a[0] * b[2],
        a[3] * b[2] + b[3] * a[2] + a[0] * b[1] - a[1] * b[0],
        a[3] * b[3] - a[0] * b[0] - a[1] * b[1] - a[2] * b[2],
    )


@single
def inverse(q):
    return -q[0], -q[1], -q[2], q[3]


@single
def shorter(q):
    """The same turn by the shorter way round."""
    return q if q[3] >= 0 else (-q[0], -q[1], -q[2], -q[3])


@single
def turned(q, v):
    u = scaled(cross(q, v), 2.0)
    return add(add(v, scaled(u, q[3])), cross(q, u))


@single
def by_vector(d):
    """The turn about a vector by its length."""
    angle = length(d)
    s = 0.5 if angle < 1e-9 else math.sin(0.5 * angle) / angle
    return d[0] * s, d[1] * s, d[2] * s, math.cos(0.5 * angle)


@single
def angle_of(q):
    """rad, 0 to pi."""
    return 2 * math.atan2(length(q), abs(q[3]))


@single
def symmetric(rows, i, v):
    """Row i of symmetric matrices (xx, xy, xz, yy, yz, zz) times a vector."""
    a, b, c, d, e, f = rows[i, 0], rows[i, 1], rows[i, 2], rows[i, 3], rows[i, 4], rows[i, 5]
    return a * v[0] + b * v[1] + c * v[2], b * v[0] + d * v[1] + e * v[2], c * v[0] + e * v[1] + f * v[2]


@single
def put_inverse(rows, i, a, b, c, d, e, f):
    """Put the inverse of a symmetric matrix (xx, xy, xz, yy, yz, zz) into row i."""
    x, y, z = d * f - e * e, c * e - b * f, b * e - c * d
    s = 1 / (a * x + b * y + c * z)
    rows[i, 0], rows[i, 1], rows[i, 2] = x * s, y * s, z * s
    rows[i, 3], rows[i, 4], rows[i, 5] = (a * f - c * c) * s, (b * c - a * e) * s, (a * d - b * b) * s


@single
def nudge(q, i, d):
    """Turn row i by a small vector d of the world."""
    x, y, z, w = q[i, 0], q[i, 1], q[i, 2], q[i, 3]
    a, b, c = 0.5 * d[0], 0.5 * d[1], 0.5 * d[2]
    x2, y2, z2 = x + a * w + b * z - c * y, y + b * w + c * x - a * z, z + c * w + a * y - b * x
    w2 = w - a * x - b * y - c * z
    s = 1 / math.sqrt(x2 * x2 + y2 * y2 + z2 * z2 + w2 * w2)
    q[i, 0], q[i, 1], q[i, 2], q[i, 3] = x2 * s, y2 * s, z2 * s, w2 * s
