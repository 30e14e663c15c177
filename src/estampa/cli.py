"""The command line: the same work without a window.

Exit codes: 0 done, 1 the scene has errors or a print does not match, 2 trouble with what was given, 130 stopped.
"""

import argparse
import sys
from pathlib import Path

from .errors import Cancelled, EstampaError
from .units import format_bytes, format_length


def main(argv: list[str] | None = None) -> int:
    parser = argparse.ArgumentParser(
        prog="estampa", description="Secondary and environmental motion, from a mesh to baked files."
    )
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")

    def command(name, run, help):
        added = commands.add_parser(name, help=help, description=help)
        added.set_defaults(run=run)
        return added

    opened = command("open", _open, "Open the window, on a scene or a mesh file if one is named.")
    opened.add_argument("file", nargs="?", help="a .estampa scene or a mesh file")
    opened.add_argument("--picture", metavar="PNG", help="save a picture of the window and end")

    info = command("info", _info, "Tell what a mesh file or a scene holds.")
    info.add_argument("file")
    info.add_argument("--unit", choices=("m", "cm", "mm", "in", "ft"), help="what one unit of a mesh file is")
    info.add_argument("--up", choices=("y", "z"), default="y", help="the mesh file's upward axis")
    info.add_argument("--weld", action="store_true", help="make coincident points one before counting")

    demo = command("demo", _demo, "Open a demo scene; with --out, solve it and bake all its prints without a window.")
    demo.add_argument("name", nargs="?", default="awning", help="which demo (default: awning)")
    demo.add_argument("--out", metavar="DIR", help="bake into this folder instead of opening a window")
    demo.add_argument("--picture", metavar="PNG", help="solve, save a picture of the window, and end")

    solve = command("solve", _solve, "Solve every layer with memory over the scene's range.")
    solve.add_argument("scene")

    bake = command("bake", _bake, "Solve, bake the scene's prints, and read them back.")
    bake.add_argument("scene")
    bake.add_argument("--print", dest="print_name", metavar="NAME", help="only the print of this name")
    bake.add_argument("--out", metavar="DIR", required=True)

    check = command("check", _check, "Print the remarks on a scene; exits 1 when one of them is an error.")
    check.add_argument("scene")

    loop = command(
        "loop", _loop, "Tell how far the scene's loop is from closed, what closes it and what moves in step."
    )
    loop.add_argument("scene")
    loop.add_argument("--close", action="store_true", help="carry out all that closes it, and save the scene")
    loop.add_argument("--blend", type=int, default=12, metavar="FRAMES", help="frames over which keys go back (12)")

    keys = command("keys", _keys, "Bake the layers of a skeleton to keys on its joints, and save the scene.")
    keys.add_argument("scene")
    keys.add_argument("--skeleton", metavar="NAME", help="which skeleton (default: the only one)")
    keys.add_argument("--tips", type=float, default=2.0, metavar="MM", help="how far a tip may be off (2 mm)")
    keys.add_argument("--turn", type=float, default=0.5, metavar="DEG", help="how far a joint may be turned off (0.5)")
    keys.add_argument("--every", action="store_true", help="a key at every frame")
    keys.add_argument("--clip", default="Baked", metavar="NAME", help="name of the new clip (Baked)")
    keys.add_argument("--live", action="store_true", help="instead, switch the baked layers on again")

    store = command(
        "store", _store, "Tell where solved frames are kept and how large they are; with --clear, let go of them all."
    )
    store.add_argument(
        "--clear", action="store_true", help="delete every solved frame; no work is lost, they are solved again"
    )

    arguments = parser.parse_args(argv)
    if arguments.command is None:
        arguments = parser.parse_args(["open"])
    try:
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


class Progress:
    """A bar on a terminal; in a pipe a plain line at every tenth."""

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


def _open(a) -> int:
    from .app.run import run

    return run(a.file, picture=a.picture)


def _demo(a) -> int:
    from . import demo

    if not a.out:
        from .app.run import run

        return run(scene=demo.build(a.name), picture=a.picture, play=True)
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
    from .formats.meshfile import LIKELY_UNIT, about, read_mesh

    with Progress("reading") as progress:
        mesh = read_mesh(a.file, a.unit, a.weld, a.up, progress)
    found = about(mesh)
    unit = a.unit or LIKELY_UNIT.get(Path(a.file).suffix.lower(), "m")
    print(f"{a.file} (one unit read as 1 {unit})")
    print("  size          " + " × ".join(format_length(s) for s in found.pop("size")))
    for name, value in found.items():
        print(f"  {name:30} {value:,}" if not isinstance(value, bool) else f"  {name:30} {'yes' if value else 'no'}")
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
    from .evaluate import loops, sync

    scene = _load(a.scene)
    if a.close:
        for offer in loops.close(scene, blend=a.blend):
            print(f"done: {offer.words}")
        from .scene.file import save_scene

        save_scene(scene)
    evaluator = scene.evaluator()
    with Progress("solving") as progress:
        evaluator.solve_through(loops.loop_range(scene.doc)[1], progress)
    found = loops.seams(evaluator)
    for seam in found:
        gap = f"pose {1000 * seam.pose:.3f} mm, turn {seam.turn:.4f} rad, speed {1000 * seam.speed:.2f} mm/s"
        gap = gap if seam.solved else "not known"
        print(f"{'closed' if seam.closed else 'open  '}  {seam.name}: {gap} ({seam.where})")
    for offer in loops.offers(scene.doc, a.blend):
        print(f"offer: {offer.words}")
    for group in sync.in_step(evaluator):
        print(f"in step: {group.words(scene.doc.find(group.thing).name)}")
    return 0 if all(seam.closed for seam in found) else 1


def _keys(a) -> int:
    import math

    from .baking import keys
    from .baking.reduce import Tolerance
    from .scene.file import save_scene

    scene = _load(a.scene)
    found = [t for t in scene.doc.skeletons if a.skeleton in (None, t.name)]
    if len(found) != 1:
        names = ", ".join(t.name for t in scene.doc.skeletons) or "none"
        raise EstampaError(a.skeleton or "The skeleton", "is not the only one there.", f"Skeletons: {names}.")
    if a.live:
        keys.back_to_live(scene, found[0].id)
    else:
        tolerance = None if a.every else Tolerance(a.tips / 1000, math.radians(a.turn))
        with Progress("baking to keys") as progress:
            baked = keys.bake(scene, found[0].id, tolerance=tolerance, progress=progress)
        keys.put(scene, baked, a.clip)
        print(f"{found[0].name}: {baked.words()}")
    save_scene(scene)
    return 0


def _store(a) -> int:
    from .store.frames import FrameStore

    store = FrameStore.default()
    if a.clear:
        print(f"{store.clear():,} frame(s) deleted")
    limit = f"{format_bytes(store.limit)} (ESTAMPA_STORE_LIMIT, bytes)"
    print(f"{store.root}: {format_bytes(store.size())} of at most {limit}")
    return 0


def _bake(a) -> int:
    return _bake_all(_load(a.scene), a.out, a.print_name)


def _bake_all(scene, out, print_name) -> int:
    from . import bake

    with Progress("baking") as progress:
        results = bake(scene, out, print_name, progress)
    for result in results:
        print(f"{result.name}: {format_bytes(result.bytes)} in {len(result.paths)} file(s)")
        for path in result.paths:
            print(f"  {path}")
        print(f"  {result.words()}")
    return 0 if all(r.passed for r in results) else 1


def _check(a) -> int:
    from .evaluate.remarks import remarks

    found = remarks(_load(a.scene))
    for remark in found:
        print(f"{remark.severity}: {remark}")
    if not found:
        print("nothing to remark")
    return 1 if any(r.severity == "error" for r in found) else 0


if __name__ == "__main__":
    sys.exit(main())
