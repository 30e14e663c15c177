"""An ensemble and its member, as a newcomer would write them: things that drift apart."""

import numpy as np

from estampa.kinds.channels import number
from estampa.solve.ensemble import Ensemble, Member
from estampa.solve.frame import Column, Frame, Table


class Drift(Ensemble):
    """Members move away from the middle of all of them."""

    kind, title = "drift", "Drift"
    icon = "M8 8 L3 3 M8 8 L13 3 M8 8 V14"
    reads = frozenset()
    tables = {"things": (Column("away", (3,), "m", "How far each has gone."),)}

    speed = number(1, "How fast they go.", unit="m/s", soft=(0, 5))

    def start(self, crowd):
        spans = {m.id: (i, i + 1) for i, m in enumerate(crowd.members)}
        away = np.zeros((len(spans), 3), np.float32)
        return Frame({"things": Table({"away": away}, np.arange(len(spans)), spans)})

    def step(self, frame, crowd, dt):
        things, middles = frame["things"], np.array([m.first.mean(axis=0) for m in crowd.members])
        way = middles - middles.mean(axis=0)
        way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-9)
        away = (things["away"] + crowd.v.speed * dt * way).astype(np.float32)
        return Frame({"things": Table({"away": away}, things.ids, things.spans)})


class Drifter(Member):
    """The subject drifts."""

    kind, title = "drifter", "Drifter"
    icon = "M3 8 H13 M9 4 L13 8 L9 12"
    group, ensemble, shown = "fall", "drift", ("away",)

    def points(self, frame, entering):
        return entering.first() + frame["things"].of(entering.id)["away"]
