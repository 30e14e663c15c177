"""Layers without memory on copies: against copying the positions they move."""

import numpy as np
from numba import get_num_threads, set_num_threads

from estampa import edits as do
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import joined, ring, sheet
from estampa.scene.curves import Curve, Key
from estampa.scene.document import Document
from estampa.scene.scene import Scene, ShapeCache

from .measure import Row, in_turn, ms

COPIES, DEFORMERS = (
    40,
    ("sway", "bend", "sway", "twist", "wave", "taper", "bend", "shear", "stretch", "sway", "bend", "wave"),
)


def reed() -> Mesh:
    """2,000 vertices in ten stems."""
    blade = sheet(0.1, 1.5, 5, 40)
    stems = [blade.with_points(blade.points[:, [0, 2, 1]] + [0.2 * i, 0, 0]) for i in range(10)]
    return joined(stems)


def bed(layers, copies=COPIES) -> tuple[Scene, str]:
    scene = Scene(Document(start=1, end=200, loop=(1, 97)))
    plant = do.add_mesh(scene, reed(), "Reed")
    grip = do.add_thing(scene, "grip", "Breeze", {"copies": "heading"}).id
    for kind in layers:
        do.add_layer(scene, plant.id, kind, values={"grip": grip})
    chance = np.random.default_rng(0)
    spots = [(*chance.uniform(-3, 3, 3), chance.uniform(0, 6), chance.uniform(0.8, 1.2)) for _ in range(copies)]
    values = {"subject": plant.id, "arrange": "hand", "stagger": 2.4, "order": "seed"}
    made = do.add_thing(scene, "copies", "Bed", values, spots=tuple(spots))
    return scene, made.id


def player(scene, copies_id):
    """A function that works out the next frame of the copies, and never one that was worked out before."""
    scene.shapes = ShapeCache(1)  # nothing is remembered
    evaluator, frame = Evaluator(scene.doc, scene, None), [0]

    def play():
        frame[0] += 1
        evaluator.copies(scene.doc.find(copies_id), 1 + frame[0] * 0.37)

    for _ in range(3):
        play()
    return play


def layers_against_copies() -> list[Row]:
    points = np.random.default_rng(1).normal(size=(COPIES, 2000, 3))
    base = player(*bed(DEFORMERS[:1]))
    plain = player(*bed(DEFORMERS[:1] + DEFORMERS))
    noise = player(*bed(DEFORMERS[:1] + ("noise",) * 4))
    one, many, noisy, copy = in_turn(base, plain, noise, points.copy, times=21)
    layer, ripple = (many - one) / len(DEFORMERS), (noisy - one) / 4
    what = f"{COPIES} copies x 2,000 vertices"
    return [
        Row(
            f"a layer on {what}", ms(layer), f"copying the positions {ms(copy)}", layer / copy, "≤ 6", layer / copy <= 6
        ),
        Row(
            f"a noise layer on {what}",
            ms(ripple),
            f"copying the positions {ms(copy)}",
            ripple / copy,
            "≤ 20",
            ripple / copy <= 20,
        ),
        Row(f"twelve layers on {what}, a frame", ms(many), f"copying the positions {ms(copy)}", many / copy),
    ]


def threads() -> Row:
    play, most = player(*bed(DEFORMERS[:9] + ("noise",) * 3)), get_num_threads()

    def with_threads(count):
        def run():
            set_num_threads(count)
            play()

        return run

    one, two = in_turn(with_threads(1), with_threads(min(2, most)), times=15)
    set_num_threads(most)
    return Row(
        "twelve layers, two threads against one", ms(two), f"one thread {ms(one)}", one / two, "≥ 1.6", one / two >= 1.6
    )


def staggered() -> Row:
    scene = Scene(Document(start=1, end=200))
    wheel = do.add_mesh(scene, ring(0.3, 0.05, 24, 8), "Wheel")
    turn = Curve(keys=(Key(frame=1, value=0.0), Key(frame=49, value=6.0)), before="cycle", after="cycle")
    do.set_curve(scene, wheel.id, "turn_z", turn, "Turn")
    made = do.add_thing(scene, "copies", "Wheels", {"subject": wheel.id, "count": 1000, "step_x": 0.4, "stagger": 0.3})
    play = player(scene, made.id)
    loop = lambda: [turn.at(1 + k * 0.3) for k in range(1000)]
    ours, plain = in_turn(play, loop, times=15)
    each = 1e6 * ours / 1000
    return Row(
        "1,000 staggered copies of a rigid subject, each",
        f"{each:.2f} µs", f"one curve read alone {1e6 * plain / 1000:.2f} µs",
        ours / plain, "≤ 2 µs", each <= 2,
    )  # fmt: skip


def growth() -> list[Row]:
    found = []
    few, many = player(*bed(DEFORMERS[:6], 20)), player(*bed(DEFORMERS[:6], 160))
    a, b = in_turn(few, many, times=9)
    found.append(
        Row(
            "cost of a copy, 160 against 20 copies",
            ms(b / 160),
            ms(a / 20),
            b / 160 / (a / 20),
            "≤ 1.3",
            b / 160 <= 1.3 * a / 20,
        )
    )
    few, many = player(*bed(DEFORMERS[:3])), player(*bed(DEFORMERS * 2))
    a, b = in_turn(few, many, times=9)
    found.append(
        Row(
            "cost of a layer, 24 against 3 layers",
            ms(b / 24),
            ms(a / 3),
            b / 24 / (a / 3),
            "≤ 1.3",
            b / 24 <= 1.3 * a / 3,
        )
    )
    return found


def dragging() -> Row:
    """A control is dragged: 50 copies of 2,000 vertices, six layers, everything up to what is drawn."""
    from estampa.app.model.looks import look

    scene, _ = bed(DEFORMERS[:5] + ("noise",), 50)
    grip = next(t.id for t in scene.doc.things if t.kind == "grip")
    points, state = np.random.default_rng(1).normal(size=(50, 2000, 3)), [0]

    def drag():
        state[0] += 1
        do.set_value(scene, grip, "x", 0.001 * state[0], merge="drag")
        look(Evaluator(scene.doc, scene, None), 20.0)

    ours, copy = in_turn(drag, points.copy, times=15)
    return Row(
        "dragging a control, 100,000 vertices, six layers",
        f"{1 / ours:.0f} pictures/s", f"copying the positions {ms(copy)}",
        ours / copy, "≥ 20 pictures/s", ours <= 1 / 20,
    )  # fmt: skip


def rows() -> list[Row]:
    return [*layers_against_copies(), threads(), staggered(), *growth(), dragging()]
