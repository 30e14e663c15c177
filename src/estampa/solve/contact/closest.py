"""Closest points of two elements, by weights of their corners. After C. Ericson 2005, "Real-Time Collision Detection",
sections 5.1.5 and 5.1.9.

They take numbers and no arrays: a loop that hands arrays on counts references to them, which two threads fight over.
"""

from numba import njit

plain = njit(cache=True, nogil=True, error_model="numpy")


@plain
def point_triangle(px, py, pz, ax, ay, az, bx, by, bz, cx, cy, cz):
    """(weights of a, b, c at the point of the triangle closest to p, whether that is within its sides)."""
    abx, aby, abz = bx - ax, by - ay, bz - az
    acx, acy, acz = cx - ax, cy - ay, cz - az
    apx, apy, apz = px - ax, py - ay, pz - az
    d1, d2 = abx * apx + aby * apy + abz * apz, acx * apx + acy * apy + acz * apz
    if d1 <= 0 and d2 <= 0:
        return 1.0, 0.0, 0.0, False
    bb, cc, bc = abx * abx + aby * aby + abz * abz, acx * acx + acy * acy + acz * acz, abx * acx + aby * acy + abz * acz
    d3, d4, d5, d6 = d1 - bb, d2 - bc, d1 - bc, d2 - cc
    if d3 >= 0 and d4 <= d3:
        return 0.0, 1.0, 0.0, False
    if d6 >= 0 and d5 <= d6:
        return 0.0, 0.0, 1.0, False
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    if vc <= 0 and d1 >= 0 and d3 <= 0:
        v = d1 / (d1 - d3) if d1 - d3 > 0 else 0.0
        return 1 - v, v, 0.0, False
    if vb <= 0 and d2 >= 0 and d6 <= 0:
        w = d2 / (d2 - d6) if d2 - d6 > 0 else 0.0
        return 1 - w, 0.0, w, False
    if va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6)) if (d4 - d3) + (d5 - d6) > 0 else 0.0
        return 0.0, 1 - w, w, False
    per = va + vb + vc
    if per <= 0:
        return 1.0, 0.0, 0.0, False
    v, w = vb / per, vc / per
    return 1 - v - w, v, w, True


@plain
def edge_edge(ax, ay, az, bx, by, bz, cx, cy, cz, dx, dy, dz):
    """(share s from a to b, share t from c to d of the closest points, whether both lie between the ends)."""
    ux, uy, uz = bx - ax, by - ay, bz - az
    vx, vy, vz = dx - cx, dy - cy, dz - cz
    rx, ry, rz = ax - cx, ay - cy, az - cz
    uu, vv, uv = ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz, ux * vx + uy * vy + uz * vz
    ur, vr = ux * rx + uy * ry + uz * rz, vx * rx + vy * ry + vz * rz
    low = uu * vv - uv * uv
    s = 0.0
    if low > 1e-12 * uu * vv:  # else they are parallel, and their ends tell
        s = (uv * vr - ur * vv) / low
        t = (uu * vr - uv * ur) / low
        if 0 < s < 1 and 0 < t < 1:
            return s, t, True
        s = min(max(s, 0.0), 1.0)
    t = (uv * s + vr) / vv
    if t < 0:
        t = 0.0
        s = min(max(-ur / uu, 0.0), 1.0)
    elif t > 1:
        t = 1.0
        s = min(max((uv - ur) / uu, 0.0), 1.0)
    return s, t, False


@plain
def apart_pt(px, py, pz, ax, ay, az, bx, by, bz, cx, cy, cz):
    """m2, square of the distance of a point and a triangle."""
    u, v, w, _ = point_triangle(px, py, pz, ax, ay, az, bx, by, bz, cx, cy, cz)
    dx, dy, dz = px - u * ax - v * bx - w * cx, py - u * ay - v * by - w * cy, pz - u * az - v * bz - w * cz
    return dx * dx + dy * dy + dz * dz


@plain
def apart_ee(ax, ay, az, bx, by, bz, cx, cy, cz, dx, dy, dz):
    """m2, square of the distance of two edges."""
    s, t, _ = edge_edge(ax, ay, az, bx, by, bz, cx, cy, cz, dx, dy, dz)
    ex = ax + s * (bx - ax) - cx - t * (dx - cx)
    ey = ay + s * (by - ay) - cy - t * (dy - cy)
    ez = az + s * (bz - az) - cz - t * (dz - cz)
    return ex * ex + ey * ey + ez * ez
