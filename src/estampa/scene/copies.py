"""Copies: a subject shown many times, at other places, turns and sizes, each playing its motion in its own time."""

import numpy as np

from ..geometry.place import Place
from ..hashing import rand
from ..kinds.channels import choice, number, ref, switch, whole
from ..kinds.registry import Kind
from ..lazy import transform

MOST = 20_000


def _by(*words) -> tuple:
    """For channels that matter only in some arrangements."""
    return (("arrange", words),)


class Copies(Kind):
    """A subject again and again: along a line, a ring, a grid or a path, scattered over a mesh, or placed by hand.

    All copies obey the same layers and controls. With a stagger each plays its motion later than the one before.
    """

    kind, family, title = "copies", "thing", "Copies"
    roster_rank = 4
    owner, shape_of, node = "copies", "subject", "instances"
    icon = "M2.5 8.5 H7.5 V13.5 H2.5 Z M5.5 8.5 V5.5 H10.5 V10.5 H7.5 M8.5 5.5 V2.5 H13.5 V7.5 H10.5"
    group = "fill"
    shortcut = "Alt+6"
    rank = 10

    subject = ref("subject", "The subject that is copied.")
    arrange = choice(
        "line",
        "How they stand.",
        {
            "line": "Along a line",
            "ring": "In a ring",
            "grid": "On a grid",
            "path": "Along a path",
            "scatter": "Scattered over a mesh",
            "hand": "By hand",
        },
        title="Arranged",
    )
    count = whole(
        5,
        "How many, on a line, ring, grid or path.",
        soft=(1, 200),
        hard=(0, MOST),
        fixed=True,
        when=_by("line", "ring", "grid", "path"),
    )
    step_x = number(
        1, "From one to the next, along X.", title="X", unit="m", soft=(-5, 5), group="Step", when=_by("line", "grid")
    )
    step_y = number(
        0, "From one to the next, along Y.", title="Y", unit="m", soft=(-5, 5), group="Step", when=_by("line", "grid")
    )
    step_z = number(
        0,
        "From one to the next along Z; on a grid, from row to row.",
        title="Z",
        unit="m",
        soft=(-5, 5),
        group="Step",
        when=_by("line", "grid"),
    )
    columns = whole(10, "Columns of a grid.", soft=(1, 50), hard=(1, MOST), fixed=True, when=_by("grid"))
    radius = number(2, "Radius of a ring.", unit="m", soft=(0, 20), when=_by("ring"))
    path = ref("path", "The path they stand along.", when=_by("path"))
    ground = ref("subject", "The mesh they are scattered over, at rest.", title="Over", when=_by("scatter"))
    fill = choice(
        "density", "By how many to a square metre, or by an exact number.",
        {"density": "So many to a square metre", "count": "An exact number"}, title="How many", when=_by("scatter"),
    )  # fmt: skip
    exactly = whole(
        20, "How many there are, when there is room for them.", title="Number", soft=(1, 500), hard=(0, MOST),
        fixed=True, when=(*_by("scatter"), ("fill", ("count",))),
    )  # fmt: skip
    upward = number(
        np.pi, "Only where the surface faces up, within this angle of straight up; 180 degrees takes all of it.",
        title="Facing up within", unit="rad", soft=(0, np.pi), hard=(0, np.pi), when=_by("scatter"),
    )  # fmt: skip
    ground_map = ref(
        "target_map",
        "A weight map of that mesh: more of them where it is high, none where it is 0.",
        title="Where",
        when=_by("scatter"),
    )
    density = number(
        2,
        "How many to a square metre.",
        unit="1/m2",
        soft=(0, 50),
        hard=(0, None),
        when=(*_by("scatter"), ("fill", ("density",))),
    )
    apart = number(0, "Least distance between two.", unit="m", soft=(0, 2), hard=(0, None), when=_by("scatter"))
    lean_out = switch(
        False, "They stand along the mesh's normals instead of upright.", title="Along normals", when=_by("scatter")
    )
    face = switch(
        False, "Each is turned to the ring's outside or along its path.", title="Turned along", when=_by("ring", "path")
    )
    spin = number(0, "Turned about their upright by chance, up to this either way.", unit="rad", soft=(0, np.pi))
    sizes = number(
        0, "Larger or smaller by chance, up to this either way.", unit="fraction", soft=(0, 1), hard=(0, 0.95)
    )
    seed = whole(1, "Another seed, other places, turns and sizes.", soft=(0, 100), hard=(0, None), fixed=True)
    stagger = number(0, "How many frames each plays later than the one before.", unit="frames", soft=(0, 24))
    order = choice(
        "index",
        "In which order they come, one stagger after another.",
        {
            "index": "As they stand",
            "x": "Along X",
            "y": "Along Y",
            "z": "Along Z",
            "grip": "By distance from a grip",
            "seed": "By chance",
        },
        title="Later by",
    )
    timing_seed = whole(
        1, "Another seed, another order by chance, and other rates; the places stay.", title="Seed of timing",
        soft=(0, 100), hard=(0, None), fixed=True,
    )  # fmt: skip
    rates = number(
        0, "Quicker or slower by chance, up to this either way. Copies then drift apart, so what loops no longer does.",
        title="Rates vary by", unit="fraction", soft=(0, 0.5), hard=(0, 0.95),
    )  # fmt: skip
    rounds = whole(
        0, "Rounds that the motion makes in the loop: rates are then whole rounds, and what loops still does. 0 lets "
        "rates be any.", title="In whole rounds of", soft=(0, 12), hard=(0, 1000), fixed=True,
    )  # fmt: skip
    amounts = number(
        0, "Moved more or less by chance, up to this either way.", title="Amounts vary by", unit="fraction",
        soft=(0, 1), hard=(0, 0.95),
    )  # fmt: skip
    near = ref("grip", "The grip whose nearest copy goes first.", title="First at", when=(("order", ("grip",)),))
    length = number(
        1,
        "How long the motion takes in the last of them, against the first; those between lie between.",
        title="Length of the last",
        unit="factor",
        soft=(0.5, 2),
        hard=(0.01, None),
    )
    original = switch(False, "Show the subject itself too, where it stands.", title="Show the original", fixed=True)


def only_in_copies(doc) -> set[str]:
    """Ids of the subjects that are shown through their copies or by grains, and not by themselves."""
    copies = [t for t in doc.owned_by("copies") if t.on and t.constant("subject")]
    shown = {t.constant("subject") for t in copies if t.values.get("original") is True}
    layers = (l for t in doc.swarms if t.on for l in t.stack if l.on and l.declared is not None)
    dress = {l.constant(l.declared.shape_of) for l in layers if l.declared.shape_of}
    return {t.constant("subject") for t in copies} - shown | dress - {None}


def arranged(v: dict, pivot: np.ndarray, path=None, ground=None, spots=()) -> Place:
    """Where the copies stand: (k) places about `pivot`, the subject's own place.

    v      -- resolved channels of a Copies
    path   -- a geometry.paths.Sampled, for copies along one
    ground -- (positions, normals) of the points scattered over a mesh
    spots  -- rows of x, y, z (m), turn (rad), size, for copies placed by hand
    """
    how, seed = v["arrange"], int(v["seed"])
    axes, size, own_turn = None, None, 0.0
    value = lambda name: float(np.ravel(v[name])[0])
    if how == "scatter":
        at, up = ground if ground is not None else (np.zeros((0, 3)), np.zeros((0, 3)))
        if v["lean_out"]:
            axes = _upright_to(up)
    elif how == "hand":
        rows = np.asarray(spots, float).reshape(-1, 5)
        at, own_turn, size = rows[:, :3], rows[:, 3], rows[:, 4]
    elif how == "path":
        count = max(int(v["count"]), 0)
        at = np.zeros((0, 3))
        if path is not None and count:
            ends = count if path.closed else max(count - 1, 1)
            at, frames = path.at(np.arange(count) * path.length / ends)
            axes = frames if v["face"] else None
    else:
        k = np.arange(max(int(v["count"]), 0))
        step = np.array([value("step_x"), value("step_y"), value("step_z")])
        if how == "line":
            at = pivot + k[:, None] * step
        elif how == "grid":
            columns = max(int(v["columns"]), 1)
            at = pivot + np.stack(
                [k % columns * step[0], k * 0.0 + step[1] * (k // columns), k // columns * step[2]], 1
            )
        else:
            angle = 2 * np.pi * k / max(len(k), 1)
            at = pivot + value("radius") * np.stack([np.sin(angle), angle * 0, np.cos(angle)], axis=1)
            own_turn = angle if v["face"] else 0.0
    which = np.arange(len(at))
    turn = own_turn + value("spin") * (2 * rand(seed, which, "spin") - 1)
    about = (
        transform.Rotation.from_euler("Y", np.broadcast_to(turn, len(at))[:, None]).as_matrix()
        if len(at)
        else np.zeros((0, 3, 3))
    )
    axes = about if axes is None else axes @ about
    chance = 1 + value("sizes") * (2 * rand(seed, which, "size") - 1)
    size = chance if size is None else size * chance
    # what turns and grows a copy does so about the subject's own place
    origin = at - np.einsum("kij,j->ki", axes, pivot) * size[:, None]
    return Place(np.ascontiguousarray(origin), np.ascontiguousarray(axes), np.ascontiguousarray(size))


def rank(v: dict, at: np.ndarray, near: np.ndarray | None) -> np.ndarray:
    """(k,) the order in which copies at (k, 3) positions play, from 0."""
    measure = {
        "index": lambda: np.arange(len(at)),
        "x": lambda: at[:, 0],
        "y": lambda: at[:, 1],
        "z": lambda: at[:, 2],
        "grip": lambda: np.linalg.norm(at - (np.zeros(3) if near is None else near), axis=1),
        "seed": lambda: rand(int(v["timing_seed"]), np.arange(len(at)), "order"),
    }[v["order"]]()
    result = np.empty(len(at))
    result[np.argsort(measure, kind="stable")] = np.arange(len(at))
    return result


def own_frames(frame: float, start: float, order: np.ndarray, v: dict) -> np.ndarray:
    """(k,) the frame that each copy is at, when the scene is at `frame`. v -- resolved channels of a Copies"""
    share = order / max(len(order) - 1, 1)
    rate = 1 + v["rates"] * (2 * rand(int(v["timing_seed"]), np.arange(len(order)), "rate") - 1)
    if v["rounds"] > 0:
        rate = _whole_rates(len(order), v)
        return start + (frame - start) * rate - _spread(order, rate) * v["stagger"]
    return start + (frame - start - order * v["stagger"]) * rate / (1 + (v["length"] - 1) * share)


def _whole_rates(count: int, v: dict) -> np.ndarray:
    """(k,) rates that make whole rounds in a loop, by chance, those within the variation equally often."""
    low, high = (max(round(v["rounds"] * (1 + way * v["rates"])), 1) for way in (-1, 1))
    chance = rand(int(v["timing_seed"]), np.arange(count), "rate")
    return (low + np.floor(chance * (high - low + 1))) / v["rounds"]


def _spread(order: np.ndarray, rates: np.ndarray) -> np.ndarray:
    """(k,) orders, spread evenly among those of one rate: others never come into step with them."""
    found = np.empty(len(order))
    for rate in np.unique(rates):
        own = np.flatnonzero(rates == rate)
        found[own[np.argsort(order[own], kind="stable")]] = np.arange(len(own)) * len(order) / len(own)
    return found


def own_amounts(count: int, v: dict) -> np.ndarray:
    """(k,) how much of the motion each copy shows."""
    return 1 + v["amounts"] * (2 * rand(int(v["timing_seed"]), np.arange(count), "amount") - 1)


def _upright_to(up):
    """(k, 3, 3) the least turns that bring +Y to the given directions."""
    k = len(up)
    x = np.cross(up, np.broadcast_to([0.0, 0, 1], (k, 3)))
    weak = np.linalg.norm(x, axis=1) < 1e-6
    x[weak] = np.cross(up[weak], np.broadcast_to([1.0, 0, 0], (int(weak.sum()), 3)))
    x /= np.linalg.norm(x, axis=1)[:, None]
    return np.stack([x, up, np.cross(x, up)], axis=2)
