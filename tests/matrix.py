"""The matrix of features: every demo, every kind at its defaults and every pair of layers (rows), against what else one
does with a scene (columns). A cell is fine, or says in the program's own words why it does not apply; it may not
raise."""

import contextlib
import io
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np

from estampa import cli, demo, open_scene, save_scene
from estampa import edits as do
from estampa.edits import assets
from estampa.edits import joints as build
from estampa.errors import EstampaError
from estampa.evaluate import outcome, starts
from estampa.evaluate.live import Live
from estampa.hashing import digest
from estampa.inspect import closing, loops
from estampa.inspect.remarks.worked_out import all_remarks
from estampa.kinds.registry import kind_of, kinds_in, layers_for
from estampa.press import run as press
from estampa.rehearsal.stage import RehearsalStage as Rehearsal
from estampa.scene.file import scene_bytes_to
from estampa.scene.ids import ids_of
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore
from estampa.worker_processes import Workers
from tests.stage import BOUND, Stage

ROOT = str(Path(__file__).resolve().parents[1])
PLAYED = (".glb", ".gltf", ".usd", ".usda", ".usdc", ".usdz", ".json")  # by the rehearsal
FRAMES, MANY = 6, 20_000  # frames of a row; grains of which no table is written for it
_others = Workers(1, (ROOT,))


class No(Exception):
    """(why) that a cell does not apply."""


# -- rows ------------------------------------------------------------------------------------------------------
def of_demo(name: str, store) -> Scene:
    scene = demo.build(name)
    return Scene(scene.doc.with_(end=scene.doc.start + FRAMES - 1, run_up=0, loop=None), scene.arrays)


def of_layer(word: str, store) -> Scene:
    stage = Stage(store)
    stage.layer(word)
    return Scene(stage.scene.doc, stage.scene.arrays)


def of_pair(first: str, second: str, store) -> Scene:
    """Two layers in one stack, the first above, as the window offers both for the same thing."""
    stage, kinds = Stage(store), (kind_of(first), kind_of(second))
    owner = stage.owner_for(kinds[0])
    for kind in kinds:
        if kind.kind == "played" and "file" not in stage.named:
            stage.named["file"] = stage.played_file()
        do.add_layer(stage.scene, owner, kind.kind, values=stage.references(kind))
    return Scene(stage.scene.doc, stage.scene.arrays)


def of_thing(word: str, store) -> Scene:
    """A force, thing, ensemble or print, beside a cloth that feels and a body that falls."""
    stage, kind = Stage(store), kind_of(word)
    scene = stage.scene
    do.add_layer(scene, stage.subject, "cloth", values={"pins": stage.named["map"][0]})
    do.add_layer(scene, stage.named["subject"][0], "body")
    if not any(t.kind == word for t in scene.doc.things):
        # a collider with the mesh of the body that meets it would close a ring
        values = {n: v for n, v in stage.references(kind).items() if word != "collider" or n != "subject"}
        do.add_thing(scene, word, values=values)
    return Scene(scene.doc, scene.arrays)


LAYERS = [k.kind for k in kinds_in("layer")]
THINGS = [k.kind for f in ("force", "thing", "ensemble", "print") for k in kinds_in(f) if k.kind != "subject"]
PAIRS = [
    (a.kind, b.kind)
    for owner in ("subject", "skeleton", "swarm")
    for a in layers_for(owner)
    for b in layers_for(owner)
    if a is not b and not {a.kind, b.kind} & {*BOUND}
]
ROWS: dict[str, Callable] = {
    **{f"demo {n}": lambda store, n=n: of_demo(n, store) for n in demo.names()},
    **{f"layer {w}": lambda store, w=w: of_layer(w, store) for w in LAYERS},
    **{f"{kind_of(w).family} {w}": lambda store, w=w: of_thing(w, store) for w in THINGS},
}


def make(row: str, store) -> Scene:
    with ids_of(row):
        return ROWS[row](store)


# -- what is compared ------------------------------------------------------------------------------------------
def seen(scene: Scene, store, frames) -> list[str]:
    """A digest of all that is seen at each frame: what it looks like, bit for bit."""
    evaluator, found = scene.evaluator(store), []
    for frame in frames:
        evaluator.solve_through(frame)
        told = []
        for thing in scene.doc.things:
            if thing.kind == "skeleton":
                told.append(evaluator.poses.world(thing, frame))
            elif thing.declared is not None:
                out = outcome.of(evaluator, thing, frame)
                told.append(out.points() if out is not None and out.parts else None)
        assert all(t is None or np.isfinite(t).all() for t in told), "a number that is none"
        found.append(digest(*told).hex())
    return found


def seen_elsewhere(path: Path, store: Path, frames) -> list[str]:
    """The same, in another process, from a file and a store of its own."""
    return _others.run(slice, (0,), read_and_look, [(str(path), str(store), list(frames))])[0]


def read_and_look(_, call) -> list[str]:
    path, store, frames = call
    return seen(open_scene(path), FrameStore(store), frames)


def three(scene: Scene) -> list[int]:
    doc = scene.doc
    return sorted({doc.start, (doc.start + doc.end) // 2, min(doc.end, doc.start + FRAMES - 1)})


class Cell:
    """What a column gets: the scene of its row, a fresh one each time, and a folder."""

    def __init__(self, row: str, folder: Path):
        self.row, self.folder = row, folder
        folder.mkdir(parents=True, exist_ok=True)
        self.store = FrameStore(folder.parent / "store")  # one for the row, so that what is the same is solved once

    def scene(self) -> Scene:
        return make(self.row, self.store)

    def same(self, a: Scene, b: Scene) -> None:
        frames = three(a)
        assert seen(a, self.store, frames) == seen(b, self.store, frames), "other bits"


# -- columns ---------------------------------------------------------------------------------------------------
def saved(cell: Cell) -> None:
    """Saved, opened in another process, the same bits at three frames."""
    scene = cell.scene()
    path = save_scene(scene, cell.folder / "row.estampa")
    again = open_scene(path)
    assert again.doc.with_(name="", version=0) == scene.doc.with_(name="", version=0), "another document"
    frames = three(scene)
    assert seen_elsewhere(path, cell.folder / "other", frames) == seen(scene, cell.store, frames), "other bits"


def undone(cell: Cell) -> None:
    """All undone, all redone, by the edits that made it."""
    scene = cell.scene()
    last, things = scene.doc, [t for t in scene.doc.things]
    for thing in things[:4]:
        for edit in (lambda t: do.rename(scene, t.id, f"{t.name} again"), lambda t: do.set_on(scene, t.id, not t.on),
                     lambda t: do.duplicate(scene, t.id), lambda t: do.remove(scene, t.id)):  # fmt: skip
            with contextlib.suppress(EstampaError):
                edit(scene.doc.find(thing.id))
    end = scene.doc
    while scene.undo():
        pass
    assert scene.doc == last, "undone to something else"
    while scene.redo():
        pass
    assert scene.doc is end, "redone to something else"


def removed(cell: Cell) -> None:
    """Everything that something names is duplicated, then removed; undone it is as it was."""
    scene = cell.scene()
    before, frames = seen(scene, cell.store, three(scene)[:1]), three(scene)[:1]
    names = {v for t, _ in scene.doc.everything() for v in t.values.values() if isinstance(v, str)}
    named = [t for t, _ in scene.doc.everything() if t.id in names]
    for thing in named:
        first = scene.doc
        for edit in (do.duplicate, build.remove_joint if thing.kind == "joint" else do.remove):
            try:
                edit(scene, thing.id)
                seen(scene, cell.store, frames)
            except EstampaError as err:
                told = [r for r in all_remarks(scene.evaluator(cell.store, stand_ins=True)) if r.severity == "error"]
                assert told or scene.doc is first, f"it stops ({err}), and no remark says so"
        while scene.doc is not first:
            scene.undo()
    assert seen(scene, cell.store, frames) == before, "undone to something else"


def copied(cell: Cell) -> None:
    """Copies of each subject: they are what their subject is at their own time."""
    scene = cell.scene()
    subjects = [s for s in scene.doc.subjects if s.stack] or scene.doc.subjects
    if not subjects:
        raise No("no subject is in it")
    for subject in subjects[:2]:
        made = do.add_thing(scene, "copies", values={"subject": subject.id, "count": 3, "step_x": 2.0, "stagger": 1.0})
        evaluator = scene.evaluator(cell.store)
        evaluator.solve_through(scene.doc.start + 3)
        found = outcome.of(evaluator, made, scene.doc.start + 3).points()
        assert np.isfinite(found).all() and len(found) % 3 == 0


def adopted(cell: Cell) -> None:
    """Each solver starts from a frame, with a run-up, from rest again; saved in between."""
    scene = cell.scene()
    runs = scene.evaluator(cell.store).runs.every()
    if not runs:
        raise No("nothing in it is solved")
    rest = seen(scene, cell.store, three(scene)[:2])
    for run in runs[:2]:
        do.set_start(scene, run.id, starts.adopt(scene.evaluator(cell.store), run.id, scene.doc.start + 3))
        path = save_scene(scene, cell.folder / "adopted.estampa")
        cell.same(scene, open_scene(path))
    for run in runs[:2]:
        do.set_start(scene, run.id, run.thing.adopted)  # a demo may start from a frame itself
    assert seen(scene, cell.store, three(scene)[:2]) == rest, "back at rest it is something else"
    do.set_range(scene, run_up=3)
    cell.same(scene, open_scene(save_scene(scene, cell.folder / "adopted.estampa")))


def printed(cell: Cell) -> None:
    """Every print that takes it, read back and rehearsed."""
    scene, done, differ = cell.scene(), 0, []
    owners = {
        "mesh": [s for s in scene.doc.subjects if s.stack][-1:],
        "grains": [t for t in scene.doc.swarms if scene.evaluator().swarms.expected(t) < MANY],
        "bones": scene.doc.skeletons[:1],
    }
    owners["skin"] = [s for s in scene.doc.subjects if any(l.kind == "skin" for l in s.stack)][:1]
    owners["pieces"] = owners["mesh"]
    for kind in kinds_in("print"):
        for owner in owners.get(kind.takes, owners["mesh"])[-1:] or [None]:
            name = next((n for n in ("subject", "swarm", "skeleton") if n in kind.channels), None)
            if owner is None and name is not None:
                continue
            values = {name: owner.id} if name and press_takes(kind, name, owner) else {}
            values |= {"last": scene.doc.start + FRAMES - 1}
            item = do.add_thing(scene, kind.kind, f"{kind.kind} {done}", values)
            if press.estimate(scene, scene.doc, item).trouble:
                continue
            try:
                result = press.run(scene, scene.evaluator(cell.store), item, cell.folder / kind.kind)
            except EstampaError as err:
                assert err.cause and err.cure, err
                continue
            if not result.passed and "JUMPS" not in result.words():
                differ.append(f"{kind.title}: {result.words()}")  # as the press says
            done += 1
            for path in [p for p in result.paths if p.suffix in PLAYED][-1:]:
                try:
                    stage = Rehearsal.of([path])
                except EstampaError as err:
                    assert any(w in str(err) for w in ("shows no mesh", "holds no mesh", "say what it is")), err
                    continue
                assert all(np.isfinite(s.in_world()).all() for s in stage.shown(0.1))
    if not done:
        raise No("no print takes it")
    shutil.rmtree(cell.folder)
    if differ:
        raise No("; ".join(differ))


def press_takes(kind, name, owner) -> bool:
    moves = owner.declared.moves
    wants = {"subject": moves == "points", "swarm": moves == "grains", "skeleton": moves == "joints"}
    return wants[name]


def played(cell: Cell) -> None:
    """Live play gives the bits of the stored frames as long as no hand moves anything."""
    scene = cell.scene()
    evaluator = scene.evaluator(cell.store)
    runs = evaluator.runs.every()
    if not runs:
        raise No("nothing in it is solved")
    first = scene.doc.start
    evaluator.solve_through(first + 3)
    live = Live(scene.evaluator(cell.store, stand_ins=True), first)
    for frame in range(first + 1, first + 4):
        now = live.step(scene.doc)
        for run in runs:
            stored = evaluator.runs.solved(run, frame)
            for name, table in now.live[run.id].now.tables.items():
                for column, values in table.columns.items():
                    if column not in ("told",):
                        assert np.array_equal(values, stored[name][column]), f"{run.name}: {name} {column} at {frame}"


def looped(cell: Cell) -> None:
    """A loop range, all that closes it, and its seams."""
    scene = cell.scene()
    do.set_loop(scene, scene.doc.start, scene.doc.start + FRAMES - 2)
    before = scene.doc
    made = closing.close(scene)
    evaluator = scene.evaluator(cell.store)
    evaluator.solve_through(scene.doc.solved_to)
    assert all(np.isfinite(s.pose) for s in loops.seams(evaluator) if s.solved)
    if made:
        scene.undo()
        assert scene.doc is before, "closed in more than one step"


def kept(cell: Cell) -> None:
    """Kept as an asset, put into an empty scene, evaluated there."""
    scene = cell.scene()
    owners = [t for t in scene.doc.things if t.stack] or list(scene.doc.things)
    if not owners:
        raise No("nothing is in it")
    path = assets.keep(scene, owners[-1].id, "Kept", cell.folder / "assets")
    empty = Scene(scene.doc.with_(things=(), prints=(), name="Empty"))
    made = assets.put(empty, path)
    assert made and len(empty.doc.things) >= 1
    seen(empty, cell.store, three(empty)[:2])
    cell.same(empty, open_scene(save_scene(empty, cell.folder / "with asset.estampa")))


def moved(cell: Cell) -> None:
    """Everything renamed, its folder moved: the same bits."""
    scene = cell.scene()
    frames = three(scene)
    before = seen(scene, cell.store, frames)
    for k, (thing, _) in enumerate(list(scene.doc.everything())):
        do.rename(scene, thing.id, f"Ñ {k} / “{thing.name}”")
    (cell.folder / "here").mkdir()
    path = save_scene(scene, cell.folder / "here" / "row.estampa")
    there = cell.folder / "somewhere else é"
    path.parent.rename(there)
    again = open_scene(there / path.name)
    assert seen(again, cell.store, frames) == before, "other bits under other names"


def by_command(cell: Cell) -> None:
    """The command line solves, tells and checks it, and its frames are those of Python."""
    scene = cell.scene()
    path = save_scene(scene, cell.folder / "row.estampa")
    said = io.StringIO()
    with contextlib.redirect_stdout(said), contextlib.redirect_stderr(said):
        codes = [cli.main(words) for words in (["info", str(path)], ["check", str(path)], ["solve", str(path)])]
    errors = "error: " in said.getvalue()
    assert codes[0] == 0 and codes[1] == int(errors), said.getvalue()
    assert codes[2] == 0 or errors, f"a solve stopped that check had passed: {said.getvalue()[-300:]}"
    for run in scene.evaluator(FrameStore.default()).runs.every() if codes[2] == 0 else ():
        frame = scene.evaluator(FrameStore.default()).runs.solved(run, scene.doc.end)
        assert frame.nbytes >= 0


COLUMNS: dict[str, Callable[[Cell], None]] = {
    "save, open": saved, "undo, redo": undone, "duplicate, remove": removed, "copies": copied,
    "adopt, run-up": adopted, "prints": printed, "live": played, "loop": looped, "asset": kept,
    "rename, move": moved, "command line": by_command,
}  # fmt: skip


def judge(row: str, folder: Path, columns=None) -> dict[str, str]:
    """Column -> "" where it is fine, else why it does not apply. Raises AssertionError that names the cell."""
    found = {}
    for name, column in COLUMNS.items():
        if columns is not None and name not in columns:
            continue
        cell = Cell(row, folder / name.replace(", ", "-").replace(" ", "-"))
        try:
            column(cell)
            found[name] = ""
        except No as err:
            found[name] = str(err)
        except Exception as err:
            raise AssertionError(f"{row} × {name}: {type(err).__name__}: {err}") from err
        shutil.rmtree(cell.folder, ignore_errors=True)
    return found


def judge_pair(first: str, second: str, store) -> str:
    """A pair of layers: evaluated, saved, opened, the same bits; with a remark where it stops."""
    with ids_of(f"{first} over {second}"):
        try:
            scene = of_pair(first, second, store)
        except EstampaError as err:
            return str(err)
    frames = three(scene)[:2]
    data = io.BytesIO()
    scene_bytes_to(scene, data)
    path = store.root.parent / "pair.estampa"
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data.getvalue())
    try:
        assert seen(scene, store, frames) == seen(open_scene(path), FrameStore(store.root.parent / "two"), frames)
    except EstampaError as err:
        told = [r for r in all_remarks(scene.evaluator(store, stand_ins=True)) if r.severity == "error"]
        assert told and err.cure, f"{first} over {second} stops ({err}), and no remark says so"
        return str(err)
    return ""


def table(rows: dict[str, dict[str, str]]) -> str:
    """The page of the matrix: a row a line, with footnotes for what does not apply."""
    notes: dict[str, int] = {}
    lines = [
        "# The matrix of features",
        "",
        "Written by the run of `./check -m sweep`: each row was put through each column. ✓: it was done and held; a",
        "number: it does not apply, and the note below says why, in the program's own words.",
        "",
        f"| | {' | '.join(COLUMNS)} |",
        f"| --- |{' --- |' * len(COLUMNS)}",
    ]
    for row in sorted(rows):
        cells = []
        for name in COLUMNS:
            word = rows[row].get(name)
            cells.append("" if word is None else "✓" if not word else str(notes.setdefault(word, len(notes) + 1)))
        lines.append(f"| {row} | {' | '.join(cells)} |")
    lines += ["", *(f"{number}. {words}" for words, number in notes.items()), ""]
    return "\n".join(lines)
