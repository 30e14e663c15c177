"""The press runs prints: solve what they need, write, read back, compare."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..errors import Cancelled, EstampaError, disk_trouble
from ..evaluate.evaluator import Evaluator
from ..hashing import digest
from ..scene.document import Document, Thing
from ..scene.scene import Scene
from ..units import format_length
from .prints import Estimate, Job


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

    @property
    def passed(self) -> bool:
        return self.gap <= self.tolerance

    def words(self) -> str:
        verdict = "matches the scene" if self.passed else "DIFFERS from the scene"
        return (
            f"read back: {verdict}; largest gap {format_length(self.gap)} "
            f"(frame {self.gap_frame}, vertex {self.gap_vertex})"
        )


def subject_of(doc: Document, item: Thing) -> Thing | None:
    found = doc.find(item.at("subject", doc.start))
    return found if found is not None and found.kind == "subject" else next(iter(doc.subjects), None)


def frames_of(doc: Document, item: Thing) -> list[int]:
    first, last = item.at("first", doc.start) or doc.start, item.at("last", doc.start) or doc.end
    return list(range(max(first, doc.start), last + 1))


def values_of(doc: Document, item: Thing) -> dict:
    return {name: item.at(name, doc.start) for name in item.declared.channels}


def estimate(scene: Scene, doc: Document, item: Thing) -> Estimate:
    subject, frames = subject_of(doc, item), frames_of(doc, item)
    if subject is None:
        return Estimate(0, "nothing to print", "The scene has no subject. Import a mesh first.")
    if not frames:
        return Estimate(0, "no frames", "The last frame lies before the first, or before the scene's start.")
    mesh = scene.mesh(subject.mesh)
    return item.declared().estimate(mesh.count, len(mesh.triangles), len(frames), values_of(doc, item))


def signature(evaluator: Evaluator, item: Thing) -> bytes:
    """Digest of everything a print reads: its own channels, and its subject's stack at every frame."""
    doc = evaluator.doc
    subject, frames = subject_of(doc, item), frames_of(doc, item)
    if subject is None:
        return b""
    layers = evaluator.layers(subject)
    mesh = subject.mesh
    shapes = [evaluator.layer_digest(subject, layers[-1], f) for f in frames] if layers else []
    rest = (mesh.points, mesh.face_counts, mesh.face_indices, mesh.uv, subject.name, doc.frame_rate)
    return digest(item.kind, item.name, values_of(doc, item) | {"subject": None}, rest, frames, shapes)


def file_target(doc: Document, item: Thing, out: Path) -> Path:
    """Main file without its suffix. A name never leads out of the folder."""
    wanted = item.at("file", doc.start) or item.name
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

    subject, frames = subject_of(doc, item), frames_of(doc, item)
    job = Job(item, subject, scene.mesh(subject.mesh), frames, doc.frame_rate, evaluator, values_of(doc, item))
    kind = item.declared()
    target = file_target(doc, item, Path(out))
    evaluator.solve_through(frames[-1], lambda share, text: step(0.5 * share, text), cancelled)
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
    reader = kind.reader(target)
    gap, worst = -1.0, (frames[0], 0)
    if list(reader.frames) != frames:
        raise EstampaError(
            item.name, "was written, but the file does not hold the frames asked for.", "Print it again."
        )
    for i, frame in enumerate(frames):
        apart = np.linalg.norm(reader.points(frame) - job.points(frame), axis=1)
        if apart.max() > gap:
            gap, worst = float(apart.max()), (frame, int(apart.argmax()))
        step(0.85 + 0.15 * (i + 1) / len(frames), f"Reading back frame {frame}")
    size = sum(p.stat().st_size for p in paths)
    return Result(item.name, paths, size, gap, *worst, job.v["tolerance"], target, signature(evaluator, item))


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
