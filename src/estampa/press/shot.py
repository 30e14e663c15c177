"""The shot: several subjects, cameras and copies in one OpenUSD file, each in its place in the tree."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..errors import EstampaError
from ..formats.usd_shot import Moment, Placed, Prop, ShotReader, write_shot
from ..geometry import pose as turns
from ..kinds.channels import choice
from ..scene.copies import only_in_copies
from ..scene.document import Thing
from ..scene.values import Rows
from ..units import format_bytes
from .prints import Estimate, Gap, Job, MeshPrint, Tally

CARRIERS = ("grip", "subject", "camera")


class Shot(MeshPrint):
    """An OpenUSD file (.usdc) of everything that is on: the tree that things ride in, with their places over time,
    meshes with points over time where they have any, cameras, and copies as instances of what they copy."""

    kind, title, suffix = "shot", "Shot (USD)", ".usdc"
    icon = "M2.5 5 H13.5 V13 H2.5 Z M2.5 5 L4.5 2.5 H13.5 L11.5 5 M6 5 L8 2.5 M9.5 5 L11.5 2.5"
    carries = ("the tree", "places over time", "points over time", "cameras", "copies as instances", "normals",
               "all texture coordinates", "materials with pictures")  # fmt: skip

    which = choice("all", "What is printed.", {"all": "All that is on", "rides": "The subject, and what rides on it"})

    def estimate(self, vertices, triangles, frames, v):
        size = frames * vertices * 12
        sum_ = f"{frames} frames × {vertices:,} vertices × 12 bytes"
        words = f"up to {format_bytes(size)} a subject whose points move: {sum_}"
        return Estimate(size, words)

    # -- what is in it -----------------------------------------------------------------------------------------
    def others(self, doc, printed, v):
        """Subjects, cameras and copies, and what they ride on, each after that."""
        hidden = only_in_copies(doc)
        wanted = [t for t in doc.things if t.on and t.kind in ("subject", "camera", "copies") and t.id not in hidden]
        wanted = [t for t in wanted if t.kind != "copies" or doc.shape_of(t) is not None]
        if v["which"] == "rides":
            wanted = [t for t in wanted if printed.id in self._above(doc, t)]
        found: dict[str, Thing] = {}
        for thing in wanted:
            for i in reversed(self._above(doc, thing)):
                found.setdefault(i, doc.find(i))
        return list(found.values())

    @staticmethod
    def _above(doc, thing) -> list[str]:
        """Ids of a thing and of what it rides on, up to what is no joint."""
        found = []
        while thing is not None and thing.kind in (*CARRIERS, "copies") and thing.id not in found:
            found.append(thing.id)
            parent = thing.constant("parent") if "parent" in thing.declared.channels else None
            thing = doc.find(parent) if parent else None
        return found

    def _props(self, job: Job) -> tuple[list[Thing], list[Prop]]:
        evaluator = job.evaluator
        things = self.others(evaluator.doc, job.subject, job.v)
        number = {t.id: i for i, t in enumerate(things)}
        props = []
        for thing in things:
            above = self._above(evaluator.doc, thing)[1:2]
            prop = Prop(thing.name, number.get(above[0], -1) if above and thing.kind != "copies" else -1)
            if thing.kind == "subject" and thing.on:
                prop.mesh = evaluator.mesh(thing)
            elif thing.kind == "camera":
                prop.view = float(evaluator.values.at(thing, "view", job.frames[0]))
            elif thing.kind == "copies":
                prop.copied = evaluator.mesh(evaluator.doc.shape_of(thing))
            props.append(prop)
        if not any(p.mesh is not None or p.copied is not None for p in props):
            raise EstampaError(job.item.name, "finds no subject that is on.", "Switch one on, or choose another one.")
        return things, props

    def _moment(self, job: Job, things, props, frame: int) -> Moment:
        evaluator, now, world = job.evaluator, Moment(), {}
        for i, (thing, prop) in enumerate(zip(things, props, strict=True)):
            if prop.copied is not None:
                now.copies[i] = self._copies(job, thing, frame)
                continue
            world[i] = evaluator.values.place(thing, Rows.one(frame)).matrices[0]
            now.local[i] = world[i] if prop.parent < 0 else np.linalg.inv(world[prop.parent]) @ world[i]
            if prop.mesh is not None:
                one = evaluator.stage.one(thing, frame)
                shape = evaluator.stacks.rows(thing, evaluator.layers(thing), one)
                now.points[i] = job.solved(shape, frame).points[0]
        return now

    def _copies(self, job: Job, copies, frame) -> Placed:
        parts = job.outcome_of(copies, frame).parts
        if not parts:
            none = np.zeros((0, 3))
            return Placed(np.zeros((0, 0, 3)), none, np.zeros((0, 4)), np.zeros(0), np.zeros(0, int), np.zeros(0, int))
        part = parts[0]
        k, shapes = part.count, part.points
        which = part.shape if part.shape is not None else np.arange(k) if len(shapes) == k > 1 else np.zeros(k, int)
        place = part.places
        return Placed(shapes, place.origin, turns.turns_of(place.axes), place.size, which, part.ids)

    # -- written and read back ---------------------------------------------------------------------------------
    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        things, props = self._props(job)
        at = lambda frame: self._moment(job, things, props, frame)
        write_whole(path, lambda part: write_shot(part, job.item.name, props, job.frames, job.frame_rate, at, progress))
        self._paths = {t.id: p.path for t, p in zip(things, props, strict=True)}
        return [path]

    def check(self, job: Job, target: Path, progress) -> Gap:
        reader = ShotReader(target.with_name(target.name + self.suffix))
        if (reader.first, reader.last) != (job.frames[0], job.frames[-1]):
            cause = "was written, but the file does not hold the frames asked for."
            raise EstampaError(job.item.name, cause, "Print it again.")
        tally = Tally(job.frames)
        things, props = self._props(job)
        for i, frame in enumerate(job.frames):
            every = []
            for thing, prop in zip(things, props, strict=True):
                if prop.mesh is None and prop.copied is None:
                    continue
                wanted = job.outcome_of(thing, frame).points()
                path = self._paths[thing.id]
                read = reader.points if prop.mesh is not None else reader.instances
                found = read(path, frame).reshape(-1, 3) if len(wanted) else wanted
                if found.shape != wanted.shape:
                    cause = f"was written, but holds {len(found):,} points of {len(wanted):,} of {thing.name}."
                    raise EstampaError(job.item.name, cause, "Print it again.")
                if not tally.add(i, np.linalg.norm(found - wanted, axis=1)):
                    return tally.gap()
                every.append(found)
            tally.keep(i, np.concatenate(every))
            progress((i + 1) / len(job.frames), f"Reading back frame {frame}")
        count = sum(p.mesh is not None for p in props)
        words = f"{count} subject{'s' if count != 1 else ''}"
        copies = sum(p.copied is not None for p in props)
        words += f" and {copies} set{'s' if copies != 1 else ''} of copies" if copies else ""
        return tally.gap(words)
