"""Liquid: grains that keep their volume, filled into vessels or poured, driven and dressed by layers in a stack."""

from dataclasses import replace

import numpy as np

from ...errors import EstampaError
from ...kinds.channels import number, whole
from ...kinds.lanes import ReportLane, at_most
from ...units import format_volume
from ..frame import Column
from ..swarm.grains import COLUMNS, Grains, turn_heading
from ..swarm.kind import COUNTS, SOURCES_TABLE, GrainThing
from .flow import cohesion, drawn, mixed, stick
from .near import listed, sorted_by_row
from .pressure import constants, crowding, evened, solve, table
from .walls import REACH, Walls, bounded

ROOM = 20.0  # deg C, at which a liquid has its density
STEP, FAR_STEP, MOST_GO = 0.4, 0.9, 0.95  # of the spacing: how far such a share of grains goes in a small step, and all
CLEAR = 0.2  # of the spacing, that grains stay off walls; more crowds those behind them
CALM = 0.1  # s, in which trembling of neighbours evens out
SOON = 0.12  # of the time in which a grain falls by its spacing (times the root of 2), a small step at the most
MEND = 0.008  # s, in which what is too dense is mended but for the e-th part
KEEP = 0.95  # of the pressure of the step before, as a start
WIDE = 48  # neighbours, for which there is room at first
MOST_STEPS = 200
DENSEST = 3.0  # times as dense as it should be, from where on it is squeezed, not solved


class Liquid(GrainThing):
    """A liquid: grains that keep apart so that none has less than its room, solved together.

    It feels gravity and everything solid. *Fill* and *Pour* are its sources; guides of swarms drive it too; *Skin*
    gives it a surface.
    """

    kind, title = "liquid", "Liquid"
    roster_rank = 3
    only_while_on = True
    lane = ReportLane(
        "energy",
        at_most("{:.3g} J"),
        lambda report: (
            f"{report['energy']:.3g} J, {format_volume(report['volume'])} in {report['living']:,.0f} grains, "
            f"{report['escaped']:,.0f} escaped"
        ),
        beside=("volume", "escaped", "living"),
    )
    icon = "M3 4 V13.5 H13 V4 M3 7.5 C5 6.3 6.5 8.7 8 7.5 S11 6.3 13 7.5"
    rank = 9
    version = 3
    more = (
        Column("temperature", (), "deg C", "How warm it is."),
        Column("dye", (3,), "", "Its colour, linear light."),
        Column("pressure", (), "Pa", "Its pressure."),
    )
    shown = (*(c.name for c in COLUMNS), "temperature", "dye", "pressure")
    tables = {
        "grains": COLUMNS + more,
        "sources": SOURCES_TABLE,
        "report": (
            *COUNTS,
            Column("energy", (), "J", "Kinetic energy of all.", keep="shown"),
            Column("volume", (), "m3", "Room that all grains take.", keep="shown"),
            Column("crowded", (), "fraction", "How much denser than it should be the densest is.", keep="shown"),
            Column("escaped", (), "", "Grains below all that is solid.", keep="shown"),
            Column("steps", (), "", "Small steps that the frame took.", keep="shown"),
        ),
    }
    presets = {
        "Water": {"density": 998.0, "viscosity": 0.001, "tension": 0.072},
        "Oil": {"density": 920.0, "viscosity": 0.08, "tension": 0.032},
        "Warm oil": {"density": 880.0, "viscosity": 0.01, "tension": 0.028},
        "Syrup": {"density": 1330.0, "viscosity": 2.5, "tension": 0.08},
        "Honey": {"density": 1420.0, "viscosity": 10.0, "tension": 0.055},
    }

    spacing = number(
        0.02, "How far apart its grains are: its resolution. Half of it makes eight times as many.", unit="m",
        soft=(0.004, 0.1), hard=(1e-4, None), fixed=True,
    )  # fmt: skip
    density = number(1000, "Its density.", unit="kg/m3", soft=(500, 2000), hard=(1, 30000))
    viscosity = number(
        0.001, "How thick it is: water 0.001, oil 0.08, honey 10.", unit="Pa.s", soft=(0, 10), hard=(0, None)
    )
    tension = number(
        0, "Surface tension, that draws it into drops: water 0.072. Large grains need more to show it.", unit="N/m",
        soft=(0, 5), hard=(0, None),
    )  # fmt: skip
    slows = number(
        0, "Time in which what surrounds it takes half of its speed; 0 takes none.", title="Half slowed in", unit="s",
        soft=(0, 5), hard=(0, None),
    )  # fmt: skip
    clings = number(
        0, "Time in which what touches a wall loses half of its speed along it; 0 slides freely.",
        title="Half held at walls in", unit="s", soft=(0, 2), hard=(0, None),
    )  # fmt: skip
    around = number(
        0, "Density of what surrounds it and is not solved: 1000 lets it float or sink as in water.",
        title="Surrounded by", unit="kg/m3", soft=(0, 1200), hard=(0, None),
    )  # fmt: skip
    expands = number(
        0, "How much lighter it gets for each degree above 20 deg C.", title="Expands by", unit="1/K",
        soft=(0, 0.01), hard=(0, 0.1),
    )  # fmt: skip
    cools = number(
        0, "Time in which it loses half of its warmth beyond 20 deg C; 0 keeps it.", title="Half cooled in", unit="s",
        soft=(0, 20), hard=(0, None),
    )  # fmt: skip
    warms = number(
        0, "How fast warmth spreads in it.", title="Spreads warmth", unit="m2/s", soft=(0, 0.01), hard=(0, None)
    )
    mixes = number(0, "How fast colours mix.", title="Mixes colours", unit="m2/s", soft=(0, 0.01), hard=(0, None))
    max_compression = number(
        0.0002, "How much denser it may become in a small step, on average; less is stiffer, and takes longer.",
        title="Gives by", unit="fraction", soft=(5e-5, 0.002), hard=(1e-6, 0.1),
    )  # fmt: skip
    substeps = whole(
        2, "At least so many small steps a frame; there are more where it is fast.", soft=(1, 10), hard=(1, 100)
    )

    @staticmethod
    def a_frame(grains: int) -> tuple[float, float]:
        """(bytes, seconds) that a frame of so many takes, about, at ten small steps; measured on two processors."""
        return 700.0 * grains, 0.02 + 5e-6 * 10 * grains

    # -- a frame -----------------------------------------------------------------------------------------------
    def furnish(self, born, guide, inputs):
        n, v = len(born), guide.v
        colour = getattr(guide.layer, "colour_of", lambda v: None)(v)
        born.more = {
            "temperature": np.full(n, float(v.get("warmth", ROOM))),
            "dye": np.tile(np.full(3, -1.0) if colour is None else colour, (n, 1)),
            "pressure": np.zeros(n),
        }

    def advance(self, grains, inputs, dt):
        self._steps, self._crowded, self._wide = 0, 0.0, WIDE
        left, gone, spacing = dt, 0.0, float(inputs.v.spacing)
        met = Walls(inputs.world, spacing, inputs.rate)
        while left > 1e-9 * dt and len(grains):
            pull = float(np.linalg.norm(inputs.world.gravity) * np.abs(_weights(grains, inputs.v)).max())
            falls = pull * left / max(int(inputs.v.substeps), 4)
            fast = np.sqrt((grains.velocity**2).sum(axis=1))
            most = np.partition(fast, int(MOST_GO * (len(fast) - 1)))[int(MOST_GO * (len(fast) - 1))]
            wanted = max((most + falls) / STEP, (fast.max() + falls) / FAR_STEP) * left / spacing
            wanted = max(wanted, left / (SOON * np.sqrt(spacing / max(pull, 1e-3))))
            if not np.isfinite(wanted):
                cure = "Look for what drives it so hard, or bring the scene nearer to the origin."
                raise EstampaError("The liquid", "goes too fast or too far to be told in numbers.", cure)
            n = max(int(np.ceil(wanted)), int(np.ceil(inputs.v.substeps * left / dt - 1e-9)), 1)
            if self._steps + n > MOST_STEPS:
                n = max(MOST_STEPS - self._steps, 1)
            h = left / n
            self._small(grains, inputs, h, (gone + 0.5 * h) / dt, (gone + h) / dt, met)
            gone, left, self._steps = gone + h, left - h, self._steps + 1
        if self._crowded > DENSEST:
            raise EstampaError(
                "The liquid", f"is squeezed to {1 + self._crowded:.0f} times its density: its vessel has less room, "
                "or is moved too hard.", "Fill in less, let the vessel be larger, or move it more gently.",
            )  # fmt: skip

    def advance_born(self, grains, inputs, h):
        grains.position += grains.velocity * h[:, None]

    def _small(self, grains, inputs, h, middle, end, met):
        v, spacing = inputs.v, float(inputs.v.spacing)
        for guide in inputs.layers:
            guide.layer.guide(grains, guide.v, replace(inputs.moment(guide), share=middle), np.array([h]))
        self._act(grains, inputs, h)
        c, place = constants(spacing), grains.position
        reach = float(c[0])
        order, starts, along, low, cell, rows = sorted_by_row(place, reach)
        n = len(order)
        at, speed = np.zeros((n, 4), np.float32), np.zeros((n, 4), np.float32)
        at[:, :3], speed[:, :3] = place[order] - low, grains.velocity[order]
        far, out, run = met.of(place, order, end)
        many, near = listed(at, starts, along, cell, rows, reach, self._wide)
        self._wide = int(many.max(initial=0)) + 2  # no wider than it must be: what is read is what takes the time
        slope = np.zeros(near.shape, np.float32)
        over, stiff, felt = np.empty((3, n), np.float32)
        slopes = np.empty((n, 3), np.float32)
        crowding(at, many, near, far, out, c, table(), slope, over, stiff, slopes, felt)
        self._crowded = max(self._crowded, float(over.max(initial=0.0)) if n > 1 else 0.0)
        mass = float(v.density) * spacing**3
        if v.tension > 0:
            pull = cohesion(spacing, float(v.tension), float(v.density)) * h / mass
            drawn(at, many, near, c[3], np.float32(min(pull, spacing / h)), speed)
        nu = float(v.viscosity) / float(v.density)
        if nu > 0:
            drags = np.where(far < 1.2 * spacing, 2 * nu * h / spacing**2, 0.0).max(axis=1)
            speed[:, :3] = stick(at, many, near, slope, speed, nu * h, drags, float(abs(c[2]) * c[3]))
        if v.clings > 0:
            lost = np.where(far[:, :1] < 0.9 * spacing, 1 - 0.5 ** (h / float(v.clings)), 0.0).astype(np.float32)
            across = np.einsum("nj,nj->n", speed[:, :3], out[:, 0])[:, None] * out[:, 0]
            speed[:, :3] -= lost * (speed[:, :3] - across)
        to = np.empty_like(speed)
        evened(at, many, near, c, speed, np.float32(1 - np.exp(-h / CALM)), to)
        speed = to
        source = np.where(over > 0, np.float32(1 - np.exp(-h / MEND)) * over, over)
        if run.any():  # what walls that come near take of the room
            source -= np.float32(h) * np.einsum("nk,nkj,nj->n", np.where(far < reach, run, 0), out, slopes)
        deep = felt[(over > -0.15) & (far[:, 0] > reach)]
        unit = float(v.density) / h * (float(deep.mean()) if len(deep) else 0.9)  # Pa
        unit = max(unit, 1e-6)
        at[:, 3] = KEEP * grains.more["pressure"][order] / unit
        going, press, _, _ = solve(at, many, near, slope, slopes, speed, source, stiff, h, 80, float(v.max_compression))
        numbers = np.array([h, CLEAR * spacing, spacing, REACH * spacing])
        bounded(going, far, out, run, order, numbers, grains.position, grains.velocity)
        grains.more["pressure"][order] = press * unit
        for name, spread in (("temperature", v.warms), ("dye", v.mixes)):
            if spread > 0:
                values = grains.more[name].reshape(n, -1)
                values[order] = mixed(at, many, near, slope, values[order], float(spread) * h)
        for guide in inputs.layers:
            guide.layer.bound(grains, guide.v, replace(inputs.moment(guide), share=end), np.array([h]))
        turn_heading(grains.velocity, grains.heading, grains.bank, grains.sits, 0.02, 0.15, 9.80665, np.array([h]))
        grains.age += h

    @staticmethod
    def _act(grains, inputs, h) -> None:
        """Gravity, what surrounds it, and cooling, for h s."""
        v, heat = inputs.v, grains.more["temperature"]
        grains.velocity += h * _weights(grains, v)[:, None] * inputs.world.acceleration(grains.position)
        if v.slows > 0:
            still = inputs.world.air(grains.position) if inputs.world.winds else 0.0
            grains.velocity[:] = still + (grains.velocity - still) * 0.5 ** (h / float(v.slows))
        if v.cools > 0:
            heat[:] = ROOM + (heat - ROOM) * 0.5 ** (h / float(v.cools))

    # -- what is told ------------------------------------------------------------------------------------------
    def reported(self, grains, inputs):
        spacing = float(inputs.v.spacing)
        mass = float(inputs.v.density) * spacing**3
        lowest = [floor.height for floor in inputs.world.floors]
        for o in inputs.world.colliders:
            at = o.places[1].origin[0, 1] - 10 if o.points is None else o.points[1][:, 1].min()
            lowest.append(float(at))
        escaped = int((grains.position[:, 1] < min(lowest) - 2 * spacing).sum()) if lowest and len(grains) else 0
        return {
            "energy": 0.5 * mass * float((grains.velocity**2).sum()), "volume": len(grains) * spacing**3,
            "crowded": getattr(self, "_crowded", 0.0), "escaped": escaped, "steps": getattr(self, "_steps", 0),
        }  # fmt: skip

    def facts(self, frame):
        report = {n: float(c[0]) for n, c in frame["report"].columns.items()}
        litres = f"{1000 * report['volume']:.3g} l in {report['living']:,.0f} grains"
        found = [
            ("Volume here", litres),
            ("Densest", f"{100 * report['crowded']:.1f} % over its density"),
            ("Fastest", f"{report['fastest']:.3g} m/s, in {report['steps']:.0f} small steps"),
            ("Kinetic energy", f"{report['energy']:.3g} J"),
        ]
        if report["escaped"]:
            found.append(("Escaped", f"{report['escaped']:,.0f} grains below all that is solid"))
        if len(frame["grains"]):
            found.append(("Highest pressure", f"{float(frame['grains']['pressure'].max()):,.0f} Pa"))
        return found


def _weights(grains: Grains, v) -> np.ndarray:
    """(n,) how much of gravity each feels: less where it is warm, and what surrounds it carries it (Archimedes)."""
    own = np.maximum(1 - float(v.expands) * (grains.more["temperature"] - ROOM), 0.05)  # of its density
    return own if not v.around else 1 - float(v.around) / (float(v.density) * own)
