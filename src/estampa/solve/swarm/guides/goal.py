"""Goal: each grain is drawn to a place of its own, in or on a thing that goes ahead."""

import numpy as np
from numba import njit, prange

from ....errors import EstampaError
from ....hashing import rand
from ....kinds.channels import choice, number, ref
from .. import places
from ..grains import chance, one, salt
from ..layer import GrainLayer

BEAT = 24.0  # 1/s: the pull is a share of the way in each twenty-fourth of a second


class Goal(GrainLayer):
    """Draws each grain to a place of its own in or on a thing that goes ahead: a loose or a tight flock that chases it.

    The pull is the share of the way that it makes in a twenty-fourth of a second: about 0.1 is loose, 0.5 tight, and at
    1 it sits there (common practice, no source). Below a damping ratio of 1 it overshoots.
    """

    kind, title = "grain_goal", "Chase"
    icon = "M11 8 a3 3 0 1 0 -3 3 M8 8 L13.5 2.5 M13.5 2.5 h-2.5 M13.5 2.5 v2.5 M2.5 13 h.01 M4.5 11.5 h.01 M4 14 h.01"
    rank = 10
    reads_before = True

    where = choice(
        "ball",
        "Where in it the places lie.",
        {"ball": "In a ball about a grip", "surface": "On a subject", "inside": "In a subject"},
    )
    grip = ref("placed", "The grip that goes ahead.", when=(("where", ("ball",)),))
    radius = number(
        0.5, "Of the ball, at the grip's size.", unit="m", soft=(0, 3), hard=(0, None), when=(("where", ("ball",)),)
    )
    on = ref("subject", "The subject that goes ahead.", when=(("where", ("surface", "inside")),))
    on_map = ref(
        "target_weights",
        "More of the places where this map of it is high.",
        title="Where",
        when=(("where", ("surface",)),),
    )
    pull = number(0.15, "Loose at 0.1, tight at 0.5, at 1 it sits there.", unit="fraction", soft=(0, 1), hard=(0, 1))
    ratio = number(
        0.7,
        "Damping: below 1 it swings past its place, 1 just not.",
        title="Damping ratio",
        unit="factor",
        soft=(0.05, 2),
        hard=(0, 10),
    )
    varies = number(
        0.5,
        "Quicker or slower by chance, up to this share, so that no two lag alike.",
        title="Lag varies by",
        unit="fraction",
        soft=(0, 1),
        hard=(0, 0.95),
    )

    def bound(self, grains, v, now, h):
        here, before = self._places(v, now, grains.ids)
        target = before + now.share * (here - before)
        going = (here - before) * now.rate
        felt = self.felt(grains, v)
        numbers = (float(v.pull), float(v.ratio), float(v.varies), salt(now.seed, v.id + "lag"))
        _chase(grains.position, grains.velocity, grains.ids, grains.sits, target, going, *numbers, felt, h)

    def _places(self, v, now, ids):
        """((n, 3) m, the same a frame before) where the places of the grains are."""
        seed, last = now.seed, now.before
        if v.where == "ball":
            if v.grip is None:
                raise EstampaError("Chase", "has nothing to chase.", "Choose a grip under “Grip”.")
            own = float(v.radius) * places.in_ball(ids, seed)
            return tuple(p.apply(own[None])[0] for p in (v.grip, last.grip or v.grip))
        if v.on is None:
            raise EstampaError("Chase", "has nothing to chase.", "Choose a subject under “On”.")
        points, mesh = v.on.points[0], v.on.mesh
        was = last.on.points[0] if last.on is not None and last.on.points.shape == v.on.points.shape else points
        try:  # which place is each grain's own is told by the mesh at rest
            which, shares = places.on_surface(ids, seed, mesh.rest, mesh.triangles, v.on_map)
        except ValueError as err:
            cause = "has no surface where its map is above 0"
            raise EstampaError("Chase", f"cannot chase: the subject {cause}.", "Choose another map.", str(err)) from err
        found = [places.shares_at(p, mesh.triangles, which, shares) for p in (points, was)]
        if v.where == "inside":  # on the way from its middle to its surface; uniform in a ball
            deep = np.cbrt(rand(seed, ids, "deep"))[:, None]
            found = [p.mean(axis=0) + deep * (at - p.mean(axis=0)) for p, at in zip((points, was), found, strict=True)]
        return found


@njit(parallel=True, cache=True, nogil=True)
def _chase(place, speed, ids, sits, target, going, pull, ratio, varies, salt, felt, h):
    """A damped oscillator about its place, which goes on: solved exactly over h, from where it was (textbooks on
    vibration, e.g. Meirovitch 2001, Fundamentals of Vibrations)."""
    for i in prange(len(place)):
        share = min(pull * one(felt, i), 1.0)
        t = one(h, i)
        if sits[i] > 0 or share <= 0:
            continue
        if share > 0.9999:
            for j in range(3):
                place[i, j], speed[i, j] = target[i, j], going[i, j]
            continue
        w = -np.log(1 - share) * BEAT * (1 + varies * (2 * chance(ids[i], salt) - 1))
        decay = np.exp(-ratio * w * t)
        if abs(ratio - 1) < 1e-4:
            c, s = 1.0, t
        elif ratio < 1:
            d = w * np.sqrt(1 - ratio * ratio)
            c, s = np.cos(d * t), np.sin(d * t) / d
        else:
            d = w * np.sqrt(ratio * ratio - 1)
            c, s = np.cosh(d * t), np.sinh(d * t) / d
        for j in range(3):
            # what the drift made of it is taken back: the oscillator goes its own way from the step's start
            x = place[i, j] - t * speed[i, j] - (target[i, j] - t * going[i, j])
            u = speed[i, j] - going[i, j]
            place[i, j] = target[i, j] + decay * (x * c + (u + ratio * w * x) * s)
            speed[i, j] = going[i, j] + decay * (u * c - (ratio * w * u + w * w * x) * s)
