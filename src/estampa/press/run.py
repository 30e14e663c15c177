"""The press runs prints: solve what they need, write, read back, compare."""

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..edits import clips
from ..errors import Cancelled, EstampaError, disk_trouble
from ..evaluate.evaluator import Evaluator
from ..formats.bounds import in_words
from ..formats.seam import LEAST, seam_jump
from ..hashing import digest
from ..scene.document import Document, Thing
from ..scene.scene import Scene
from ..units import format_length
from .prints import Estimate, Job
from .sizes import Plan
from .takes import copies_of, members_of

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
    """The thing that is printed."""
    return item.declared.takes.find(doc, item)


def skeleton_of(doc: Document, item: Thing) -> Thing | None:
    """The skeleton that goes into the files of a print."""
    return item.declared.takes.skeleton(doc, item)


def frames_of(doc: Document, item: Thing) -> list[int]:
    if item.constant("loop"):
        return list(range(*doc.loop_range))
    skeleton = skeleton_of(doc, item)
    clip = clips.present(skeleton) if skeleton is not None else None
    start, end = (clip.frames[0], clip.frames[-1]) if clip is not None else (doc.start, doc.end)
    first, last = item.constant("first") or start, item.constant("last") or end
    return list(range(max(first, doc.start), min(last, doc.start + MOST_FRAMES) + 1))


def values_of(doc: Document, item: Thing) -> dict:
    return {name: item.constant(name) for name in item.declared.channels}


def estimate(scene: Scene, doc: Document, item: Thing) -> Estimate:
    """What a print will take, and why it cannot be made where it cannot."""
    kind: Any = item.declared()
    found, frames, takes = printed(doc, item), frames_of(doc, item), kind.takes
    if found is None:
        named = item.constant("subject") if "subject" in kind.channels else None
        if named:
            held = doc.find(named)
            words = "a subject that is gone" if held is None else f"{held.name}, on which no subject rides"
            return Estimate(0, "nothing to print", f"It names {words}. Choose another one.")
        return Estimate(0, "nothing to print", f"The scene has no {takes.what}. {takes.cure}")
    if members_of(doc, found) and not kind.takes_roots:
        words = f"{found.name} carries subjects, and {kind.title} prints one. Choose that, or print a shot."
        return Estimate(0, "nothing to print", words)
    if not frames:
        return Estimate(0, "no frames", "The last frame lies before the first, or before the scene's start.")
    trouble = kind.trouble(doc, found)
    if trouble:
        return Estimate(0, "nothing to print", trouble)
    vertices, triangles = takes.size(scene, doc, item, found)
    if not vertices and copies_of(doc, item) is not None:
        return Estimate(0, "nothing to print", takes.none)
    v = values_of(doc, item)
    frames = kind.frames(frames, v)
    many = len(frames) + (kind.closes and goes_round(doc, item, frames))
    return kind.forecast(Plan(scene, doc, item, found, vertices, triangles, many, v))


def signature(evaluator: Evaluator, item: Thing) -> bytes:
    """Digest of everything a print reads: its own channels, and what it takes at every frame."""
    doc = evaluator.doc
    found, frames = printed(doc, item), frames_of(doc, item)
    if found is None:
        return b""
    own = {n: _named(evaluator, item, n, v, frames) for n, v in values_of(doc, item).items()}
    read = item.declared.takes.fingerprint(evaluator, item, found, frames)
    return digest(item.kind, item.name, own, frames, read, doc.frame_rate)


def _named(evaluator: Evaluator, item: Thing, name: str, value, frames) -> object:
    """What a channel of a print says: of a grip, where it stands at the first frame; of what it takes, nothing, since
    that says so itself."""
    to = item.declared.channels[name].to
    held = evaluator.doc.find(value) if to == "grip" else None
    return value if not to else evaluator.reader.stand_name(held, frames[0]) if held is not None and frames else None


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
    trouble = estimate(scene, doc, item).trouble
    if trouble:
        raise EstampaError(item.name, trouble)

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
    mesh = kind.takes.mesh(evaluator, item, subject)
    mesh, origin = mesh.parted() if mesh is not None and kind.parts_seams else (mesh, None)
    job = Job(item, subject, mesh, frames, doc.frame_rate, evaluator, values_of(doc, item), copies)
    job.skeleton, job.origin = skeleton_of(doc, item), origin
    job.closes = kind.closes and goes_round(doc, item, frames)
    target = file_target(doc, item, Path(out))
    _refuse_own_source(item, kind, subject, target)
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
    of = kind.takes.counted
    jump = seam_jump(gap.ends) if goes_round(doc, item, job.frames) and len(gap.ends) >= 2 * LEAST else None
    more = (job.v["tolerance"], target, signature(evaluator, item), of, gap.report, jump)
    return Result(item.name, paths, size, gap.largest, gap.frame, gap.place, *more)


def _refuse_own_source(item: Thing, kind, subject: Thing, target: Path) -> None:
    """A print that writes over the file that its subject plays would read what it has just written."""
    path = target.with_name(target.name + kind.suffix).resolve()
    for layer in subject.layers_on:
        files = [layer.constant(name) for name, channel in layer.declared.channels.items() if channel.file]
        if any(Path(file).expanduser().resolve() == path for file in files if file):
            cure = f"Give the print another file name, or switch {layer.name} off."
            raise EstampaError(item.name, f"would write over {path.name}, which {subject.name} plays.", cure)


def is_loop(doc: Document, item: Thing) -> bool:
    """Whether a player is meant to go round in what is printed."""
    skeleton = skeleton_of(doc, item)
    clip = clips.present(skeleton) if skeleton is not None else None
    return bool(item.constant("loop")) or (clip is not None and clip.loops)


def goes_round(doc: Document, item: Thing, frames: list[int]) -> bool:
    """Whether it is one that goes round frame by frame: of poses far apart no course is told."""
    return is_loop(doc, item) and bool((np.diff(frames) == 1).all())


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
