"""Swarm: grains with memory, born and guided by the layers of its stack."""

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from ...errors import EstampaError
from ...fields.force import World
from ...kinds.channels import choice, number, whole
from ...kinds.fields import FIELDS, POOL
from ...kinds.lanes import ReportLane, at_most
from ...kinds.registry import Kind
from ...motion.layer import Resolved
from ..ensemble import member_number
from ..frame import Column, Frame, Table
from .grains import COLUMNS, Grains, drift, turn_heading
from .layer import GrainLayer, GrainMoment, GrainSource

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

    def moment(self, guide: Guide, share: float = 1.0) -> GrainMoment:
        return GrainMoment(self.frame, self.first, self.rate, int(self.v.seed), self.world, guide.before, self.v, share)


SOURCES_TABLE = (
    Column("born", (), "", "How many it gave.", "f8"),
    Column("due", (), "", "What is due of the next one.", "f8"),
)
COUNTS = (
    Column("born", (), "", "How many were born.", keep="shown"),
    Column("living", (), "", "How many live.", keep="shown"),
    Column("gone", (), "", "How many died.", keep="shown"),
    Column("fastest", (), "m/s", "The speed of the fastest.", keep="shown"),
)


class GrainThing(Kind):
    """Base of the things that are solved as a whole, by layers in a stack of their own: sources, guides and dress."""

    family = "thing"
    group = "fill"
    memory = True
    owner, moves = "grains", "grains"
    solo = True
    come_and_go = ("grains",)
    reads = FIELDS - {POOL}
    lane = ReportLane("living", at_most("{:,.0f} live"), lambda row: f"{row['living']:,.0f} grains live")
    more: ClassVar[tuple[Column, ...]] = ()  # columns of grains beyond those of all
    shown: ClassVar[tuple[str, ...]] = tuple(c.name for c in COLUMNS)
    tables: ClassVar[dict[str, tuple[Column, ...]]] = {}

    seed = whole(1, "Another throw of the dice for all that chance decides.", soft=(1, 99), hard=(0, None), fixed=True)

    @classmethod
    def by_formula(cls, thing) -> bool:
        """Whether where its grains are is a formula of number and time, and needs no solve."""
        return False

    @classmethod
    def start_stack(cls, grip: str, size: float) -> tuple[tuple[str, dict[str, object]], ...]:
        """(kind, values) of the layers that a new one has, so that it is seen at once: grains sown about a grip, within
        `size` m, that eddies carry along."""
        return (
            ("sow", {"around": grip, "radius": size, "count": 500}),
            ("grain_turbulence", {"how": "carry", "scale": 2 * size, "flow": size}),
            ("grain_limit", {"fastest": 4 * size}),
        )

    @staticmethod
    def number(layer_id: str) -> int:
        """A source's number for good."""
        return member_number(layer_id) % SOURCES

    def start(self, inputs: SwarmInputs) -> Frame:
        sources = {g.id: GrainSource(self.number(g.id)) for g in inputs.layers}
        found = Grains.none()
        found.more = {c.name: np.zeros((0, *c.shape)) for c in self.more}
        for born in self._born(inputs, sources, found):
            found = found.with_more(born)
        return self._frame(found, sources, inputs)

    def step(self, frame: Frame, inputs: SwarmInputs, dt: float) -> Frame:
        kept = frame["sources"]
        ids = kept.ids if kept.ids is not None else np.zeros(0, np.int64)
        sources = {g.id: GrainSource(self.number(g.id)) for g in inputs.layers}
        for source in sources.values():
            at = np.flatnonzero(ids == source.number)
            if len(at):
                source.born, source.due = float(kept["born"][at[0]]), float(kept["due"][at[0]])
        grains = Grains.of(frame["grains"], [c.name for c in self.more])
        self.advance(grains, inputs, dt)
        for born in self._born(inputs, sources, grains):
            self.advance_born(born, inputs, born.age.copy())
            grains = grains.with_more(born)
        grains = grains.pick(grains.age < grains.life) if (grains.age >= grains.life).any() else grains
        return self._frame(grains, sources, inputs)

    def advance(self, grains: Grains, inputs: SwarmInputs, dt: float) -> None:
        """Let grains go on for a frame of dt s."""
        raise NotImplementedError

    def advance_born(self, grains: Grains, inputs: SwarmInputs, h: np.ndarray) -> None:
        """Let grains that were born within the frame go on to its end, each for h (n,) s."""
        raise NotImplementedError

    def furnish(self, born: Grains, guide: Guide, inputs: SwarmInputs) -> None:
        """Give new grains what only this kind has of each."""

    def _born(self, inputs, sources, living):
        """Yields the grains that come, of each source."""
        many = len(living)
        for guide in inputs.layers:
            born = guide.layer.born(guide.v, inputs.moment(guide), sources[guide.id])
            if born is None or not len(born):
                continue
            self.furnish(born, guide, inputs)
            many += len(born)
            if many > MOST:
                raise EstampaError(
                    guide.name,
                    f"would make {many:,} grains live at once.",
                    f"Lower its number or its rate, or let them die; {MOST:,} are the most.",
                )
            yield born

    def _frame(self, grains, sources, inputs) -> Frame:
        columns = {c.name: c.array(getattr(grains, c.name)) for c in COLUMNS}
        columns |= {c.name: c.array(grains.more[c.name]) for c in self.more}
        order = sorted(sources.values(), key=lambda s: s.number)
        own = {"born": [s.born for s in order], "due": [s.due for s in order]}
        sizes = {c.name: c.array(own[c.name]) for c in self.tables["sources"]}
        born = sum(s.born for s in order)
        row = {"born": born, "living": len(grains), "gone": born - len(grains), "fastest": grains.fastest}
        row |= self.reported(grains, inputs)
        report = {c.name: c.array([row[c.name]]) for c in self.tables["report"]}
        return Frame(
            {
                "grains": Table(columns, grains.ids),
                "report": Table(report),
                "sources": Table(sizes, np.array([s.number for s in order], np.int64)),
            }
        )

    def reported(self, grains: Grains, inputs: SwarmInputs) -> dict[str, float]:
        """What else is reported of a frame, by column."""
        return {}

    # -- what every solver is asked ----------------------------------------------------------------------------
    def facts(self, frame: Frame) -> list[tuple[str, str]]:
        row = {n: float(c[0]) for n, c in frame["report"].columns.items()}
        sits = int((frame["grains"]["sits"] > 0).sum())
        return [
            ("Living here", f"{row['living']:,.0f}" + (f", {sits:,} of them sit" if sits else "")),
            ("Born, gone", f"{row['born']:,.0f}, {row['gone']:,.0f}"),
            ("Fastest", f"{row['fastest']:.3g} m/s"),
        ]

    def rests(self, inputs: SwarmInputs) -> dict[str, np.ndarray]:
        return {}

    def fits(self, frame: Frame, inputs: SwarmInputs) -> bool:
        """Its rows come and go: every frame of a swarm does."""
        return "grains" in frame.tables

    def resumed(self, frame: Frame, inputs: SwarmInputs) -> Frame:
        return frame

    def can_resume(self, frame: Frame) -> bool:
        return True


class Swarm(GrainThing):
    """Grains: born by sources, guided and dressed by layers in a stack, each by chance of its own.

    Nothing falls unless a layer lets it. What chance gives a grain depends on its number alone, so that more of them
    change none of the others.
    """

    kind, title = "swarm", "Swarm"
    roster_rank = 2
    icon = "M3 4 l1.2 .8 M7 2.6 l1.2 .8 M11 4.6 l1.2 .8 M4.6 8 l1.2 .8 M9 7.6 l1.2 .8 M12 10 l1.2 .8 M6 12 l1.2 .8 M2.4 11.4 l1.2 .8 M10 13 l1.2 .8"  # noqa: E501
    rank = 8
    tables = {"grains": COLUMNS, "sources": SOURCES_TABLE, "report": COUNTS}

    by = choice(
        "steps", "Whether each frame is solved from the one before, or all is a formula of number and time.",
        {"steps": "Step by step", "formula": "By formula: it loops, and needs no solve"}, title="Goes", fixed=True,
    )  # fmt: skip
    period = number(
        10, "How long it takes until all are back; in a scene with a loop range its length counts.", unit="s",
        soft=(1, 60), hard=(0.01, None), fixed=True, when=(("by", ("formula",)),),
    )  # fmt: skip
    substeps = whole(1, "Small steps in each frame; more for sharp turns and hard bounces.", soft=(1, 8), hard=(1, 100))
    min_turn_speed = number(
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

    @classmethod
    def by_formula(cls, thing):
        return thing.constant("by") == "formula"

    def advance(self, grains, inputs, dt):
        n = max(int(inputs.v.substeps), 1)
        for k in range(n):
            self._advance(grains, inputs, np.array([dt / n]), (k + 0.5) / n, (k + 1) / n, True)

    def advance_born(self, grains, inputs, h):
        self._advance(grains, inputs, h, 0.5, 1.0, False)

    def _advance(self, grains, inputs, h, middle, end, all_of_them) -> None:
        if not len(grains):
            return
        guides = [g for g in inputs.layers if all_of_them or not g.layer.social]
        drift(grains.position, grains.velocity, grains.sits, 0.5, h)
        for guide in guides:
            guide.layer.guide(grains, guide.v, replace(inputs.moment(guide), share=middle), h)
        drift(grains.position, grains.velocity, grains.sits, 0.5, h)
        for guide in guides:
            guide.layer.bound(grains, guide.v, replace(inputs.moment(guide), share=end), h)
        turn = (float(inputs.v.min_turn_speed), float(inputs.v.leans), GRAVITY)
        turn_heading(grains.velocity, grains.heading, grains.bank, grains.sits, *turn, h)
        if all_of_them:
            grains.age += h
            grains.sits[:] = np.maximum(grains.sits - h, 0)
