"""A liquid's skin on one topology, so that a short loop of it can be played as poses, a texture or a cache."""

from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..geometry.primitives import coloured
from ..geometry.shrinkwrap import ShrunkSurface, faded, wrap
from ..kinds.channels import choice, whole
from ..units import format_length
from .pose_strip import PoseStrip
from .prints import Estimate, Job
from .skins import SkinPrint
from .vertex_cache import VertexCache
from .vertex_texture import VertexTexture

FORMS = {"strip": PoseStrip, "texture": VertexTexture, "cache": VertexCache}
OWN = {"precision": "half", "normals": True, "lookup_set": 0, "rides": False}


class Wrapped(NamedTuple):
    mesh: Mesh
    points: dict[int, np.ndarray]
    apart: dict[int, float]


class SkinWrap(SkinPrint):
    """The skin laid onto one topology, that of a chosen frame: a pose strip, a vertex animation texture, or a cache.

    Of a loop, its last frames go over into those before its first, so that it goes round. How far it is from the true
    skin is told: it is drawn out where drops part.
    """

    kind, title, suffix = "skin_wrap", "Skin (one topology)", ".glb"
    icon = "M2.5 9 C3.5 5 6 6.5 8 5 S12.5 5 13.5 9 C12.5 12.5 10 11.5 8 12.5 S3.5 12.5 2.5 9 Z M4 9 H12 M8 5 V12.5"
    carries = ("points at every frame", "normals", "materials")
    needs_every = True

    form = choice(
        "texture", "What is written.",
        {"strip": "Pose strip (GLB)", "texture": "Vertex animation texture", "cache": "Vertex cache (USD)"},
    )  # fmt: skip
    wrapped_at = whole(0, "The frame whose topology is kept; 0 takes the first.", title="Topology of frame",
                       unit="frames", soft=(0, 500), hard=(0, None))  # fmt: skip
    poses = whole(12, "How many poses are frozen.", soft=(2, 48), hard=(1, 1000), when=(("form", ("strip",)),))
    fade = whole(24, "Of a loop: frames at its end that go over into those before it begins.", title="Fades over",
                 unit="frames", soft=(0, 96), hard=(0, None))  # fmt: skip

    def frames(self, frames, v):
        return FORMS[v["form"]]().frames(frames, v) if v["form"] == "strip" else frames

    def estimate(self, vertices, triangles, frames, v):
        many = int(self.vertices(vertices))
        base = FORMS[v["form"]]().estimate(many, 2 * many, frames, OWN | v)
        return Estimate(base.bytes, base.text, base.trouble)

    def _wrapped(self, job: Job, progress) -> Wrapped:
        """Worked out once for writing and reading back."""
        if getattr(self, "_made", None) is not None:
            return self._made
        doc, frames, fade = job.evaluator.doc, job.frames, 0
        first, last = frames[0], frames[-1] + 1
        if job.v["loop"] and doc.loop:
            first, last = doc.loop
            fade = min(int(job.v["fade"]), last - first - 1)
        begin = first - fade
        if begin < doc.solved_from:
            cause = f"fades over {fade} frames, and the scene begins {first - doc.solved_from} before the loop does."
            raise EstampaError(job.item.name, cause, "Let the loop begin later, or fade over fewer frames.")
        base = min(max(int(job.v["wrapped_at"]) or first, begin), last - 1)
        inks = []

        def surface(frame):
            part = self.surface(job, frame)
            if part is None:
                return None
            if frame == base and part.inks is not None:
                inks.append(part.inks.mean(axis=0))
            return ShrunkSurface(part.points, part.mesh.triangles, part.velocity)

        if surface(base) is None:
            cure = "Choose a frame at which there is one."
            raise EstampaError(job.item.name, f"finds no skin at frame {base}.", cure)
        step = lambda share, frame: progress(0.6 * share, f"Laying frame {frame}")
        triangles, found, apart = wrap(surface, base, list(range(begin, last)), job.frame_rate, step)
        points = faded(found, first, last, fade)
        mesh = Mesh.from_triangles(found[base], triangles)
        mesh = coloured(mesh, job.subject.name, tuple(map(float, inks[0]))) if inks else mesh
        self._made = Wrapped(mesh, points, {f: apart[f] for f in points})
        return self._made

    def _as_mesh(self, job: Job, progress) -> tuple[object, Job]:
        made = self._wrapped(job, progress)
        own = WrappedJob(**{n: getattr(job, n) for n in ("item", "subject", "frames", "frame_rate", "evaluator")},
                         mesh=made.mesh, v=OWN | job.v)  # fmt: skip
        own.wrapped = made.points
        return FORMS[job.v["form"]](), own

    def write(self, job: Job, target: Path, progress):
        kind, own = self._as_mesh(job, progress)
        return kind.write(own, target, lambda share, text: progress(0.6 + 0.4 * share, text))

    def check(self, job: Job, target: Path, progress):
        kind, own = self._as_mesh(job, progress)
        made, gap = self._wrapped(job, progress), kind.check(own, target, progress)
        worst = max(made.apart, key=made.apart.get)
        mean = float(np.mean(list(made.apart.values())))
        words = f"at most {format_length(made.apart[worst])} from the true skin (frame {worst})"
        return replace(gap, report=f"{words}, {format_length(mean)} in the mean of frames")


class WrappedJob(Job):
    """The print of a mesh whose points are known."""

    wrapped: dict[int, np.ndarray]

    def points(self, frame: int) -> np.ndarray:
        return self.wrapped[frame]
