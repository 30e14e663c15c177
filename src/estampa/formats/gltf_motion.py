"""Where nodes of a glTF stand, and the tracks of its animations at a moment (glTF 2.0, section 3.11, appendix C)."""

import numpy as np

from ..lazy import transform
from .asset import Track


def placed(place, turn, size) -> np.ndarray:
    """(4, 4) or (k, 4, 4) of places, quaternions x, y, z, w and sizes along the axes."""
    place, turn, size = (np.asarray(x, float) for x in (place, turn, size))
    found = np.zeros((*place.shape[:-1], 4, 4))
    found[..., :3, :3] = transform.Rotation.from_quat(turn).as_matrix() * size[..., None, :]
    found[..., :3, 3], found[..., 3, 3] = place, 1
    return found


def track_of(times, values, how) -> Track:
    """The keys of a sampler: glTF 2.0, section 3.11 and appendix C."""
    count = len(times)
    if how != "CUBICSPLINE":
        return Track(times, values.reshape(count, -1), "step" if how == "STEP" else "linear")
    into, own, out = values.reshape(count, 3, -1).transpose(1, 0, 2)
    return Track(times, own, "curve", into, out)


def sampled(times, values, how, path, at) -> np.ndarray:
    """The value of a track at a moment, as the standard says (glTF 2.0, appendix C): held outside, stepped, linear
    (turns the shorter way round), or a cubic spline with its tangents."""
    count = len(times)
    values = values.reshape(count * (3 if how == "CUBICSPLINE" else 1), -1)
    if path == "weights":
        values = values.reshape(count, 3, -1) if how == "CUBICSPLINE" else values.reshape(count, -1)
    elif how == "CUBICSPLINE":
        values = values.reshape(count, 3, -1)
    key = values[:, 1] if how == "CUBICSPLINE" else values
    i = int(np.clip(np.searchsorted(times, at, side="right") - 1, 0, count - 1))
    if at <= times[0] or i == count - 1 or how == "STEP":
        return key[0] if at <= times[0] else key[i]
    long = times[i + 1] - times[i]
    t = (at - times[i]) / long
    if how == "CUBICSPLINE":
        a, b, out, into = key[i], key[i + 1], values[i, 2] * long, values[i + 1, 0] * long
        found = (2 * t**3 - 3 * t**2 + 1) * a + (t**3 - 2 * t**2 + t) * out
        found = found + (3 * t**2 - 2 * t**3) * b + (t**3 - t**2) * into
        return found / np.linalg.norm(found) if path == "rotation" else found
    if path != "rotation":
        return key[i] + t * (key[i + 1] - key[i])
    a, b = key[i], key[i + 1]
    cosine = float(a @ b)
    b, cosine = (-b, -cosine) if cosine < 0 else (b, cosine)
    if cosine > 1 - 1e-9:
        found = a + t * (b - a)
    else:
        angle = np.arccos(cosine)
        found = (np.sin((1 - t) * angle) * a + np.sin(t * angle) * b) / np.sin(angle)
    return found / np.linalg.norm(found)
