"""A flock of paper dragonflies over the pier at dusk: it chases along a path between the lantern posts."""

import numpy as np

from .. import edits as do
from ..edits.things import add_mesh
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined, sheet, tube
from ..scene.document import Document
from ..scene.scene import Scene

LAST, BEATS, COUNT = 240, 8, 320  # frames; frames of a wing's beat; dragonflies
WOOD, ROPE = ("Deck", (0.20, 0.13, 0.08)), ("Post", (0.10, 0.07, 0.05))
GLOW, PAPER, INK = (
    ("Lantern paper", (0.95, 0.52, 0.14)),
    ("Wing paper", (0.55, 0.70, 0.68)),
    ("Body", (0.05, 0.22, 0.24)),
)
SPAN, LONG = 0.075, 0.13  # m, of a wing and a body
POSTS = [(x, z) for x in (-3.0, -1.0, 1.0, 3.0) for z in (-1.1, 1.1)]
# (x, y, z) m and frame of what they chase
WAY = (
    (-4.2, 1.3, 0.0, 1),
    (-2.0, 1.7, 0.7, 48),
    (0.0, 1.2, -0.8, 96),
    (2.0, 1.9, 0.8, 144),
    (3.9, 1.4, -0.5, 192),
    (2.6, 1.6, -2.2, 216),
    (0.4, 1.5, -2.4, LAST),
)


def dragonfly() -> Mesh:
    """Its head towards +Z, four wings of paper that a bend can beat."""
    z = np.linspace(-0.72, 0.28, 9) * LONG
    spine = np.stack([0 * z, 0 * z, z], axis=1)
    thick = np.interp(np.linspace(0, 1, 9), [0, 0.55, 0.75, 0.9, 1], [0.0022, 0.003, 0.0065, 0.0065, 0.004])
    parts = [coloured(tube(spine, thick, 6), *INK)]
    for forward, wide in ((0.016, 0.020), (-0.010, 0.026)):
        for side in (1, -1):
            wing = sheet(SPAN, wide, 6, 2)  # in the plane of X and Z, or X and Y
            points = wing.points - wing.points.mean(axis=0)
            across = int(np.argmin(np.ptp(points, axis=0)))
            along = [k for k in range(3) if k != across]
            out = points[:, along[0]] / SPAN + 0.5  # 0 at the root
            taper = 0.55 + 0.45 * np.sin(np.pi * np.clip(out, 0, 1) ** 0.8)
            at = np.stack(
                [side * (0.004 + SPAN * out), 0.002 + 0 * out, forward + points[:, along[1]] * taper - 0.006 * out],
                axis=1,
            )
            parts.append(coloured(Mesh(at, wing.face_counts, wing.face_indices), *PAPER))
    return joined(parts)


def pier() -> Mesh:
    planks = [box([-4.6 + 0.32 * k, -0.06, -1.4], [-4.32 + 0.32 * k, 0.0, 1.4]) for k in range(29)]
    posts = [box([x - 0.04, 0.0, z - 0.04], [x + 0.04, 2.2, z + 0.04]) for x, z in POSTS]
    return joined([coloured(joined(planks), *WOOD), coloured(joined(posts), *ROPE)])


def lanterns() -> Mesh:
    shapes = []
    for x, z in POSTS:
        heights = np.linspace(-0.16, 0.16, 7)
        spine = np.stack([0 * heights + x, 2.0 + heights, 0 * heights + z * 0.86], axis=1)
        shapes.append(tube(spine, 0.06 + 0.07 * np.cos(heights / 0.16 * np.pi / 2.6), 10))
    return coloured(joined(shapes), *GLOW)


def build() -> Scene:
    scene = Scene(Document(name="dragonflies", frame_rate=24, start=1, end=LAST))
    add_mesh(scene, pier(), "Pier")
    add_mesh(scene, lanterns(), "Lanterns")
    member = add_mesh(scene, dragonfly(), "Dragonfly")
    for name, turn, heading in (("left", -np.pi / 2, -np.pi / 2), ("right", np.pi / 2, np.pi / 2)):
        root = do.add_thing(scene, "grip", f"Wing root {name}", {"turn_z": float(turn), "size": 0.1})
        beat = do.add_layer(
            scene,
            member.id,
            "bend",
            f"Beat {name}",
            {"grip": root.id, "low": 0.002, "high": 0.03, "heading": float(heading)},
        )
        do.set_formula(scene, beat.id, "angle", f"12 + 38 * sin(2 * pi * (frame - 1) / {BEATS})")
    goal = do.add_thing(scene, "grip", "What they chase", {"size": 1.0})
    for x, y, z, frame in WAY:
        for axis, value in zip("xyz", (x, y, z), strict=True):
            do.set_key(scene, goal.id, axis, frame, value)
    for axis in "xyz":
        for *_, frame in WAY[1:-1]:
            do.set_tangent(scene, goal.id, axis, frame, "smooth")
    for k, (x, z) in enumerate(POSTS, 1):
        do.add_thing(
            scene, "collider", f"Post {k}", {"shape": "capsule", "radius": 0.1, "reach": 1.1, "x": x, "y": 1.1, "z": z}
        )
    do.add_thing(scene, "ground", "Deck")
    flock = do.add_thing(scene, "swarm", "Dragonflies", {"seed": 4})
    layers = (
        ("sow", "Sown", {"around": goal.id, "count": COUNT, "radius": 0.8, "speed_x": 1.0, "scatter": 0.4}),
        (
            "grain_show",
            "As a dragonfly",
            {"subject": member.id, "cycle": BEATS, "rate": 1.0, "rate_varies": 0.3, "smallest": 0.75, "largest": 1.35},
        ),
        ("grain_goal", "Chase", {"grip": goal.id, "radius": 0.9, "pull": 0.07, "ratio": 0.55, "varies": 0.6}),
        (
            "grain_flock",
            "Flock",
            {
                "reach": 0.45,
                "apart": 0.22,
                "part": 7.0,
                "align": 1.2,
                "gather": 0.6,
                "radius": 0.25,
                "slowest": 0.5,
                "top": 3.2,
            },
        ),
        ("grain_turbulence", "Darting", {"amount": 2.4, "scale": 0.7, "pace": 0.6, "octaves": 2}),
        ("grain_avoid", "Posts and deck", {"ahead": 0.45, "turns": 14.0, "keeps": 0.06}),
    )
    for kind, name, values in layers:
        do.add_layer(scene, flock.id, kind, name, values)
    do.add_thing(scene, "swarm_usd", "Dragonflies", {"swarm": flock.id, "file": "dragonflies"})
    return scene
