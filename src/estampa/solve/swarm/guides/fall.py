"""Fall: the scene's gravity, and what pulls in places."""

from ..layer import GrainLayer


class Fall(GrainLayer):
    """Lets grains fall: the scene's gravity, and what pulls in places. Strength says how much of it is felt."""

    kind, title = "grain_fall", "Fall"
    icon = "M8 2.5 V11 M5 8.5 L8 12 L11 8.5 M3 14 H13"
    rank = 12

    def guide(self, grains, v, now, h):
        grains.speed += now.world.acceleration(grains.place) * (self.felt(grains, v) * (grains.sits <= 0) * h)[:, None]
