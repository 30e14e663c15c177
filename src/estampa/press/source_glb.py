"""Motion over the source GLB: the file that an asset came from, with nothing changed but what moves."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..errors import EstampaError
from ..formats.gltf_over import NodeMotion, SourceGlb
from ..motion.played import read_fit
from ..scene.values import Rows
from ..units import format_bytes
from .over_source import SourcePrint
from .prints import Deviation, DeviationTracker, Estimate, Job
from .shot import may_bend
from .sizes import vertices_of


class SourceGlbPrint(SourcePrint):
    """The GLB that the subject came from, with our motion as its first animation: places of nodes, and a morph target
    for each shape that a mesh takes.

    Materials with all their extensions, pictures, names, extras, the order of nodes, cameras, lights and its other
    animations stay as they are. A mesh that a skin moves is told by its shapes, and follows that skin no more.
    """

    kind, title, suffix = "source_glb", "Motion over the source (GLB)", ".glb"
    icon = "M2.5 11 L8 13.5 L13.5 11 M2.5 7.5 L8 10 L13.5 7.5 L8 5 Z M8 2 V4"
    carries = ("places over time", "points over time as morph targets", "everything that the source has")
    closes = True

    suffixes, source, instead = (".glb",), "a GLB", "a shot"

    def forecast(self, plan):
        size = Path(plan.found.mesh.file).stat().st_size
        for subject in [plan.found, *self.others(plan.doc, plan.found, plan.v)]:
            count = vertices_of(plan.scene.mesh(subject.mesh), True)
            size += (12 * count + 330) * (plan.frames - 1) if may_bend(subject) else 28 * plan.frames
        words = f"about {format_bytes(size)}: the source, and a shape for each of {plan.frames} frames of what bends"
        return Estimate(size, words)

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        source = SourceGlb(Path(job.subject.mesh.file))
        if path.resolve() == source.path.resolve():
            raise EstampaError(
                job.item.name, f"would write over its source, {path.name}.", "Give it another file name."
            )
        every = self.subjects(job)
        known, moved, vertices = source.nodes({s.mesh.node for s in every}), {}, {}
        for n, subject in enumerate(every):
            node = known.get(subject.mesh.node)
            count = job.evaluator.mesh(subject).count
            if node is None or node.vertices != count:
                has = f"has no mesh “{subject.mesh.node}” any more" if node is None else (
                    f"has {node.vertices:,} vertices in “{subject.mesh.node}”, and {subject.name} has {count:,}"
                )  # fmt: skip
                cure = "Take the new version first, or switch layers off that change its vertices."
                raise EstampaError(source.path.name, f"{has}.", cure)
            if node.number in moved:
                cause = f"finds two subjects of one node ({subject.mesh.node})."
                raise EstampaError(job.item.name, cause, "Switch one of them off, or print a shot.")
            moved[node.number] = self._motion(job, subject)
            vertices[node.number] = node
            progress((n + 1) / len(every), f"Reading {subject.name}")
        self._printed = {known[s.mesh.node].number: s for s in every}
        self._nodes = source.move(moved, vertices, np.arange(len(job.written)) / job.frame_rate)
        write_whole(path, lambda part: source.save(part, job.item.name))
        return [path]

    @staticmethod
    def _motion(job: Job, subject) -> NodeMotion:
        """Where a node stands, with the size that the file gives it, and its points in the world."""
        fit = np.eye(4)
        fit[:3, :3] = read_fit(subject.mesh.fit)
        at, points = [], []
        for frame in job.written:
            shown = job.shown(frame)
            at.append(job.evaluator.values.place(subject, Rows.one(shown)).matrices[0] @ fit)
            points.append(job.outcome_of(subject, shown).points())
        return NodeMotion(np.array(at), np.array(points))

    def check(self, job: Job, target: Path, progress) -> Deviation:
        """Played as the standard says: each vertex of the file lies where one of the scene is, and each of the scene's
        has one."""
        from ..rehearsal.gltf import GltfActor

        tally = DeviationTracker(job.written, job.closes)
        actor = GltfActor(target.with_name(target.name + self.suffix))
        for i, frame in enumerate(job.written):
            every = []
            for node, subject in self._printed.items():
                found = actor.node_points(self._nodes[node], i / job.frame_rate)
                wanted = job.outcome_of(subject, job.shown(frame)).points()
                if not tally.add_nearest(i, found, wanted):
                    return tally.gap()
                every.append(found)
            tally.keep(i, np.concatenate(every))
            progress((i + 1) / len(job.written), f"Reading back frame {frame}")
        return tally.gap(self.words(job, len(self._printed)))
