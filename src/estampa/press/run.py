"""The press runs prints: solve what they need, write, read back, compare."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..edits import clips
from ..errors import Cancelled, EstampaError, disk_trouble
from ..evaluate.evaluator import Evaluator
from ..formats.bounds import in_words
from ..formats.seam import seam_jump
from ..geometry.mesh import Mesh
from ..geometry.primitives import joined
from ..hashing import digest
from ..inspect.loops import loop_range
from ..motion.remesh import Counts
from ..scene.document import Document, Thing
from ..scene.scene import Scene
from ..units import format_length
from .prints import Estimate, Job

JUMP = 0.001  # m
MOST_FRAMES = 200_000


@dataclass(frozen=True)
class Result:
    """A print that ran."""

    name: str
    paths: list[Path]
    bytes: int
    gap: float  # largest distance between file and scene, m
    gap_frame: int
    gap_vertex: int
    tolerance: float  # m
    target: Path  # main file without its suffix
    signature: bytes  # of all that went into it, so that an old file is known
    of: str = "vertex"  # what is counted: vertex or joint
    more: str = ""  # what else there is to know of it
    jump: float | None = None  # m: how far a loop's first frame is off a smooth course from its last ones

    @property
    def passed(self) -> bool:
        return self.gap <= self.tolerance and self.goes_round

    @property
    def goes_round(self) -> bool:
        """Whether a print of a loop comes back to its first frame without a jump that the eye sees."""
        return self.jump is None or self.jump <= JUMP

    def words(self) -> str:
        if not np.isfinite(self.gap):
            where = f"{self.of} {self.gap_vertex} at frame {self.gap_frame}"
            return f"read back: DIFFERS from the scene; {where} is no number in the file"
        verdict = "matches the scene" if self.gap <= self.tolerance else "DIFFERS from the scene"
        words = f"read back: {verdict}; largest gap {format_length(max(self.gap, 0.0))} "
        words += f"(frame {self.gap_frame}, {self.of} {self.gap_vertex})"
        if self.jump is not None:
            round_ = "goes round" if self.goes_round else "the loop JUMPS where it goes round"
            words += f"; {round_}, {format_length(self.jump)} off a smooth course at its seam"
        return f"{words}; {self.more}" if self.more else words


def printed(doc: Document, item: Thing) -> Thing | None:
    """The subject or skeleton that is printed."""
    if item.declared.takes == "grains":
        found = doc.find(item.constant("swarm"))
        return found or next((t for t in doc.things if t.has_grains), None)
    if item.declared.takes == "bones":
        found = doc.find(item.constant("skeleton"))
        return found if found is not None and found.kind == "skeleton" else next(iter(doc.skeletons), None)
    return subject_of(doc, item)


def skeleton_of(doc: Document, item: Thing) -> Thing | None:
    """The skeleton that is printed, or that the printed subject's skin follows when the print is of skins."""
    thing = printed(doc, item)
    if thing is None or thing.kind == "skeleton" or thing.has_grains:
        return thing if thing is not None and thing.kind == "skeleton" else None
    layer = skin_of(thing) if item.declared.takes == "skin" else None
    return doc.find(layer.constant("skeleton")) if layer is not None else None


def skin_of(subject: Thing) -> Thing | None:
    """The first bound skin layer of a subject that is on."""
    return next((l for l in subject.stack if l.kind == "skin" and l.on and l.bind is not None), None)


def subject_of(doc: Document, item: Thing) -> Thing | None:
    copies = copies_of(doc, item)
    found = doc.shape_of(copies) if copies else doc.find(item.constant("subject"))
    return found if found is not None and found.kind == "subject" else next(iter(doc.subjects), None)


def copies_of(doc: Document, item: Thing) -> Thing | None:
    """The copies that are printed, when they copy something."""
    copies = doc.find(item.constant("copies")) if "copies" in item.declared.channels else None
    return copies if copies is not None and doc.shape_of(copies) is not None else None


def joined_mesh(evaluator: Evaluator, copies: Thing) -> Mesh:
    """All copies as one mesh, each as the subject is at rest, where it stands at the first frame."""
    found = evaluator.copies(copies, evaluator.doc.start)
    places = found.places.apply(found.mesh.points[None])
    return joined([found.mesh.with_points(p) for p in places])


def frames_of(doc: Document, item: Thing) -> list[int]:
    if item.constant("loop"):
        return list(range(*loop_range(doc)))
    skeleton = skeleton_of(doc, item)
    clip = clips.present(skeleton) if skeleton is not None else None
    start, end = (clip.frames[0], clip.frames[-1]) if clip is not None else (doc.start, doc.end)
    first, last = item.constant("first") or start, item.constant("last") or end
    return list(range(max(first, doc.start), min(last, doc.start + MOST_FRAMES) + 1))


def values_of(doc: Document, item: Thing) -> dict:
    return {name: item.constant(name) for name in item.declared.channels}


def estimate(scene: Scene, doc: Document, item: Thing) -> Estimate:
    subject, frames = printed(doc, item), frames_of(doc, item)
    if subject is None:
        what = {"bones": "skeleton", "grains": "swarm"}.get(item.declared.takes, "subject")
        return Estimate(0, "nothing to print", f"The scene has no {what}. {_CURES[what]}")
    if not frames:
        return Estimate(0, "no frames", "The last frame lies before the first, or before the scene's start.")
    trouble = item.declared().trouble(doc, subject)
    if trouble:
        return Estimate(0, "nothing to print", trouble)
    if subject.has_grains:
        count = Evaluator(doc, scene, None).swarms.expected(subject)
        return item.declared().estimate(count, 0, len(frames), values_of(doc, item))
    if subject.kind == "skeleton":
        return item.declared().estimate(len(subject.joints), 0, len(frames), values_of(doc, item))
    size, times = _counts(scene, subject), 1
    if copies_of(doc, item) is not None:
        times = len(Evaluator(doc, scene, None).stage.many(copies_of(doc, item), subject, doc.start).rows)
        if not times:
            return Estimate(
                0, "nothing to print", "There are no copies. Raise their count, or choose what they stand on."
            )
    frames = item.declared().frames(frames, values_of(doc, item))
    return item.declared().estimate(size.vertices * times, size.triangles * times, len(frames), values_of(doc, item))


_CURES = {
    "subject": "Import a mesh first.",
    "skeleton": "Build one, or import one with its skin.",
    "swarm": "Add one from the Add menu.",
}


def _counts(scene: Scene, subject: Thing) -> Counts:
    """How large a subject is after its stack, without working it out."""
    size = Counts.of(scene.mesh(subject.mesh))
    for layer in subject.stack:
        if layer.on and layer.declared is not None and layer.declared.remeshes:
            size = layer.declared().counts(size, {n: layer.constant(n) for n in layer.declared.channels})
    return size


def signature(evaluator: Evaluator, item: Thing) -> bytes:
    """Digest of everything a print reads: its own channels, and its subject's stack at every frame."""
    doc = evaluator.doc
    subject, frames = printed(doc, item), frames_of(doc, item)
    if subject is None:
        return b""
    if subject.has_grains:
        told = [evaluator.dressing.name(subject, f) for f in frames]
        return digest(item.kind, item.name, values_of(doc, item) | {"swarm": None}, frames, told, doc.frame_rate)
    if subject.kind == "skeleton" or item.declared.takes == "skin":
        return digest(item.kind, item.name, values_of(doc, item), frames, _skeleton_told(evaluator, item, frames))
    layers = evaluator.layers(subject)
    mesh = subject.mesh
    copies = copies_of(doc, item)
    if copies is not None:
        many = [evaluator.stage.many(copies, subject, f) for f in frames]
        shapes = [(m.place, m.amounts, [evaluator.stacks.name(subject, layers, m)]) for m in many]
    else:
        shapes = [evaluator.shape_name(subject, f) for f in frames]
    rest = (*mesh.told, subject.name, doc.frame_rate)
    looks = [m.model_dump() for m in mesh.materials]
    others = [_told(evaluator, t, frames) for t in item.declared().others(doc, subject, values_of(doc, item))]
    named = values_of(doc, item) | {"subject": None, "copies": None}
    return digest(item.kind, item.name, named, rest, frames, shapes, looks, others)


def _told(evaluator: Evaluator, thing: Thing, frames) -> tuple:
    """What a print reads of a thing that is printed with others."""
    stands = [evaluator.reader.stand_name(thing, f) for f in frames] if thing.kind != "copies" else []
    if thing.kind == "subject":
        looks = [m.model_dump() for m in thing.mesh.materials]
        return thing.name, looks, [evaluator.shape_name(thing, f) for f in frames], stands
    if thing.kind == "copies":
        shape = evaluator.doc.shape_of(thing)
        many = [evaluator.stage.many(thing, shape, f) for f in frames]
        names = [evaluator.stacks.name(shape, evaluator.layers(shape), m) for m in many]
        return thing.name, [(m.place, m.amounts) for m in many], names
    if thing.kind == "skeleton":
        return thing.name, [evaluator.shape_name(thing, f) for f in frames], [j.name for j in thing.joints], stands
    return thing.name, stands


def _skeleton_told(evaluator, item, frames):
    """Everything that a print of a skeleton, or of a skin, reads."""
    skeleton, thing = skeleton_of(evaluator.doc, item), printed(evaluator.doc, item)
    layer = skin_of(thing) if thing.kind == "subject" else None
    if skeleton is None:
        return None
    poses = [evaluator.shape_name(skeleton, f) for f in frames]
    kept = [(c.name, c.first, c.last, c.loops, c.speed, repr(c.values)) for c in skeleton.clips]
    bound = (layer.bind.indices, layer.bind.weights, layer.bind.back, thing.mesh.points) if layer is not None else None
    shapes = None
    if layer is not None:
        through = [*evaluator.layers_above(thing, layer), layer]
        shapes = [evaluator.shape_name(thing, f, through) for f in frames]
    return poses, kept, bound, shapes, [j.name for j in skeleton.joints]


def file_target(doc: Document, item: Thing, out: Path) -> Path:
    """Main file without its suffix. A name never leads out of the folder."""
    wanted = item.constant("file") or item.name
    safe = "".join(c if c.isalnum() or c in "-_ ." else "_" for c in wanted).strip(" .") or "print"
    return Path(out) / safe.replace(" ", "_")


def run(
    scene: Scene, evaluator: Evaluator, item: Thing, out: str | Path, progress=None, cancelled=lambda: False
) -> Result:
    """Solve, write and read back one print. Raises EstampaError or Cancelled; earlier files are then untouched."""
    doc = evaluator.doc
    told = estimate(scene, doc, item)
    if told.trouble:
        raise EstampaError(item.name, told.trouble)

    def step(share, text):
        if cancelled():
            raise Cancelled
        if progress:
            progress(share, f"{item.name}: {text}")

    subject, frames = printed(doc, item), frames_of(doc, item)
    kind, copies = item.declared(), copies_of(doc, item)
    last = frames[-1]
    frames = kind.frames(frames, values_of(doc, item))
    last = last if kind.needs_every else frames[-1]
    mesh = None
    if subject.kind == "subject":
        mesh = joined_mesh(evaluator, copies) if copies is not None else evaluator.mesh(subject)
    mesh, origin = mesh.parted() if mesh is not None and kind.parts_seams else (mesh, None)
    job = Job(item, subject, mesh, frames, doc.frame_rate, evaluator, values_of(doc, item), copies)
    job.skeleton, job.origin = skeleton_of(doc, item), origin
    target = file_target(doc, item, Path(out))
    evaluator.solve_through(last, lambda share, text: step(0.5 * share, text), cancelled)
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        paths = kind.write(job, target, lambda share, text: step(0.5 + 0.35 * share, text))
    except OSError as err:
        raise disk_trouble(f"{item.name} in {target.parent}", err, "Earlier files are untouched.") from err
    except Exception as err:
        if isinstance(err, (EstampaError, Cancelled)):
            raise
        raise EstampaError(
            item.name,
            f"could not be written to {target.parent}.",
            "Check that the disk has room and that you may write there. Earlier files are untouched.",
            repr(err),
        ) from err
    with in_words(target.name):
        gap = kind.check(job, target, lambda share, text: step(0.85 + 0.15 * share, text))
    size = sum(p.stat().st_size for p in paths)
    of = {"bones": "joint", "grains": "grain"}.get(item.declared.takes, "vertex")
    each = bool((np.diff(job.frames) == 1).all())  # of poses far apart no course is told
    jump = seam_jump(gap.ends) if each and is_loop(doc, item) and len(gap.ends) == 6 else None
    told = (job.v["tolerance"], target, signature(evaluator, item), of, gap.told, jump)
    return Result(item.name, paths, size, gap.largest, gap.frame, gap.place, *told)


def is_loop(doc: Document, item: Thing) -> bool:
    """Whether a player is meant to go round in what is printed."""
    skeleton = skeleton_of(doc, item)
    clip = clips.present(skeleton) if skeleton is not None else None
    return bool(item.constant("loop")) or (clip is not None and clip.loops)


def bake_scene(scene: Scene, out: str | Path, print_name: str | None = None, progress=None) -> list[Result]:
    """Bake all prints of a scene, or the one named. Returns their Results.

    Raises EstampaError when there is no such print, or one fails.
    """
    items = [p for p in scene.doc.prints if p.on and p.declared and print_name in (None, p.name)]
    if not items:
        names = ", ".join(p.name for p in scene.doc.prints) or "none"
        raise EstampaError(
            f"Print “{print_name}”" if print_name else "The press",
            "has nothing to print.",
            f"Prints in this scene: {names}.",
        )
    evaluator = scene.evaluator()
    return [run(scene, evaluator, item, out, progress) for item in items]
