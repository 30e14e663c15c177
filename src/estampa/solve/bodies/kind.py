"""Bodies: the ensemble that solves rigid bodies together."""

from functools import partial

import numpy as np

from ...kinds.channels import choice, whole
from ...kinds.lanes import ReportLane, at_rest
from ...units import format_length
from ..ensemble import Ensemble, EnsembleInputs
from ..frame import Column, Frame, Table
from ..ragdoll.coupling import RagdollFrame
from .bonded import BondFrame
from .engine import REACH, Engine, unit_of
from .hinges import limb_table
from .model import Model, solid_obstacles
from .resting import rest_together

MANY, FEW_KEPT, OFTEN_KEPT = 300, 48, 12  # with so many bodies the engine's state is kept with fewer frames


class Bodies(Ensemble):
    """Rigid bodies that are solved together, because they touch. Made by itself with the first body."""

    kind, title = "bodies", "Bodies"
    icon = "M2.5 13.5 V9.5 H6.5 V13.5 Z M8 13.5 V9.5 H12 V13.5 Z M5.2 9 V5 H9.2 V9 Z M2 14.5 H14"
    rank = 14
    lane = ReportLane("awake", at_rest, lambda row: f"{100 * row['awake']:.0f} % of its bodies move")
    tables = {
        "bodies": (
            Column("position", (3,), "m", "Where its centre of mass is."),
            Column("turn", (4,), "", "How it is turned since the first frame: a unit quaternion x, y, z, w."),
            Column("velocity", (3,), "m/s", "How fast its centre goes."),
            Column("spin", (3,), "rad/s", "How fast it turns."),
            Column("centre", (3,), "m", "Where its centre of mass was at first.", keep="shown"),
            Column("held", (), "", "1 while it follows the layers above.", "u1"),
            Column("asleep", (), "", "1 while it rests.", "u1", keep="shown"),
        ),
        "bonds": (
            Column("whole", (), "", "1 until two pieces part.", "u1"),
            Column("pull", (), "Pa", "The hardest it was pulled in the frame.", keep="shown"),
            Column("used", (), "factor", "How much of what it bears that was; above 1 it parted.", keep="shown"),
        ),
        "limbs": (
            Column("joint", (), "", "Which joint of its skeleton a body is.", "i4", keep="shown"),
            Column("stood", (4,), "", "How that was turned at first: a unit quaternion x, y, z, w.", keep="shown"),
            Column("hinge", (3,), "m", "Where it was at first.", keep="shown"),
            Column("limp", (), "s", "How long ago it was let go."),
            Column("quiet", (), "s", "For how long its figure has all but stood still."),
            Column("slack", (2,), "rad", "How far its joint may be past its cone and its twist, since it began there."),
        ),
        "report": (
            Column("awake", (), "fraction", "Share of the bodies that move.", keep="shown"),
            Column("energy", (), "J", "Kinetic energy of all of them.", keep="shown"),
            Column("contacts", (), "", "Pairs that touch; -1 where there are too many to count.", keep="shown"),
            Column("deepest", (), "m", "The deepest overlap of two that touch.", keep="shown"),
            Column(
                "bears",
                (),
                "factor",
                "How many times its own weight what is bonded bears as it begins; 0 unless it stands or hangs.",
            ),
            Column("borne", (), "Pa", "The hardest pull that its weight is on a bond then."),
            Column("calm", (), "s", "For how long all that moves has all but stood still."),
            Column("unit", (), "m", "The engine's unit of length, chosen by the smallest body.", keep="shown"),
        ),
    }

    substeps = whole(
        10, "Small steps in each frame. More keep piles and joints stiffer, and small things out of one another.",
        soft=(4, 30), hard=(1, 400),
    )  # fmt: skip

    rubs = choice(
        "mean", "Which friction counts where two touch.",
        {"mean": "The mean of both", "larger": "The larger", "product": "Their product"}, title="Friction of two",
    )  # fmt: skip
    bounces = choice(
        "larger", "Which bounce counts where two touch.",
        {"mean": "The mean of both", "larger": "The larger", "product": "Their product"}, title="Bounce of two",
    )  # fmt: skip

    # -- frames ------------------------------------------------------------------------------------------------
    def start(self, crowd: EnsembleInputs) -> Frame:
        model = Model.of(crowd)
        engine = model.build(crowd)
        place, turn = model.centre.copy(), np.tile([0.0, 0, 0, 1], (model.count, 1))
        still = np.zeros((model.count, 3))
        held = model.held_at_first(crowd).astype(np.uint8)
        rests, stands = model.rests(engine, crowd)
        model.bonds.tie(engine)
        if rests.any() and len(model.bonds):
            engine.look()  # what was put somewhere wakes what it is tied to, at the next step
        for row in np.flatnonzero(rests):
            engine.body(row).sleep()
        asleep = (model.untouched | rests).astype(np.uint8)
        speed, spin = (np.where((held | asleep)[:, None], still, part) for part in (model.speed, model.spin))
        bears = model.bonds.bears(model.mass[:, None] * crowd.world.gravity, stands, np.flatnonzero(held))
        return _frame(model, engine, place, turn, speed, spin, held, asleep, keep=True, bears=bears)

    def step(self, frame: Frame, crowd: EnsembleInputs, dt: float) -> Frame:
        model, rows = Model.of(crowd), frame["bodies"]
        place, turn, speed, spin = (rows[n].astype(float) for n in ("position", "turn", "velocity", "spin"))
        asleep = rows["asleep"].copy()
        engine = self._engine(frame, model, crowd)
        was_held = rows["held"].astype(bool)
        driven = model.driven(crowd, was_held)
        held = model.held(crowd, was_held, place)
        let_go = was_held & ~held
        model.let_go(engine, np.flatnonzero(let_go), crowd, speed, spin, dt)
        paths = {row: driven[row] for row in driven if not let_go[row]}
        moved = paths | model.obstacles(engine, crowd)
        afloat = model.push(engine, crowd, place, turn, speed, held, asleep, dt)
        free = model.by_engine & ~held
        stirred = engine.pulls_otherwise(crowd.world.gravity)
        if stirred:
            for row in np.flatnonzero(free & (asleep > 0) & ~model.untouched):
                engine.body(row).wake_up(True)
        limp = model.limp(frame, held, dt)
        whole_ = model.whole(frame)
        steps = int(crowd.v.substeps) * model.finer
        before, after, bonds = [], [], None
        if afloat is not None and afloat.baths:
            before.append(partial(afloat.push, engine, dt / steps))
        if len(whole_):
            bonds = BondFrame(model.bonds, model.bonded_masses, engine, crowd.world.gravity, whole_, held)
            bonds.ease(let_go | (~held & (crowd.frame == crowd.first + 1)), dt)
            before.append(bonds.before_step)
            after.append(partial(bonds.after_step, dt / steps))
        figures, remembered = None, None
        if model.hinges:
            gone = model.gone(crowd, limp)
            columns = (place, turn, speed, spin)
            figures = RagdollFrame(model, crowd, frame, columns, held, paths, gone, dt)
            met = figures.meets(model, place, turn, speed, free)
            figures.enter(engine, met, held, gone)
            if met.any():
                before.append(partial(figures.before_step, engine, met))
                after.append(partial(figures.after_step, engine, met, steps))
            else:
                figures.alone()
        engine.advance(steps, dt, crowd.world.gravity, moved, after, before)
        engine.read(free, place, turn, speed, spin, asleep)
        calm = 0.0
        if not stirred and (bonds is None or bonds.is_eased):
            calm = rest_together(engine, model, float(frame["report"]["calm"][0]) + dt, free, speed, spin, asleep)
        if figures is not None:
            remembered = (limp, *figures.end(asleep))
        for row, (_, (there, turned)) in driven.items():
            if held[row]:
                place[row], turn[row] = there, turned
        every = OFTEN_KEPT if model.count < MANY else FEW_KEPT
        keep = (crowd.frame - crowd.first) % every == 0
        held = held.astype(np.uint8)
        bears = tuple(float(frame["report"][n][0]) for n in ("bears", "borne"))
        broken = bonds and bonds.columns
        return _frame(model, engine, place, turn, speed, spin, held, asleep, keep, broken, remembered, bears, calm)

    def resumed(self, frame: Frame, crowd: EnsembleInputs) -> Frame:
        model, rows = Model.of(crowd), frame["bodies"]
        engine, held = model.build(crowd), model.held_at_first(crowd)
        model.bonds.tie(engine)
        whole_ = model.whole(frame)
        for bond in np.flatnonzero(~whole_.astype(bool)):
            engine.part(bond)
        columns = {n: rows[n].astype(float) for n in ("position", "turn", "velocity", "spin")}
        asleep = np.zeros(model.count, np.uint8)
        for row in np.flatnonzero(model.solved & ~held):
            engine.put(row, columns["position"][row], columns["turn"][row])
            engine.set_speed(row, columns["velocity"][row], columns["spin"][row])
        for row in np.flatnonzero(held):  # what follows the layers above begins where they have it
            columns["position"][row], columns["turn"][row] = model.centre[row], (0, 0, 0, 1)
            columns["velocity"][row] = columns["spin"][row] = 0
        bonds = {"whole": whole_, "pull": np.zeros(len(whole_)), "used": np.zeros(len(whole_))}
        return _frame(model, engine, **columns, held=held.astype(np.uint8), asleep=asleep, keep=True, bonds=bonds)

    def can_resume(self, frame: Frame) -> bool:
        going = frame.going
        return bool(frame.blob) or (going is not None and going[0].at == going[1])

    def _engine(self, frame, model, crowd) -> Engine:
        if frame.going is not None and frame.going[0].at == frame.going[1]:
            return frame.going[0]
        obstacles = len(solid_obstacles(crowd.world))
        at = crowd.frame - crowd.first - 1
        return Engine.from_blob(frame.blob, model.count, model.smallest, obstacles, at)

    def facts(self, frame: Frame) -> list[tuple[str, str]]:
        """What is told of a solved frame beside the channels."""
        rows, report = frame["bodies"], {n: float(c[0]) for n, c in frame["report"].columns.items()}
        free = int((rows["held"] == 0).sum())
        awake = int(((rows["held"] == 0) & (rows["asleep"] == 0)).sum())
        touching = "too many to count" if report["contacts"] < 0 else f"{report['contacts']:.0f} pairs"
        bonds = frame.tables.get("bonds")
        held_by = []
        if bonds is not None:
            own = f"; as it begins they bear {report['bears']:.3g} times its weight" if report["bears"] else ""
            held_by.append(("Bonds", f"{int(bonds['whole'].sum()):,} of {len(bonds):,} hold{own}"))
            hardest = f"{100 * float(bonds['used'].max(initial=0.0)):.3g} % of what it holds"
            held_by.append(("Hardest loaded", f"{hardest}, here"))
        return [
            ("Bodies", f"{len(rows):,}, {free:,} of them moved by the solve"),
            ("Awake here", f"{awake:,}"),
            *held_by,
            ("Touching", touching),
            ("Deepest overlap", format_length(report["deepest"])),
            ("Margins", f"{format_length(0.001 * report['unit'])}, by the smallest body"),
            ("Kinetic energy", f"{report['energy']:.3g} J"),
        ]

    def rests(self, crowd: EnsembleInputs) -> dict[str, np.ndarray]:
        return {"bodies": Model.of(crowd).centre}

    def fits(self, frame: Frame, crowd: EnsembleInputs) -> bool:
        rows = frame["bodies"]
        spans = {s.id: s.mesh for s in crowd.members}
        return set(rows.spans) == set(spans) and len(rows) == Model.of(crowd).count


def _frame(
    model: Model, engine: Engine, position, turn, velocity, spin, held, asleep, keep: bool, bonds=None, remembered=None,
    bears: tuple[float, float] = (0.0, 0.0), calm: float = 0.0,
) -> Frame:  # fmt: skip
    columns = {
        "position": position, "turn": turn, "velocity": velocity, "spin": spin, "centre": model.centre, "held": held,
        "asleep": asleep,
    }  # fmt: skip
    made = {c.name: c.array(columns[c.name]) for c in Bodies.tables["bodies"]}
    free = held == 0
    awake = float((asleep[free] == 0).mean()) if free.any() else 0.0
    moving = 0.5 * (model.mass[free] * (velocity[free] ** 2).sum(axis=1)).sum()
    moving += 0.5 * (model.inertia[free] * (spin[free] ** 2).sum(axis=1)).sum()
    contacts, deepest = engine.touching() if model.count <= MANY else (-1, 0.0)
    row = {"awake": [awake], "energy": [float(moving)], "contacts": [contacts], "deepest": [deepest]}
    row["bears"], row["borne"] = [bears[0]], [bears[1]]
    row["calm"] = [calm]
    row["unit"] = [REACH * unit_of(model.smallest)]
    report = {c.name: c.array(row[c.name]) for c in Bodies.tables["report"]}
    tables = {"bodies": Table(made, model.ids, model.spans), "report": Table(report)}
    if model.hinges:
        if remembered is None:
            none = np.zeros(len(model.limbs))
            remembered = (none, none, np.full((len(none), 2), np.pi))
        tables["limbs"] = limb_table(model.hinges, Bodies.tables["limbs"], *remembered)
    if len(model.bonds):
        none = np.zeros(len(model.bonds))
        columns = {"whole": none + 1, "pull": none, "used": none} if bonds is None else bonds
        tables["bonds"] = Table({c.name: c.array(columns[c.name]) for c in Bodies.tables["bonds"]})
    blob = engine.world.snapshot() if keep else b""
    return Frame(tables, blob, (engine, engine.at))
