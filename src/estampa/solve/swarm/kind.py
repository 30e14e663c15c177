"""Swarm: grains with memory, born and guided by the layers of its stack."""

from dataclasses import dataclass, replace

import numpy as np

from ...errors import EstampaError
from ...fields.force import World
from ...kinds.channels import choice, number, whole
from ...kinds.registry import Kind
from ...motion.layer import Resolved
from ..ensemble import member_number
from ..frame import Column, Frame, Table
from .grains import COLUMNS, Grains, drift, turn_heading
from .layer import GrainLayer, Moment, Source

MOST = 10_000_000  # grains that live at once
GRAVITY = 9.80665  # m/s2, by which leaning is judged
SOURCES = 1 << 22  # numbers of sources


@dataclass(frozen=True)
class Guide:
    """A layer of a swarm as it is read at a frame, and at the one before."""

    id: str
    name: str
    layer: GrainLayer
    v: Resolved
    before: Resolved


@dataclass(frozen=True)
class SwarmInputs:
    """Everything that a swarm reads for a frame."""

    layers: tuple[Guide, ...]
    v: Resolved
    world: World
    frame: int
    first: int
    rate: float

    def moment(self, guide: Guide, share: float = 1.0) -> Moment:
        return Moment(self.frame, self.first, self.rate, int(self.v.seed), self.world, guide.before, share)


class Swarm(Kind):
    """Grains: born by sources, guided and dressed by layers in a stack, each by chance of its own.

    Nothing falls unless a layer lets it. What chance gives a grain depends on its number alone, so that more of them
    change none of the others.
    """

    kind, family, title = "swarm", "thing", "Swarm"
    icon = "M3 4 l1.2 .8 M7 2.6 l1.2 .8 M11 4.6 l1.2 .8 M4.6 8 l1.2 .8 M9 7.6 l1.2 .8 M12 10 l1.2 .8 M6 12 l1.2 .8 M2.4 11.4 l1.2 .8 M10 13 l1.2 .8"  # noqa: E501
    group = "fill"
    rank = 8
    memory = True
    moves = "grains"
    solo = True
    come_and_go = ("grains",)
    feels = ("gravity", "wind", "ground", "collider")
    shown = tuple(c.name for c in COLUMNS)
    tables = {
        "grains": COLUMNS,
        "sources": (
            Column("born", (), "", "How many it gave.", "f8"),
            Column("due", (), "", "What is due of the next one.", "f8"),
        ),
        "report": (
            Column("born", (), "", "How many were born.", keep="shown"),
            Column("living", (), "", "How many live.", keep="shown"),
            Column("gone", (), "", "How many died.", keep="shown"),
            Column("fastest", (), "m/s", "The speed of the fastest.", keep="shown"),
        ),
    }

    by = choice(
        "steps", "Whether each frame is solved from the one before, or all is a formula of number and time.",
        {"steps": "Step by step", "formula": "By formula: it loops, and needs no solve"}, title="Goes", fixed=True,
    )  # fmt: skip
    period = number(
        10, "How long it takes until all are back; in a scene with a loop range its length counts.", unit="s",
        soft=(1, 60), hard=(0.01, None), fixed=True, when=(("by", ("formula",)),),
    )  # fmt: skip
    seed = whole(1, "Another throw of the dice for all that chance decides.", soft=(1, 99), hard=(0, None), fixed=True)
    substeps = whole(1, "Small steps in each frame; more for sharp turns and hard bounces.", soft=(1, 8), hard=(1, 100))
    least = number(
        0.02,
        "Below this speed a grain keeps facing as it did.",
        title="Turns above",
        unit="m/s",
        soft=(0, 1),
        hard=(0, None),
    )
    leans = number(
        0.15, "How long it takes to lean into a turn.", title="Leans over", unit="s", soft=(0.02, 1), hard=(1e-3, None)
    )

    @staticmethod
    def number(layer_id: str) -> int:
        """A source's number for good."""
        return member_number(layer_id) % SOURCES

    def start(self, inputs: SwarmInputs) -> Frame:
        sources = {g.id: Source(self.number(g.id)) for g in inputs.layers}
        found = Grains.none()
        for born in self._born(inputs, sources, found):
            found = found.with_more(born)
        return self._frame(found, sources, inputs)

    def step(self, frame: Frame, inputs: SwarmInputs, dt: float) -> Frame:
        kept = frame["sources"]
        ids = kept.ids if kept.ids is not None else np.zeros(0, np.int64)
        sources = {g.id: Source(self.number(g.id)) for g in inputs.layers}
        for source in sources.values():
            at = np.flatnonzero(ids == source.number)
            if len(at):
                source.born, source.due = float(kept["born"][at[0]]), float(kept["due"][at[0]])
        grains = Grains.of(frame["grains"])
        n = max(int(inputs.v.substeps), 1)
        h = np.array([dt / n])
        for k in range(n):
            self._advance(grains, inputs, h, (k + 0.5) / n, (k + 1) / n, True)
        for born in self._born(inputs, sources, grains):
            self._advance(born, inputs, born.age.copy(), 0.5, 1.0, False)
            grains = grains.with_more(born)
        grains = grains.pick(grains.age < grains.life) if (grains.age >= grains.life).any() else grains
        return self._frame(grains, sources, inputs)

    def _born(self, inputs, sources, living):
        """Yields the grains that come, of each source."""
        many = len(living)
        for guide in inputs.layers:
            born = guide.layer.born(guide.v, inputs.moment(guide), sources[guide.id])
            if born is None or not len(born):
                continue
            many += len(born)
            if many > MOST:
                raise EstampaError(
                    guide.name,
                    f"would make {many:,} grains live at once.",
                    f"Lower its number or its rate, or let them die; {MOST:,} are the most.",
                )
            yield born

    def _advance(self, grains, inputs, h, middle, end, all_of_them) -> None:
        if not len(grains):
            return
        guides = [g for g in inputs.layers if all_of_them or not g.layer.social]
        drift(grains.place, grains.speed, grains.sits, 0.5, h)
        for guide in guides:
            guide.layer.guide(grains, guide.v, replace(inputs.moment(guide), share=middle), h)
        drift(grains.place, grains.speed, grains.sits, 0.5, h)
        for guide in guides:
            guide.layer.bound(grains, guide.v, replace(inputs.moment(guide), share=end), h)
        turn = (float(inputs.v.least), float(inputs.v.leans), GRAVITY)
        turn_heading(grains.speed, grains.heading, grains.bank, grains.sits, *turn, h)
        if all_of_them:
            grains.age += h
            grains.sits[:] = np.maximum(grains.sits - h, 0)

    def _frame(self, grains, sources, inputs) -> Frame:
        columns = {c.name: c.array(getattr(grains, c.name)) for c in COLUMNS}
        order = sorted(sources.values(), key=lambda s: s.number)
        own = {"born": [s.born for s in order], "due": [s.due for s in order]}
        sizes = {c.name: c.array(own[c.name]) for c in self.tables["sources"]}
        born = sum(s.born for s in order)
        told = {"born": [born], "living": [len(grains)], "gone": [born - len(grains)], "fastest": [grains.fastest]}
        report = {c.name: c.array(told[c.name]) for c in self.tables["report"]}
        return Frame(
            {
                "grains": Table(columns, grains.ids),
                "report": Table(report),
                "sources": Table(sizes, np.array([s.number for s in order], np.int64)),
            }
        )

    # -- what every solver is asked ----------------------------------------------------------------------------
    def facts(self, frame: Frame) -> list[tuple[str, str]]:
        told = {n: float(c[0]) for n, c in frame["report"].columns.items()}
        sits = int((frame["grains"]["sits"] > 0).sum())
        return [
            ("Living here", f"{told['living']:,.0f}" + (f", {sits:,} of them sit" if sits else "")),
            ("Born, gone", f"{told['born']:,.0f}, {told['gone']:,.0f}"),
            ("Fastest", f"{told['fastest']:.3g} m/s"),
        ]

    def rests(self, inputs: SwarmInputs) -> dict[str, np.ndarray]:
        return {}

    def fits(self, frame: Frame, inputs: SwarmInputs) -> bool:
        """Its rows come and go: every frame of a swarm does."""
        return "grains" in frame.tables

    def resumed(self, frame: Frame, inputs: SwarmInputs) -> Frame:
        return frame

    def goes_on(self, frame: Frame) -> bool:
        return True
