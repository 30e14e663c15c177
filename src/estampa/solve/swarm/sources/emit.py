"""Emit: grains that are born over time."""

import numpy as np

from ....errors import EstampaError
from ....geometry.mesh import crossed
from ....kinds.channels import choice, number, ref, whole
from ...swarm import places
from ..births import Births
from ..grains import Grains

MOST_A_FRAME = 2_000_000


class Emit(Births):
    """Grains that are born over time, by a rate and in bursts, about a grip or from the surface of a moving subject.

    They are born between frames too, where their source is at that moment, and may take its speed along.
    """

    kind, title = "emit", "Emit"
    icon = "M3 13 H13 M8 12 V8 M8 5 V4 M5 8.5 L4 6.5 M11 8.5 L12 6.5 M3.4 4 h.01 M12.6 4 h.01 M8 2 h.01"
    rank = 2
    reads_before = True

    rate = number(100, "How many are born in a second.", unit="1/s", soft=(0, 5000), hard=(0, None))
    burst = whole(0, "And so many at once, whenever a burst comes.", soft=(0, 1000), hard=(0, MOST_A_FRAME))
    burst_at = whole(1, "The frame of the first burst.", title="Burst at", unit="frames", soft=(1, 100), fixed=True)
    burst_every = whole(
        0,
        "Frames from a burst to the next; 0 is one only.",
        title="Again after",
        unit="frames",
        soft=(0, 100),
        hard=(0, None),
        fixed=True,
    )
    where = choice(
        "ball",
        "Where they are born.",
        {"ball": "Within a ball about a grip", "surface": "On the surface of a subject", "inside": "Inside a subject"},
    )
    around = ref("grip", "The middle of the ball.", when=(("where", ("ball",)),))
    radius = number(0.05, "Of the ball.", unit="m", soft=(0, 2), hard=(0, None), when=(("where", ("ball",)),))
    on = ref("subject", "The subject that they come from.", when=(("where", ("surface", "inside")),))
    on_map = ref(
        "target_weights", "More of them where this map of it is high.", title="Where", when=(("where", ("surface",)),)
    )
    outward = number(
        0, "How fast they leave along the surface's normal, or along the grip's Y.", unit="m/s", soft=(0, 5)
    )
    spread = number(0.3, "Half the angle over which that is spread.", unit="rad", soft=(0, np.pi), hard=(0, np.pi))
    inherits = number(1, "Share of the source's own speed that they take along.", unit="fraction", soft=(0, 1))

    @classmethod
    def expected(cls, constant, seconds, spacing, room):
        return constant("rate") * (min(constant("life"), seconds) if constant("life") > 0 else seconds)

    def born(self, v, now, source):
        moments = self._moments(v, now, source)
        count = len(moments)
        if not count:
            return None
        ids = source.ids(count)
        place, carried, out = self._from(v, now, ids, moments)
        speed = self.speeds(ids, v, now.seed) + float(v.inherits) * carried
        if v.outward:
            speed = speed + float(v.outward) * places.in_cone(ids, now.seed, out, float(v.spread))
        grains = Grains.born(ids, place, speed, self.lives(ids, v, now.seed))
        grains.age = (1 - moments) / now.rate
        return grains

    def _moments(self, v, now, source) -> np.ndarray:
        """(k,) in [0, 1), how far into the step each comes, in order: exactly the integral of the rate, which goes
        evenly from what it was to what it is."""
        found = [np.zeros(0)]
        if now.frame > now.first:
            a, b = float(now.before.rate) / now.rate, float(v.rate) / now.rate  # births a frame
            total = source.due + (a + b) / 2
            count = int(np.floor(total + 1e-9))
            if count > MOST_A_FRAME:
                raise EstampaError(
                    "Emit",
                    f"would bear {count:,} grains in one frame.",
                    f"Lower its rate; {MOST_A_FRAME:,} a frame are the most.",
                )
            due = np.arange(1, count + 1) - source.due  # a t + (b - a) t^2 / 2 = due
            slope = b - a
            if abs(slope) < 1e-9 * max(a, b, 1e-300):
                found = [due / max(a, 1e-300)]
            else:
                found = [2 * due / (a + np.sqrt(np.maximum(a * a + 2 * slope * due, 0)))]
            source.due = max(total - count, 0.0)
        past, every = now.frame - max(int(v.burst_at), now.first), int(v.burst_every)
        if v.burst and (past == 0 or (every and past > 0 and past % every == 0)):
            found.append(np.zeros(int(v.burst)))
        return np.clip(np.concatenate(found), 0, 1 - 1e-9)

    def _from(self, v, now, ids, t):
        """((n, 3) m places, (n, 3) m/s the source's own speed there, (n or 1, 3) the way out)."""
        before, seed = now.before, now.seed
        if v.where == "ball":
            own = float(v.radius) * places.in_ball(ids, seed)
            if v.around is None:
                return own, np.zeros_like(own), np.array([[0.0, 1, 0]])
            last = v.around if before.around is None else before.around
            was, here = (p.apply(own[None])[0] for p in (last, v.around))
            return was + t[:, None] * (here - was), (here - was) * now.rate, v.around.axes[:, :, 1]
        if v.on is None:
            raise EstampaError("Emit", "has no subject to come from.", "Choose one under “On”.")
        here, mesh = v.on.points[0], v.on.mesh
        was = before.on.points[0] if before.on is not None and before.on.points.shape == v.on.points.shape else here
        try:
            if v.where == "inside":
                at = places.in_mesh(ids, seed, mesh, here)
                shift = (here - was).mean(axis=0)
                out = at - here.mean(axis=0)
                out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12)
                return at - (1 - t)[:, None] * shift, np.broadcast_to(shift * now.rate, at.shape), out
            which, shares = places.on_surface(ids, seed, here, mesh.triangles, v.on_map)
        except ValueError as err:
            what = "holds no volume" if v.where == "inside" else "has no surface where its map is above 0"
            raise EstampaError(
                "Emit", f"cannot be born there: the subject {what}.", "Choose another subject or map.", str(err)
            ) from err
        a, b = (places.shares_at(p, mesh.triangles, which, shares) for p in (was, here))
        out = crossed(here[mesh.triangles[which]])
        out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-300)
        return a + t[:, None] * (b - a), (b - a) * now.rate, out
