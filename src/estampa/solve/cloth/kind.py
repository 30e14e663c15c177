"""Cloth: a woven sheet that is held here and there, blown about, and meets things."""

from dataclasses import replace

import numpy as np

from ...kinds.channels import choice, number, ref, switch, whole
from ...kinds.fields import FIELDS, SOLID
from ...kinds.lanes import Alarm
from ..ensemble import Ensemble, EnsembleInputs, Entering
from ..frame import Column, Frame, Table
from ..solver import PLACED, Inputs, Solver
from .cloth_aid import EASE
from .fading import lengths_kept
from .sheets import ClothSheet, Report, Solved, advance, begun

MOST_SUBSTEPS = 2000
REPORT = (
    Column("substeps", (), "", "Small steps that were taken in the frame.", keep="shown"),
    Column("stretch", (), "fraction", "The longest stretch of an edge over its rest.", keep="shown"),
    Column("near", (), "", "Pairs of elements that are near each other at the end.", keep="shown"),
    Column("crossings", (), "", "Edges that go through triangles at the end, by an exact test.", keep="shown"),
)
CROSSINGS = (
    Column("begin", (3,), "m", "Where an edge that goes through a triangle begins.", keep="shown"),
    Column("end", (3,), "m", "Where it ends.", keep="shown"),
    Column("of", (2,), "", "Which cloth or obstacle both are of: cloths first.", "i4", keep="shown"),
)
MOST_SHOWN = 2000  # crossings that are kept to be looked at
ASIDE = (Column("by", (3,), "m", "How far it is shown from where it is, after it was untangled."),)
POINTS = (*PLACED, Column("wet", (), "fraction", "How wet it is, of what it can hold."))
TABLES = {"points": POINTS, "report": REPORT, "crossings": CROSSINGS, "aside": ASIDE}


def frame_of(solved: Solved, spans: dict | None = None) -> Frame:
    """A solved frame of cloths; spans -- member id -> its rows."""
    place, speed, wet, aside, report = solved
    points = {c.name: c.array(v) for c, v in zip(POINTS, (place, speed, wet), strict=True)}
    crossed = report.crossed
    numbers = (*report[:-1], len(crossed.of))
    row = {c.name: c.array([v]) for c, v in zip(REPORT, numbers, strict=True)}
    rows = {c.name: c.array(v[:MOST_SHOWN]) for c, v in zip(CROSSINGS, crossed, strict=True)}
    by = {"by": ASIDE[0].array(aside)}
    tables = {"points": Table(points, None, spans or {}), "report": Table(row), "crossings": Table(rows)}
    return Frame({**tables, "aside": Table(by, None, (spans or {}) if len(aside) else {})})


def _solved(frame: Frame) -> Solved:
    rows, aside = frame["points"], frame.tables.get("aside")
    by = aside["by"] if aside is not None else np.zeros((0, 3))
    return Solved(rows["position"], rows["velocity"], rows["wet"], by, Report.none())


def _shown(frame: Frame, member: str) -> np.ndarray:
    """(n, 3) m of a member, as it is looked at."""
    place, aside = frame["points"].own(member)["position"], frame.tables.get("aside")
    return place if aside is None or not len(aside) else place + aside.own(member)["by"]


def facts(frame: Frame) -> list[tuple[str, str]]:
    """(words, value) that are told of a solved frame of cloths."""
    if "report" not in frame.tables or not len(frame["report"]):
        return []
    row = {n: float(c[0]) for n, c in frame["report"].columns.items()}
    found = [("Small steps here", f"{row['substeps']:,.0f}"), ("Longest stretch", f"{100 * row['stretch']:.1f} %")]
    if row["near"]:
        found.append(("Near each other", f"{row['near']:,.0f} pairs"))
    wet = frame["points"].columns.get("wet")
    if wet is not None and wet.any():
        found.append(("Wet", f"{100 * float(wet.mean()):.0f} % of what it can hold"))
    if row["crossings"]:
        found.append(("Goes through", f"{row['crossings']:,.0f} crossings"))
    return found


ALARM = Alarm("crossings", "crossings", lambda count: f"{count} {'frame crosses' if count == 1 else 'frames cross'}")


class Cloth(Solver):
    """A woven sheet, held by a weight map: 1 follows the layers above exactly, less is a soft hold, 0 is free.

    Stretch along both yarns, shear between them, bending across edges, mass by area, drag and lift from the wind. It
    meets the ground and colliders, and itself where that is wanted.
    """

    kind, title = "cloth", "Cloth"
    icon = "M2.5 4 C5 2.5 6.5 5.5 8.5 4 S12 3 13.5 4 V11.5 C11 13 9.5 10.5 7.5 12 S4 12.8 2.5 11.5 Z M5.5 4 V12 M10.5 4 V11.5"  # noqa: E501
    group = "fall"
    shortcut = "Ctrl+2"
    rank = 1
    version = 9  # pairs are found where things are within a small step, too
    reads = FIELDS
    tables = TABLES
    passing = ("aside",)
    shown = ("position", "by")
    alarm = ALARM
    ensemble, solo = "cloths", True
    presets = {
        "Awning canvas": {"density": 0.35, "warp": 4000.0, "weft": 3000.0, "shear": 500.0, "bend": 2e-4},
        "Cotton": {"density": 0.15, "warp": 1500.0, "weft": 1200.0, "shear": 60.0, "bend": 1e-5},
        "Silk": {"density": 0.06, "warp": 900.0, "weft": 800.0, "shear": 15.0, "bend": 1e-6},
        "Oiled silk": {"density": 0.09, "warp": 1500.0, "weft": 1500.0, "shear": 150.0, "bend": 5e-6},
        "Voile": {"density": 0.04, "warp": 400.0, "weft": 350.0, "shear": 8.0, "bend": 5e-7},
        "Sailcloth": {"density": 0.28, "warp": 8000.0, "weft": 6500.0, "shear": 1800.0, "bend": 4e-4},
        "Felt": {"density": 0.5, "warp": 1200.0, "weft": 1200.0, "shear": 700.0, "bend": 8e-4},
        "Lantern paper": {"density": 0.05, "warp": 5000.0, "weft": 5000.0, "shear": 2000.0, "bend": 3e-4},
        "Wool blanket": {"density": 0.45, "warp": 800.0, "weft": 700.0, "shear": 80.0, "bend": 1e-4},
        "Tarpaulin": {"density": 0.6, "warp": 9000.0, "weft": 9000.0, "shear": 2500.0, "bend": 1e-3},
    }

    together = ref(
        "ensemble", "The cloths that it is solved together with, because they touch; none is alone.", title="Solved in"
    )
    pins = ref("map", "Weight map of what is held. 1 is held fast, a part-weight softly, 0 is free.", title="Held by",
               takes_chosen=True)  # fmt: skip
    hold = number(
        2,
        "How fast a half-held vertex would swing back to its place.",
        title="Soft hold",
        unit="Hz",
        soft=(0, 12),
        hard=(0, None),
    )
    ease = replace(
        EASE, help="Frames over which what is held goes from an adopted start to what enters; 0 is at once.",
        title="Held eases in over",
    )  # fmt: skip
    density = number(0.2, "Mass of a square metre.", unit="kg/m2", soft=(0.03, 1), hard=(1e-4, None))
    warp = number(
        2000,
        "Resistance to stretch along the first yarn (along the texture's U where there is one).",
        title="Warp stiffness",
        unit="N/m",
        soft=(50, 10000),
        hard=(0, None),
    )
    weft = number(
        2000, "Resistance to stretch across it.", title="Weft stiffness", unit="N/m", soft=(50, 10000), hard=(0, None)
    )
    shear = number(
        100,
        "Resistance to the yarns leaving their right angle.",
        title="Shear stiffness",
        unit="N/m",
        soft=(0, 3000),
        hard=(0, None),
    )
    bend = number(
        2e-5,
        "Resistance to folding. Limp silk is near 0, canvas is stiffer.",
        title="Bend stiffness",
        unit="N.m",
        soft=(0, 1e-3),
        hard=(0, None),
    )
    damping = number(
        0.3,
        "Share of its speed that the cloth loses each second to rubbing within.",
        unit="1/s",
        soft=(0, 5),
        hard=(0, None),
    )
    drag = number(
        1.2,
        "Drag of the cloth face-on to the air; a flat plate has about 1.2.",
        unit="factor",
        soft=(0, 2),
        hard=(0, None),
    )
    lift = number(
        0.6,
        "Lift of the cloth when the air comes at a slant. It makes cloth flutter.",
        unit="factor",
        soft=(0, 2),
        hard=(0, None),
    )
    tether = number(
        0.05,
        "Longest stretch away from the nearest held vertex; keeps a fine mesh from sagging like rubber.",
        unit="fraction",
        soft=(0, 0.5),
        hard=(0, None),
    )
    weave = choice(
        "strain",
        "How stretch is solved. Links are quicker and treat the yarns as springs along edges.",
        {"strain": "Strain of each face", "links": "Links (quick)"},
    )
    limit = number(
        0.1,
        "Longest stretch of an edge; from there on it does not give, whatever pulls.",
        title="Yarns give up to",
        unit="fraction",
        soft=(0.01, 0.5),
        hard=(1e-3, None),
    )
    substeps = whole(
        20,
        "Small steps in each frame, at the least. More are stiffer and slower; the motion stays the same.",
        soft=(4, 60),
        hard=(1, MOST_SUBSTEPS),
    )
    excess = number(
        0.01,
        "How much more than its stiffness says the load may stretch it: small steps are added in wind until it holds.",
        title="Holds within",
        unit="fraction",
        soft=(0.005, 0.1),
        hard=(1e-3, 1),
    )
    rest = ref("target", "A captured shape that it rests in; none rests as the mesh is.", title="Rests as")
    meets = switch(True, "It meets colliders, where there are any.", title="Meets colliders", group="Contact")
    itself = switch(False, "Its folds lie on each other. That is slower.", title="Meets itself", group="Contact")
    thickness = number(
        0.003, "How far it is kept from itself and, by half, from other things.", unit="m", soft=(5e-4, 0.02),
        hard=(1e-5, 0.5),
    )  # fmt: skip
    friction = number(
        0.3, "Its rubbing against what it meets; the mean of both counts.", unit="factor", soft=(0, 1.5), hard=(0, None)
    )
    patience = number(
        120, "Longest time that a frame may take; then it stops there, names what it meets and keeps what is solved.",
        title="Most time a frame", unit="s", soft=(10, 600), hard=(1, None), fixed=True, drawn=True, group="Contact",
    )  # fmt: skip
    quality = choice(
        "final", "A draft takes half of the small steps, whatever the wind: for looking, not for delivering.",
        {"final": "Final", "draft": "Draft, for looking"},
    )  # fmt: skip

    @classmethod
    def reads_in(cls, thing) -> frozenset[str]:
        return cls.reads if thing.constant("meets") else cls.reads - {SOLID}

    def start(self, inputs: Inputs) -> Frame:
        return frame_of(begun([self._sheet(inputs)], inputs.world))

    def step(self, frame: Frame, inputs: Inputs, dt: float) -> Frame:
        return frame_of(advance([self._sheet(inputs)], _solved(frame), inputs.world, dt))

    @staticmethod
    def _sheet(inputs: Inputs) -> ClothSheet:
        first = inputs.now if inputs.first is None else inputs.first
        more = (inputs.aids, inputs.began, inputs.since)
        return ClothSheet("Cloth", inputs.mesh, first, inputs.before, inputs.now, inputs.v, *more)

    def facts(self, frame: Frame) -> list[tuple[str, str]]:
        return facts(frame)

    def fits(self, frame: Frame, inputs: Inputs) -> bool:
        return len(frame["points"]) == len(inputs.now)

    def faded(self, frame, one, other, share, member, mesh):
        """Its edges are as long as between the two."""
        table = frame["points"]
        first, last = table.spans.get(member, (0, len(table)))
        own = lambda f: f["points"]["position"][first:last]
        place = table["position"].copy()
        place[first:last] = lengths_kept(own(frame), own(one), own(other), share, mesh().edges)
        points = Table({**table.columns, "position": place}, table.ids, table.spans)
        return Frame({**frame.tables, "points": points}, frame.blob)

    def points(self, frame: Frame, entering: Entering) -> np.ndarray:
        return _shown(frame, entering.id)


class Cloths(Ensemble):
    """Cloths that are solved together, because they touch: each meets itself and the others."""

    kind, title = "cloths", "Cloths"
    icon = "M2.5 6 C5 4 7 8 9 6 S12 5 13.5 6 V9 C12 8 11 11 9 9 S5 7 2.5 9 Z M2.5 11 C5 9 7 13 9 11 S12 10 13.5 11"
    rank = 15
    version = 5  # pairs are found where things are within a small step, too
    reads = FIELDS
    tables = TABLES
    passing = ("aside",)
    alarm = ALARM

    def start(self, crowd: EnsembleInputs) -> Frame:
        return frame_of(begun(self._sheets(crowd), crowd.world), self._entering(crowd)[1])

    def step(self, frame: Frame, crowd: EnsembleInputs, dt: float) -> Frame:
        solved = advance(self._sheets(crowd), _solved(frame), crowd.world, dt)
        return frame_of(solved, self._entering(crowd)[1])

    @staticmethod
    def _sheets(crowd: EnsembleInputs) -> list[ClothSheet]:
        since = crowd.frame - crowd.first
        return [
            ClothSheet(m.name, m.mesh, m.first, m.before, m.now, m.v, m.aids, m.began, since) for m in crowd.members
        ]

    @staticmethod
    def _entering(crowd):
        ends = np.cumsum([0, *(len(m.now) for m in crowd.members)]).tolist()
        spans = {m.id: (a, b) for m, a, b in zip(crowd.members, ends[:-1], ends[1:], strict=True)}
        return np.concatenate([m.now for m in crowd.members]), spans

    def facts(self, frame: Frame) -> list[tuple[str, str]]:
        rows = frame["points"]
        return [("Cloths", f"{len(rows.spans):,}, {len(rows):,} vertices in all"), *facts(frame)]

    def rests(self, crowd: EnsembleInputs) -> dict[str, np.ndarray]:
        return {"points": np.concatenate([m.mesh.points for m in crowd.members])}

    def fits(self, frame: Frame, crowd: EnsembleInputs) -> bool:
        return dict(frame["points"].spans) == self._entering(crowd)[1]
