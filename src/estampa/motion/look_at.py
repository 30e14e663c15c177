"""Look-at: turn a subject, or each of its islands, towards a target."""

import numpy as np

from ..kinds.channels import choice, number, ref
from ..lazy import transform
from .layer import Deformer, stand

_AXES = {"+z": (0, 0, 1), "-z": (0, 0, -1), "+y": (0, 1, 0), "-y": (0, -1, 0), "+x": (1, 0, 0), "-x": (-1, 0, 0)}


class LookAt(Deformer):
    """Turns the subject about its pivot, or each island about its middle, until an axis points at the target.

    The shortest turn is taken. At part strength it turns that part of the way.
    """

    kind, title, turns = "look_at", "Look-at", True
    icon = "M3 13 L11 5 M8 4.5 H11.5 V8 M12 2 V3.5 M14.5 4.5 H13"
    group = "guide"

    target = ref("grip", "What it looks at.")
    axis = choice("+z", "The axis that points at the target.", {a: a.upper() for a in _AXES})
    each = choice("whole", "What is turned.", {"whole": "The whole subject", "islands": "Each island"}, title="Turns")
    most = number(
        np.pi, "It never turns further than this.", title="At most", unit="rad", soft=(0, np.pi), hard=(0, np.pi)
    )
    pivot = ref("grip", "The grip that the whole subject turns about; none is its own origin.")

    def apply(self, points, v, now):
        if v.target is None:
            return points
        k = len(points)
        aim = stand(v.target, k).origin
        if v.each == "islands":
            of = now.mesh.islands.astype(np.int64)
            count = np.bincount(of).astype(float)
            middle = (
                np.stack([np.bincount(of, points[r, :, j]) / count for r in range(k) for j in range(3)], axis=-1)
                .reshape(len(count), k, 3)
                .transpose(1, 0, 2)
            )
        else:
            of, middle = np.zeros(points.shape[1], np.int64), stand(v.pivot, k).origin[:, None]
        turn = least_turns(np.array(_AXES[v.axis], float), aim[:, None] - middle, v.most, v.strength)
        arms = points - middle[:, of]
        return middle[:, of] + np.einsum("knij,knj->kni", turn[:, of], arms)


def least_turns(axis, towards, most, strength) -> np.ndarray:
    """(k, m, 3, 3) the least rotations that bring an axis (3,) towards (k, m, 3) directions.

    most, strength -- (k,) greatest angle in rad, and the part of the way that is taken
    """
    k, m = towards.shape[:2]
    length = np.linalg.norm(towards, axis=2)
    way = towards / np.maximum(length, 1e-12)[..., None]
    cross = np.cross(np.broadcast_to(axis, way.shape), way)
    sine = np.linalg.norm(cross, axis=2)
    angle = np.arctan2(sine, way @ axis)
    # straight behind, any axis across will do
    aside = np.cross(axis, [0.0, 1, 0] if abs(axis[1]) < 0.9 else [1.0, 0, 0])
    hinge = np.where((sine > 1e-9)[..., None], cross / np.maximum(sine, 1e-12)[..., None], aside)
    angle = np.where(length > 1e-12, np.minimum(angle, most[:, None]) * strength[:, None], 0.0)
    return transform.Rotation.from_rotvec((hinge * angle[..., None]).reshape(-1, 3)).as_matrix().reshape(k, m, 3, 3)
