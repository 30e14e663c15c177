"""Body: the layer by which a subject, or each of its pieces, is a rigid body."""

from typing import ClassVar

import numpy as np

from ...geometry.pieces import Pieces
from ...geometry.place import Place
from ...geometry.pose import turn_matrices
from ...kinds.channels import choice, number, ref, whole
from ..ensemble import Entering, Member
from ..frame import Frame

SOLVED = (("moved", ("solve",)),)
_START = {"unit": "m/s", "soft": (-5, 5), "group": "Speed at first", "when": SOLVED}
_SPIN = {"unit": "rad/s", "soft": (-20, 20), "group": "Spin at first", "when": SOLVED}


PIECES = (*SOLVED, ("each", ("pieces",)))
BONDED = (*PIECES, ("bonded", ("bonds",)))


def steady(default, help, **more):
    """A number that never animates: what a body is, it stays."""
    return number(default, help, fixed=True, **more)


# Densities in kg/m3, frictions, bounces, and what holds its pieces together in Pa (pull, shear, crush; of bricks the
# mortar between them): handbook values, rounded, from memory.
MATERIALS = {
    "Wood": {"density": 600.0, "friction": 0.5, "bounce": 0.3, "strength": 3e6, "shear": 6e6, "crush": 0.0},
    "Stone": {"density": 2500.0, "friction": 0.6, "bounce": 0.1, "strength": 5e6, "shear": 8e6, "crush": 0.0},
    "Brick and mortar": {
        "density": 1800.0,
        "friction": 0.6,
        "bounce": 0.1,
        "strength": 200e3,
        "shear": 200e3,
        "crush": 0.0,
    },
    "Loose masonry": {
        "density": 1900.0,
        "friction": 0.7,
        "bounce": 0.05,
        "strength": 40e3,
        "shear": 60e3,
        "crush": 0.0,
    },
    "Plaster": {"density": 1000.0, "friction": 0.5, "bounce": 0.1, "strength": 1e6, "shear": 1e6, "crush": 5e6},
    "Dry clay": {"density": 1700.0, "friction": 0.5, "bounce": 0.1, "strength": 300e3, "shear": 300e3, "crush": 2e6},
    "Glass": {"density": 2500.0, "friction": 0.3, "bounce": 0.3, "strength": 30e6, "shear": 30e6, "crush": 0.0},
    "Ice": {"density": 917.0, "friction": 0.05, "bounce": 0.2, "strength": 1e6, "shear": 1e6, "crush": 5e6},
    "Steel": {"density": 7850.0, "friction": 0.4, "bounce": 0.5},
    "Rubber": {"density": 1100.0, "friction": 0.9, "bounce": 0.7},
    "Paper lantern": {"density": 12.0, "friction": 0.4, "bounce": 0.2, "drag": 1.1},
    "Chestnut": {"density": 950.0, "friction": 0.4, "bounce": 0.25},
}


class Body(Member):
    """The subject, or each of its pieces, is a rigid body: it falls, tumbles, knocks others over and comes to rest.

    It may also be driven: it then follows the layers above, and pushes the others as fast as it goes. Its shape is the
    one that enters at the first frame that is solved.
    """

    kind, title = "body", "Body"
    collides = True
    version = 4  # bonds bear pull and shear by their strengths, and any press
    icon = "M2.5 9.5 L6 7.5 L9.5 9.5 V13.2 L6 14.5 L2.5 13.2 Z M9 2 L13.5 3.4 L12.2 7.2 L8.2 5.8 Z"
    group = "fall"
    shortcut = "Ctrl+7"
    rank = 2
    ensemble = "bodies"
    shown = ("position", "turn", "centre", "held")
    presets = MATERIALS
    on_pieces: ClassVar[dict] = {"each": "pieces"}

    moved = choice(
        "solve", "What moves it.", {"solve": "The solve", "driven": "The layers above", "still": "Nothing"},
        title="Moved by",
    )  # fmt: skip
    each = choice(
        "whole",
        "What is a body: all of it, or each piece that it was cut into (each island, where it was not).",
        {"whole": "The whole subject", "pieces": "Each of its pieces"},
        title="A body is",
    )
    shape = choice(
        "hull",
        "The shape that others run into.",
        {
            "hull": "Hull: as if shrink-wrapped",
            "hulls": "Several hulls: keeps hollows",
            "ball": "Ball",
            "box": "Box",
            "capsule": "Capsule along its longest side",
            "cylinder": "Cylinder along its longest side",
            "mesh": "The mesh itself (driven or still)",
        },
    )
    density = steady(600, "Mass of a cubic metre.", unit="kg/m3", soft=(10, 8000), hard=(1e-3, None), when=SOLVED)
    mass = steady(
        0, "Mass of each body; 0 takes it from its volume and density.", unit="kg", soft=(0, 50), hard=(0, None),
        when=SOLVED,
    )  # fmt: skip
    ballast = ref("map", "Weight map of what is heavier, as a foot: 1 counts in full.", title="Ballast", when=SOLVED)
    heavier = steady(
        5, "How many times as heavy that is.", title="Heavier by", unit="factor", soft=(1, 20), hard=(1e-3, None),
        when=SOLVED,
    )  # fmt: skip
    friction = steady(
        0.5,
        "Rubbing: 0 is ice, 1 holds on a slope of 45 degrees (Coulomb). Its ensemble says what counts of two.",
        unit="factor",
        soft=(0, 1.5),
        hard=(0, None),
    )
    bounce = steady(
        0.2, "How much of its speed it keeps when it hits: 0 none, 1 all of it. Its ensemble says what counts of two.",
        unit="fraction", soft=(0, 1), hard=(0, 1),
    )  # fmt: skip
    damping = steady(
        0.0, "Share of its speed that it loses each second to the air.", unit="1/s", soft=(0, 2), hard=(0, None),
        when=SOLVED,
    )  # fmt: skip
    turn_damping = steady(
        0.05, "Share of its spin that it loses each second.", unit="1/s", soft=(0, 5), hard=(0, None), when=SOLVED
    )
    drag = steady(
        0.0,
        "Drag in the wind, by its mean exposed area; a ball has about 0.5, a flat thing 1.1. At 0 no wind is felt.",
        unit="factor",
        soft=(0, 2),
        hard=(0, None),
        when=SOLVED,
    )
    begins = choice(
        "first",
        "When the solve takes over; until then it follows the layers above.",
        {
            "first": "At the first frame",
            "frame": "At a frame",
            "touched": "When something touches it",
            "zone": "As a zone reaches it",
        },
        when=SOLVED,
    )
    at = whole(
        1, "The frame at which it is let go.", title="Let go at", unit="frames", soft=(1, 200), fixed=True,
        when=(*SOLVED, ("begins", ("frame",))),
    )  # fmt: skip
    reached = ref("zone", "The zone that lets go of what it reaches with half its weight.", title="Let go by",
                  when=(*SOLVED, ("begins", ("zone",))))  # fmt: skip
    bonded = choice(
        "none", "What holds pieces together that were broken from one another.",
        {"none": "Nothing", "bonds": "Bonds, until one is pulled too hard"}, title="Held together by", when=PIECES,
    )  # fmt: skip
    strength = steady(
        50e3, "How hard they may be pulled apart, for each part of what two pieces share, before they part. Pressing "
        "never parts them, unless they can be crushed.", title="Holds a pull of", unit="stress", soft=(1e3, 1e6),
        hard=(0, 1e12), when=BONDED,
    )  # fmt: skip
    shear = steady(
        75e3, "How hard one may be pushed along the other before they part; pressed together they hold more, by their "
        "friction.", title="Holds a shear of", unit="stress", soft=(1e3, 1e6), hard=(0, 1e12), when=BONDED,
    )  # fmt: skip
    crush = steady(
        0, "How hard they may be pressed before they part; 0 bears any load.", title="Crushed by", unit="stress",
        soft=(0, 1e7), hard=(0, 1e12), when=BONDED,
    )  # fmt: skip
    lumps = whole(
        0, "So many lumps break first, and come apart into their pieces later; 0 makes none.", soft=(0, 40),
        hard=(0, None), fixed=True, when=BONDED,
    )  # fmt: skip
    tougher = steady(
        4, "How many times as strong bonds are within a lump.", title="Tougher within lumps by", unit="factor",
        soft=(1, 20), hard=(0, None), when=BONDED,
    )  # fmt: skip
    speed_x = steady(0, "Speed along X as it begins.", title="X", **_START)
    speed_y = steady(0, "Speed along Y.", title="Y", **_START)
    speed_z = steady(0, "Speed along Z.", title="Z", **_START)
    spin_x = steady(0, "Spin about X as it begins.", title="X", **_SPIN)
    spin_y = steady(0, "Spin about Y.", title="Y", **_SPIN)
    spin_z = steady(0, "Spin about Z.", title="Z", **_SPIN)

    def pieces(self, mesh, count: int) -> Pieces:
        """The pieces that so many bodies are."""
        return Pieces.whole(mesh) if count == 1 else Pieces.each(mesh)

    def points(self, frame: Frame, entering: Entering) -> np.ndarray | None:
        rows = frame["bodies"].of(entering.id)
        count = len(rows["position"])
        pieces = self.pieces(entering.mesh, count)
        if not count or pieces.count != count:
            return None
        first, of = entering.first(), pieces.of_vertex
        stands = placed(rows)
        arms = first - rows["centre"].astype(float)[of]
        found = np.einsum("nij,nj->ni", stands.axes[of], arms) + stands.origin[of]
        held = rows["held"].astype(bool)
        if held.any():
            found = np.where(held[of][:, None], entering.now(), found)
        return found

    def travel(self, frame, entering):
        """By the corners of the box around each piece."""
        rows = frame["bodies"].of(entering.id)
        pieces = self.pieces(entering.mesh, len(rows["position"]))
        if rows["held"].all():
            return 0.0, 0.0
        if not len(rows["position"]) or pieces.count != len(rows["position"]):
            return None
        corners = entering.mesh.cached("corners", lambda: pieces.corners(entering.first()), pieces.count)
        stands = placed(rows)
        arms = corners - rows["centre"].astype(float)[:, None]
        now = np.einsum("pij,pcj->pci", stands.axes, arms) + stands.origin[:, None]
        apart = np.linalg.norm(now - corners, axis=2)[~rows["held"].astype(bool)]
        return apart.mean(), apart.max()

    def stands(self, frame, member, mesh):
        rows = frame["bodies"].of(member)
        pieces = self.pieces(mesh, len(rows["position"]))
        if pieces.count != len(rows["position"]):
            return None
        return pieces, placed(rows), rows["centre"].astype(float)


def placed(rows) -> Place:
    """(p) where bodies stand: what brings a point, seen from its body's centre at first, to where it is."""
    turns = turn_matrices(rows["turn"].astype(float))
    return Place(rows["position"].astype(float), turns, np.ones(len(turns)))
