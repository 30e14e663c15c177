"""The command line: the same work without a window.

Exit codes: 0 done, 1 the scene has errors or a print does not match, 2 trouble with what was given, 130 stopped.
"""

import signal
import sys
import threading
from contextlib import contextmanager
from pathlib import Path

from . import __version__
from .arguments import parser_for
from .errors import Cancelled, EstampaError
from .units import format_bytes, format_length

COMMANDS = (
    "open",
    "info",
    "import",
    "demo",
    "check",
    "store",
    "solve",
    "bake",
    "loop",
    "start",
    "rehearse",
    "movie",
    "match",
    "keys",
    "split",
    "asset",
    "clips",
    "bind",
)


def main(argv: list[str] | None = None) -> int:
    """Carry out a command. argv -- its words; those of the process when none are given. Returns the exit code."""
    parser = parser_for(__version__, {name: globals()[f"_{name}"] for name in COMMANDS})
    arguments = parser.parse_args(argv)
    if arguments.command is None:
        arguments = parser.parse_args(["open"])
    try:
        with _interrupts():
            return arguments.run(arguments)
    except EstampaError as err:
        print(f"estampa: {err}", file=sys.stderr)
        if err.detail:
            print(f"  detail: {err.detail}", file=sys.stderr)
        return 2
    except (KeyboardInterrupt, Cancelled):
        print("estampa: stopped; what was solved so far is kept.", file=sys.stderr)
        return 130
    except BrokenPipeError:
        sys.stderr.close()
        return 0


@contextmanager
def _interrupts():
    """An interrupt is noted besides being raised: raised within a finaliser or a callback from C it is lost, and the
    next step of progress ends the work instead."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return

    def stop(number, frame):
        Progress.stopped = True
        raise KeyboardInterrupt

    Progress.stopped, before = False, signal.signal(signal.SIGINT, stop)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


class Progress:
    """A bar on a terminal; in a pipe a plain line at every tenth."""

    stopped = False

    def __init__(self, title: str):
        self.title, self._bar, self._tenth = title, None, -1

    def __enter__(self):
        if sys.stderr.isatty():
            from rich.console import Console
            from rich.progress import BarColumn, TextColumn, TimeRemainingColumn
            from rich.progress import Progress as Bar

            title, now = TextColumn("{task.fields[title]}"), TextColumn("{task.description}")
            console = Console(stderr=True)
            self._bar = Bar(title, BarColumn(), now, TimeRemainingColumn(), console=console, transient=True)
            self._bar.__enter__()
            self._task = self._bar.add_task("", total=1.0, title=self.title)
        return self

    def __call__(self, share: float, text: str) -> None:
        if Progress.stopped:
            raise Cancelled
        if self._bar:
            self._bar.update(self._task, completed=share, description=text)
        elif int(share * 10) != self._tenth:
            self._tenth = int(share * 10)
            print(f"{self.title}: {100 * share:3.0f} % {text}", file=sys.stderr, flush=True)

    def __exit__(self, *trouble):
        if self._bar:
            self._bar.__exit__(*trouble)


def _load(path):
    from .scene.file import load_scene

    return load_scene(path)


@contextmanager
def _edited(path, make: bool = False):
    """A scene to be changed and saved, which no window has open at the same time. make -- a new one where it is not
    there"""
    from .scene.file import save_scene
    from .scene.recovery import SceneLock
    from .scene.scene import Scene

    with SceneLock(path) as lock:
        if not lock.held:
            raise EstampaError(
                Path(path).name, "is open in a window, which may save it too.", "Close it there, or save a copy."
            )
        scene = Scene() if make and not Path(path).exists() else _load(path)
        before = scene.doc
        yield scene
        if scene.doc is not before:
            save_scene(scene, path if scene.path is None else None)


def _open(a) -> int:
    from .app.run import run

    return run(a.file, picture=a.picture)


def _demo(a) -> int:
    from . import demo

    if not a.out:
        from .app.run import run

        return run(make=lambda: demo.build(a.name), picture=a.picture, play=True)
    return _bake_all(demo.build(a.name), a.out, None)


def _info(a) -> int:
    if a.file.endswith(".estampa"):
        scene = _load(a.file)
        doc = scene.doc
        print(f"{a.file}: frames {doc.start} to {doc.end} at {doc.frame_rate:g} a second")
        for thing in doc.things:
            print(f"  {thing.kind:14} {thing.name}{'' if thing.on else ' (off)'}")
            if thing.mesh:
                print("                 " + _mesh_words(scene.mesh(thing.mesh)))
            for layer in thing.stack:
                print(f"    layer {layer.kind:10} {layer.name}{'' if layer.on else ' (off)'}")
        for item in doc.prints:
            print(f"  {item.kind:14} {item.name}")
        return 0
    from .formats.asset import TREES
    from .formats.meshfile import LIKELY_UNIT, about, read_mesh

    if Path(a.file).suffix.lower() in TREES:
        return _info_asset(a.file)
    with Progress("reading") as progress:
        mesh = read_mesh(a.file, a.unit, a.weld, a.up, progress)
    found = about(mesh)
    unit = a.unit or LIKELY_UNIT.get(Path(a.file).suffix.lower(), "m")
    print(f"{a.file} (one unit read as 1 {unit})")
    print("  size          " + " × ".join(format_length(s) for s in found.pop("size")))
    for name, value in found.items():
        print(f"  {name:30} {value:,}" if not isinstance(value, bool) else f"  {name:30} {'yes' if value else 'no'}")
    return 0


def _info_asset(path) -> int:
    """The tree of a scene file."""
    import numpy as np

    from .formats.asset import read_asset

    with Progress("reading") as progress:
        asset = read_asset(path, progress)
    print(f"{path} (one unit is {asset.unit:g} m, +{asset.up.upper()} is up)")
    deep, world = [], asset.world()
    for i, node in enumerate(asset.nodes):
        deep.append(deep[node.parent] + 1 if node.parent >= 0 else 0)
        size = "" if node.mesh is None else np.ptp(asset.box(i, world), axis=0) * asset.unit
        size = " × ".join(format_length(s) for s in size)
        print(f"  {'  ' * deep[i] + node.name:32} {asset.words(i)}{'  ' + size if size else ''}")
    for words in dict.fromkeys(asset.left):
        print(f"left out: {words}")
    return 0


def _import(a) -> int:
    from .edits.importing import bring_in
    from .formats.asset import read_asset

    with Progress("reading") as progress:
        asset = read_asset(a.file, progress)
    taken = None
    if a.take:
        taken = {i for i, n in enumerate(asset.nodes) if n.name in a.take}
        gone = sorted(set(a.take) - {asset.nodes[i].name for i in taken})
        if gone:
            names = ", ".join(dict.fromkeys(n.name for n in asset.nodes))
            raise EstampaError(asset.path.name, f"has no node “{gone[0]}”.", f"It has: {names}.")
    with _edited(a.scene, make=True) as scene:
        found = bring_in(scene, asset, taken)
    for thing in found.things:
        more = [f"{len(thing.joints)} joints"] if thing.joints else []
        more += [f"{len(thing.targets)} targets"] if thing.targets else []
        more += [f"clips: {', '.join(c.name for c in thing.clips)}"] if thing.clips else []
        print(f"{thing.kind:10} {thing.name}{'  ' if more else ''}{', '.join(more)}")
    for words in found.words:
        print(words)
    return 0


def _mesh_words(mesh) -> str:
    return f"{mesh.count:,} vertices, {len(mesh.face_counts):,} faces, {mesh.island_count} island(s), " + " × ".join(
        format_length(s) for s in mesh.size
    )


def _solve(a) -> int:
    scene = _load(a.scene)
    with Progress("solving") as progress:
        made = scene.evaluator().solve_through(scene.doc.end, progress)
    print(f"{made} frame(s) solved, the rest were there already")
    return 0


def _loop(a) -> int:
    from .edits import set_range
    from .inspect import closing, loops, rounds, sync

    measured = lambda scene: closing.measured(scene.evaluator(), closing.offers(scene.doc, a.blend, a.drop))
    if a.close or a.solved or a.run_up is not None or a.desync or a.fade is not None:
        with _edited(a.scene) as scene:
            if a.run_up is not None or (a.fade is not None and not a.solved):
                set_range(scene, run_up=a.run_up, fade=a.fade)
            for offer in closing.close(scene, measured(scene)) if a.close else ():
                print(f"done: {offer.in_full()}")
            if a.solved:
                with Progress("closing solved loops") as progress:
                    closed = rounds.close_solved(scene, fade=a.fade, progress=progress)
                rounds.put(scene, closed)
                print(f"solved loops: {closed.words()}")
            for group in sync.in_step(scene.evaluator()) if a.desync else ():
                sync.desync(scene, group, vary=a.vary)
    scene = _load(a.scene)
    evaluator = scene.evaluator()
    with Progress("solving") as progress:
        evaluator.solve_through(scene.doc.loop_range[1] + 1, progress)
    found = loops.seams(evaluator)
    for seam in found:
        gap = f"pose {1000 * seam.pose:.3f} mm, turn {seam.turn:.4f} rad, speed {1000 * seam.speed:.2f} mm/s"
        gap = gap if seam.solved else "not known"
        print(f"{'closed' if seam.closed else 'open  '}  {seam.name}: {gap} ({seam.where})")
    for offer in measured(scene):
        print(f"offer: {offer.in_full()}")
    for group in sync.in_step(evaluator):
        print(f"in step: {group.words(scene.doc.find(group.thing).name)}")
    return 0 if all(seam.closed for seam in found) else 1


def _start(a) -> int:
    from .edits import set_start
    from .evaluate import starts
    from .inspect.remarks.starts import begins_without_some

    with _edited(a.scene) as scene:
        evaluator = scene.evaluator()
        solvers = [run.thing for run in evaluator.runs.every()]
        layer = _named(scene, a.layer, solvers, "Solver")
        if a.rest:
            set_start(scene, layer.id, None)
            print(f"{layer.name} begins from rest")
            return 0
        other = _named(scene, a.other, solvers, "Solver") if a.other else layer
        set_start(scene, layer.id, starts.adopt(evaluator, layer.id, a.frame, other.id))
        print(f"{layer.name} begins from {scene.doc.find(layer.id).adopted.words}")
        for remark in begins_without_some(scene.evaluator()):
            print(remark)
    return 0


def _named(scene, name: str | None, things, what: str):
    """The one of these things with that name, or the only one there is."""
    things = list(things)
    found = [t for t in things if name in (None, t.name)]
    if len(found) != 1:
        names = ", ".join(t.name for t in things) or "none"
        cause = "is not in the scene." if name else f"must be named: there are {len(things)}."
        raise EstampaError(f"{what} “{name}”" if name else f"The {what.lower()}", cause, f"There is: {names}.")
    return found[0]


def _keys(a) -> int:
    import math

    from .baking import keys
    from .baking.work import default_frames
    from .edits import clips
    from .scene.reduce import Tolerance

    if a.bodies:
        return _body_keys(a, Tolerance(a.tips / 1000, math.radians(a.turn)))
    if a.pieces:
        return _piece_keys(a, Tolerance(a.tips / 1000, math.radians(a.turn)))
    with _edited(a.scene) as scene:
        skeleton = _named(scene, a.skeleton, scene.doc.skeletons, "Skeleton")
        if a.live:
            keys.back_to_live(scene, skeleton.id)
            return 0
        tolerance = None if a.every else Tolerance(a.tips / 1000, math.radians(a.turn))
        frames = _asked(a, *default_frames(scene.doc))
        with Progress("baking to keys") as progress:
            baked = keys.bake(scene, skeleton.id, frames=frames, tolerance=tolerance, progress=progress)
        if clips.named(skeleton, a.clip) is not None:
            print(f"the clip “{a.clip}” is replaced")
        keys.put(scene, baked, a.clip)
        print(f"{skeleton.name}: {baked.words()}")
        if a.in_place:
            grip = keys.in_place(scene, skeleton.id)
            print(f"its travel is on “{grip.name}”")
    return 0


def _asked(a, first: int, last: int) -> tuple[int, int]:
    """The frames that are asked for, of those by default."""
    return first if a.first is None else a.first, last if a.last is None else a.last


def _body_keys(a, tolerance) -> int:
    from .baking import bodies

    with _edited(a.scene) as scene:
        if a.live:
            bodies.back_to_live(scene)
            return 0
        frames = _asked(a, scene.doc.start, scene.doc.end)
        with Progress("baking to keys") as progress:
            baked = bodies.bake(scene, None, frames, None if a.every else tolerance, progress=progress)
        bodies.put(scene, baked)
        print(baked.words())
    return 0


def _piece_keys(a, tolerance) -> int:
    from .baking import pieces

    with _edited(a.scene) as scene:
        subject = _named(scene, a.pieces, scene.doc.subjects, "Subject")
        frames = _asked(a, scene.doc.start, scene.doc.end)
        with Progress("baking to keys") as progress:
            own = None if a.every else tolerance
            parted = pieces.part(scene, subject.id, True, frames, own, progress=progress)
        pieces.put(scene, parted)
        print(f"{subject.name}: {parted.words()}")
    return 0


def _rehearse(a) -> int:
    from dataclasses import replace

    from .rehearsal.stage import RehearsalStage

    stage = RehearsalStage.of(a.files)
    for i, part in enumerate(stage.parts):
        clip = next((c for c in part.actor.clips if c.name == a.clip), part.clip)
        if a.clip and clip.name != a.clip and len(stage.parts) == 1:
            names = ", ".join(c.name for c in part.actor.clips)
            raise EstampaError(part.actor.name, f"has no clip “{a.clip}”.", f"It has: {names}.")
        stage.parts[i] = replace(part, clip=clip, speed=a.speed, loop=True)
    for words in stage.words():
        print(words)
    if a.picture:
        from .app.view.rehearsed import picture

        print(f"Wrote {picture(stage, a.at, Path(a.picture))}")
    return 0


def _asset(a) -> int:
    from .edits import assets

    if a.scene is None or not (a.keep or a.put):
        found = assets.kept()
        for path in found:
            print(f"{path.stem}  ({path})")
        if not found:
            print(f"No assets in {assets.folder()}. Keep one: estampa asset shot.estampa --keep NAME")
        return 0
    with _edited(a.scene) as scene:
        if a.keep:
            thing = _named(scene, a.keep, scene.doc.things, "Thing")
            path = assets.keep(scene, thing.id, a.word or thing.name)
            names = ", ".join(t.name for t in assets.belongs(scene.doc, thing.id))
            print(f"Kept {names} as {path}")
        if a.put:
            path = assets.folder() / f"{a.put}{assets.ENDING}"
            if a.instead:
                replaced = assets.replace(scene, path, _named(scene, a.instead, scene.doc.skeletons, "Skeleton").id)
                print(replaced)
                made = [replaced.skeleton]
            else:
                made = assets.put(scene, path)
            print(f"Put {', '.join(t.name for t in made)}")
    return 0


def _split(a) -> int:
    from .edits import split

    with _edited(a.scene) as scene:
        parts = split(scene, _named(scene, a.subject, scene.doc.subjects, "Subject").id, a.by)
        print(f"{len(parts)} subjects: {', '.join(p.name for p in parts[:8])}{' …' if len(parts) > 8 else ''}")
    return 0


def _clips(a) -> int:
    from .edits import clips

    def edit(scene):
        owner = _clip_owner(scene, a.of, bool(a.new))
        if a.new:
            first, last = scene.doc.loop if scene.doc.loop and a.loops else (scene.doc.start, scene.doc.end)
            first, last = (first if a.first is None else a.first, last if a.last is None else a.last)
            clips.new_clip(scene, owner.id, a.new, first, last, a.loops)
        for name, run in ((a.play, clips.use_clip), (a.reverse, clips.reverse_clip), (a.remove, clips.remove_clip)):
            if name:
                run(scene, owner.id, _named(scene, name, scene.doc.find(owner.id).clips, "Clip").id)

    if a.new or a.play or a.reverse or a.remove:
        with _edited(a.scene) as scene:
            edit(scene)
    scene = _load(a.scene)
    for owner in (*scene.doc.skeletons, *scene.doc.subjects):
        for clip in owner.clips:
            more = (", loops" if clip.loops else "") + (", played" if clip.values is None else "")
            print(f"{owner.name}: {clip.name}, frames {clip.first} to {clip.last}{more}")
    return 0


def _clip_owner(scene, name, new):
    owners = [*scene.doc.skeletons, *(s for s in scene.doc.subjects if s.layers_of("morph"))]
    return _named(scene, name, owners if new or name else [o for o in owners if o.clips], "Skeleton or subject")


def _bind(a) -> int:
    from .edits import joints

    with _edited(a.scene) as scene:
        subject = _named(scene, a.subject, scene.doc.subjects, "Subject")
        if a.cage:
            joints.bind_cage(scene, subject.id, _named(scene, a.cage, scene.doc.subjects, "Subject").id)
            print(f"{subject.name} is carried by {a.cage}")
            return 0
        skeleton = _named(scene, a.skeleton, scene.doc.skeletons, "Skeleton")
        _, unseen = joints.bind_skin(scene, subject.id, skeleton.id, a.way, a.most, a.method)
        print(f"{subject.name} follows {skeleton.name}; {unseen:,} vertices see no joint and follow the nearest")
    return 0


def _movie(a) -> int:
    from .api import film

    scene, out = _load(a.scene), Path(a.out)
    wide, _, tall = a.size.partition("x")
    if not (wide.isdigit() and tall.isdigit()):
        raise EstampaError(f"“{a.size}”", "is no size.", "Give width and height in pixels, such as 1280x720.")
    first, last = scene.doc.loop_range if a.loop else (scene.doc.start, scene.doc.end + 1)
    frames = range(first if a.first is None else a.first, last if a.last is None else a.last + 1)
    with Progress("filming") as progress:
        asked = (a.alpha, a.mattes, a.depth)
        written = film(scene, out, (int(wide), int(tall)), frames, a.camera, progress, *asked)
    size = sum(p.stat().st_size for p in written)
    print(f"{written[0]}{'' if len(written) == 1 else f' and {len(written) - 1} more'}: {format_bytes(size)}")
    return 0


def _match(a) -> int:
    from .api import match_camera
    from .geometry.camera_match import KnownPoint, Line

    wide, _, tall = a.size.partition("x")
    if not (wide.isdigit() and tall.isdigit()):
        raise EstampaError(f"“{a.size}”", "is no size.", "Give width and height in pixels, such as 1920x1080.")
    points = [_numbers(words, "=", 2, 3, "U,V=X,Y,Z") for words in a.point]
    lines = []
    for words in a.line:
        axis, _, rest = words.partition("=")
        if axis.lower() not in ("x", "y", "z"):
            raise EstampaError(f"“{words}”", "runs along no axis.", "Give X, Y or Z and two pixels: X=10,20,300,24.")
        u = _numbers(rest, "", 4, 0, "AXIS=U,V,U,V")[0]
        lines.append(Line(axis.lower(), (u[0], u[1]), (u[2], u[3])))
    with _edited(a.scene) as scene:
        camera = _named(scene, a.camera, scene.doc.of_kind("camera"), "Camera")
        known = [KnownPoint((u, v), (x, y, z)) for (u, v), (x, y, z) in points]
        found = match_camera(scene, camera.name, (int(wide), int(tall)), known, lines)
        back = float(camera.constant("film_back"))
        lens = f"lens {1000 * found.lens(back):.1f} mm, film back {1000 * back:g} mm"
        print(f"{camera.name}: within {found.error:.2f} px; {lens}")
        print("  at " + ", ".join(f"{c:.3f} m" for c in found.origin) + ("" if found.sure else "; the lens is unsure"))
    return 0


def _numbers(words: str, parted: str, first: int, second: int, form: str) -> tuple[list[float], list[float]]:
    """Two lists of numbers with commas between them, parted by a sign."""
    head, _, tail = words.partition(parted) if parted else (words, "", "")
    try:
        found = [[float(n) for n in part.split(",")] if part else [] for part in (head, tail)]
    except ValueError:
        found = []
    if not found or len(found[0]) != first or len(found[1]) != second:
        raise EstampaError(f"“{words}”", "cannot be read.", f"Write it as {form}.")
    return found[0], found[1]


def _store(a) -> int:
    from .store.frames import FrameStore

    store = FrameStore.default()
    if a.clear:
        print(f"{store.clear():,} frame(s) deleted")
    limit = f"{format_bytes(store.limit)} (ESTAMPA_STORE_LIMIT, bytes)"
    print(f"{store.root}: {format_bytes(store.size())} of at most {limit}")
    return 0


def _bake(a) -> int:
    return _bake_all(_load(a.scene), a.out, a.print_names)


def _bake_all(scene, out, print_names) -> int:
    from . import bake

    with Progress("baking") as progress:
        results = [r for name in print_names or [None] for r in bake(scene, out, name, progress)]
    for result in results:
        print(f"{result.name}: {format_bytes(result.bytes)} in {len(result.paths)} file(s)")
        for path in result.paths:
            print(f"  {path}")
        print(f"  {result.words()}")
    return 0 if all(r.passed for r in results) else 1


def _check(a) -> int:
    from .inspect.remarks.worked_out import all_remarks

    found = all_remarks(_load(a.scene).evaluator(stand_ins=True))
    for remark in found:
        print(f"{remark.severity}: {remark}")
    if not found:
        print("nothing to remark")
    return 1 if any(r.severity == "error" for r in found) else 0


if __name__ == "__main__":
    sys.exit(main())
