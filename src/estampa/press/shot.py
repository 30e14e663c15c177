"""The shot: several subjects, skeletons, cameras and copies in one file, each in its place in the tree."""

from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..errors import EstampaError
from ..evaluate.stacks import count_of_pieces
from ..formats.usd_shot import PlacedCopies, Prop, ShotFrame, ShotReader, bind_of, write_shot
from ..formats.usd_skel import bound_alike
from ..geometry import pose as turns
from ..kinds.channels import choice, switch
from ..scene.copies import only_in_copies
from ..scene.document import Thing
from ..scene.skins import followed, skins_of
from ..scene.things import angle_of_view
from ..scene.values import Rows
from ..units import format_bytes
from .prints import Deviation, DeviationTracker, Estimate, Job, MeshPrint
from .rigs import kept_skin, morph_weights, named_morphs, rig_of
from .sizes import USD, copies_bytes, mesh_bytes, moves, vertices_of

WHOLE = 1e-5  # of its size, within which points go as a whole
ROUNDED = 1e-6  # of how far off it is: places of bodies are kept in single precision
SEEN = ("mesh", "skeleton", "camera", "instances")


@dataclass
class Cast:
    """What a file of a shot holds: things, what each is in the file, and by number the last skin layer of those that
    stay skinned, and how those go that a solve moves as wholes."""

    path: Path
    things: list[Thing]
    props: list[Prop]
    skins: dict[int, Thing]
    wholes: dict[int, "Whole"] = field(default_factory=dict)


@dataclass
class Whole:
    """A subject that goes as a whole: points (n, 3) m in its own space; at -- frame -> (4, 4) where that stands."""

    points: np.ndarray
    at: dict[int, np.ndarray]

    @classmethod
    def of(cls, job: Job, thing: Thing) -> "Whole | None":
        """None of what changes its shape, or comes in pieces."""
        layers = job.evaluator.layers(thing)
        last = layers[-1].declared if layers else None
        if last is None or not (getattr(last, "collides", False) or getattr(last, "of_pieces", False)):
            return None
        evaluator, first = job.evaluator, job.evaluator.doc.solved_from
        home = evaluator.values.place(thing, Rows.one(first)).matrices[0]
        # as it enters: a start may have it somewhere else at the first frame
        above, at = layers[: -max(count_of_pieces(layers), 1)], {}
        began = evaluator.through(thing, above, first).points.reshape(-1, 3)
        near = WHOLE * max(float(np.ptp(began, axis=0).max()), 1e-9)
        for frame in job.frames:
            part = job.outcome_of(thing, frame).parts[0]
            if part.stands is None or part.pieces is None or part.pieces.count != 1 or part.centres is None:
                return None
            goes = np.eye(4)
            goes[:3, :3] = part.stands.axes[0] * part.stands.size[0]
            goes[:3, 3] = part.stands.origin[0] - goes[:3, :3] @ part.centres[0]
            there = began @ goes[:3, :3].T + goes[:3, 3]
            now = part.points.reshape(-1, 3)
            if np.abs(there - now).max() > max(near, ROUNDED * np.abs(now).max()):
                return None
            at[frame] = goes @ home
        back = np.linalg.inv(home)
        return cls(began @ back[:3, :3].T + back[:3, 3], at)


def may_bend(subject) -> bool:
    """Whether a subject's points may move in themselves: by any layer but a body that it is as a whole, or a skin."""
    layers = subject.layers_on
    if not layers or layers[-1].declared.binds:
        return False
    return not goes_whole(subject)


def goes_whole(thing) -> bool:
    """Whether a thing is a body as a whole."""
    layers = thing.layers_on
    return bool(layers) and bool(layers[-1].declared.collides) and layers[-1].constant("each") == "whole"


def _node(thing: Thing) -> str:
    """What a thing is in a file of a scene; "" of what is not in it."""
    return thing.declared.node if thing.declared is not None else ""


class Shot(MeshPrint):
    """An OpenUSD file (.usdc) of everything that is on: the tree that things ride in, with their places over time,
    meshes with points over time where they have any, skeletons with what is skinned to them, cameras, and copies as
    instances of what they copy."""

    closes = True
    names_morphs = False  # True: its files hold morph targets of meshes without a skin
    takes_roots = True
    kind, title, suffix = "shot", "Shot (USD)", ".usdc"
    icon = "M2.5 5 H13.5 V13 H2.5 Z M2.5 5 L4.5 2.5 H13.5 L11.5 5 M6 5 L8 2.5 M9.5 5 L11.5 2.5"
    carries = ("the tree", "places over time", "points over time", "skeletons and skins", "cameras",
               "copies as instances", "normals", "all texture coordinates", "materials with pictures")  # fmt: skip

    which = choice("all", "What is printed.", {"all": "All that is on", "rides": "The subject, and what rides on it"})
    files = choice("one", "One file, or one for each subject with what carries it.",
                   {"one": "One file for all", "each": "A file for each subject"}, title="Files")  # fmt: skip
    skins = switch(True, "A mesh that a skin moves last keeps its skin, and what is above that as points over time; "
                   "off writes all as points.", title="Skins stay skins")  # fmt: skip

    costs = USD

    def forecast(self, plan):
        things = self.others(plan.doc, plan.found, plan.v)
        still, moving = self.costs.base + self._meshes(plan, things), sum(self._motion(plan, t) for t in things)
        words = f"about {format_bytes(still + moving)}: {format_bytes(still)} of meshes and looks, "
        return Estimate(still + moving, words + f"{format_bytes(moving)} of motion over {plan.frames} frames")

    def _meshes(self, plan, things) -> int:
        """Bytes of meshes as they stand; OpenUSD keeps what is the same once."""
        glb, found, kept = self.costs.is_glb, 0, set()
        for thing in (t for t in things if _node(t) == "mesh" and t.on):
            mesh, key = plan.scene.mesh(thing.mesh), (thing.mesh, may_bend(thing))
            found += mesh_bytes(mesh, glb) if glb or key not in kept else 0
            kept.add(key)
            on = thing.layers_on
            if on and on[-1].declared.binds:
                targets = sum(l.declared.adds_target for l in on[:-1])
                found += (self.costs.skinned + 12 * targets) * vertices_of(mesh, glb)
        return found

    def _motion(self, plan, thing) -> int:
        """Bytes of how a thing moves."""
        costs, frames, node, found = self.costs, plan.frames, _node(thing), 0
        if moves(thing) or goes_whole(thing):
            found += costs.place + costs.place_frame * frames
        if node == "skeleton":  # joints turn, and keep their place
            found += len(thing.joints) * (costs.joint + costs.joint_frame * frames)
        elif node == "instances":
            shape = plan.doc.shape_of(thing)
            found += copies_bytes(plan, thing, shape, may_bend(shape), costs.is_glb)
        elif node == "mesh" and thing.on and may_bend(thing):
            found += (12 * vertices_of(plan.scene.mesh(thing.mesh), costs.is_glb) + costs.shape) * (frames - 1)
        return found

    # -- what is in it -----------------------------------------------------------------------------------------
    def others(self, doc, printed, v):
        """Subjects, skeletons, cameras and copies, and what they ride on, each after that."""
        hidden = only_in_copies(doc)
        wanted = [t for t in doc.things if t.on and t.id not in hidden and _node(t) in SEEN]
        wanted = [t for t in wanted if doc.shape_of(t) is not None or _node(t) != "instances"]
        if v["which"] == "rides":
            wanted = [t for t in wanted if printed.id in self._above(doc, t)]
            wanted += [t for thing in wanted for t in self._followed(doc, thing)]
        return self._with_carriers(doc, wanted)

    @staticmethod
    def _followed(doc, thing) -> list[Thing]:
        """The skeletons that its skins follow."""
        found = [followed(doc, l) for l in skins_of(thing) if l.on]
        return [t for t in found if t is not None]

    def _with_carriers(self, doc, wanted) -> list[Thing]:
        """Skeletons first, so that what follows one stands behind it."""
        found: dict[str, Thing] = {}
        for thing in sorted(wanted, key=lambda t: _node(t) != "skeleton"):
            for i in reversed(self._above(doc, thing)):
                found.setdefault(i, doc.find(i))
        return list(found.values())

    @staticmethod
    def _above(doc, thing) -> list[str]:
        """Ids of a thing and of what it rides on, up to what is no joint."""
        found = []
        while thing is not None and _node(thing) and thing.id not in found:
            found.append(thing.id)
            parent = thing.constant("parent") if "parent" in thing.declared.channels else None
            thing = doc.find(parent) if parent else None
        return found

    def _casts(self, job: Job, target: Path) -> list[Cast]:
        """What each file holds."""
        doc = job.evaluator.doc
        every = self.others(doc, job.subject, job.v)
        main = target.with_name(target.name + self.suffix)
        if job.v["files"] == "one":
            return [self._cast(job, main, every)]
        found, names = [], set()
        for thing in every:
            if thing.on and doc.shape_of(thing) is not None:
                word = "".join(c if c.isalnum() or c in "-_" else "_" for c in thing.name)
                while word in names:
                    word += "_"
                names.add(word)
                things = self._with_carriers(doc, [*self._followed(doc, thing), thing])
                only = [
                    t if t.id == thing.id or _node(t) in ("plain", "skeleton") else t.with_(on=False) for t in things
                ]
                found.append(self._cast(job, main.with_name(f"{target.name}_{word}{self.suffix}"), only))
        return found or [self._cast(job, main, every)]

    def _cast(self, job: Job, path: Path, things: list[Thing]) -> Cast:
        evaluator = job.evaluator
        number = {t.id: i for i, t in enumerate(things)}
        props: list[Prop] = []
        skins: dict[int, Thing] = {}
        wholes: dict[int, Whole] = {}
        for i, thing in enumerate(things):
            above = self._above(evaluator.doc, thing)[1:2]
            prop = Prop(thing.name, number.get(above[0], -1) if above and _node(thing) != "instances" else -1)
            node = _node(thing)
            if node == "mesh" and thing.on:
                layer = kept_skin(evaluator, thing) if job.v["skins"] else None
                prop.mesh = evaluator.mesh(thing)
                at = number.get(layer.constant("skeleton")) if layer is not None else None
                if at is not None:
                    skeleton = evaluator.doc.find(things[at].id)
                    rig = rig_of(replace(job, subject=thing, origin=None, v={}, skeleton=skeleton))
                    if self.holds(rig, props, at):
                        prop.mesh, prop.skin, prop.bones_at, skins[i] = rig.mesh, rig, at, layer
                above = evaluator.layers(thing) if prop.skin is None else evaluator.layers_above(thing, skins[i])
                prop.targets = named_morphs(evaluator, thing, above, prop.mesh) if self.names_morphs else []
                whole = Whole.of(job, thing) if prop.skin is None and not prop.targets else None
                if whole is not None:
                    wholes[i] = whole
            elif node == "skeleton":
                prop.bones = evaluator.poses.bones(thing)
            elif node == "camera" and thing.on:
                prop.view = angle_of_view(evaluator.values, thing, job.frames[0])
                prop.film_back = float(evaluator.values.at(thing, "film_back", job.frames[0]))
            elif node == "instances":
                prop.copied = evaluator.mesh(evaluator.doc.shape_of(thing))
            props.append(prop)
        if not any(p.mesh is not None or p.copied is not None for p in props):
            raise EstampaError(job.item.name, "finds no subject that is on.", "Switch one on, or choose another one.")
        return Cast(path, things, props, skins, wholes)

    def holds(self, rig, props, at: int) -> bool:
        """Whether a skin can be told beside those of the props so far that follow the same skeleton."""
        return bound_alike(rig, bind_of(props, at)) or not any(p.skin is not None and p.bones_at == at for p in props)

    def _moment(self, job: Job, cast: Cast, frame: int) -> ShotFrame:
        evaluator, now, world = job.evaluator, ShotFrame(), {}
        for i, (thing, prop) in enumerate(zip(cast.things, cast.props, strict=True)):
            if prop.copied is not None:
                now.copies[i] = self._copies(job, thing, frame)
                continue
            whole = cast.wholes.get(i)
            world[i] = evaluator.values.place(thing, Rows.one(frame)).matrices[0] if whole is None else whole.at[frame]
            now.local[i] = world[i] if prop.parent < 0 else np.linalg.inv(world[prop.parent]) @ world[i]
            if prop.bones is not None:
                now.poses[i] = job.solved(evaluator.poses.at(thing, frame), frame).pose
            if whole is not None:
                now.points[i] = whole.points
            elif prop.mesh is not None:
                layers = evaluator.layers(thing)
                if i in cast.skins:
                    layers = evaluator.layers_above(thing, cast.skins[i])
                if prop.targets:
                    now.weights[i] = morph_weights(evaluator, layers, frame)
                    now.points[i] = prop.mesh.points
                    continue
                shape = evaluator.stacks.rows(thing, layers, evaluator.stage.one(thing, frame))
                now.points[i] = job.solved(shape, frame).points[0]
        return now

    def _copies(self, job: Job, copies, frame) -> PlacedCopies:
        parts = job.outcome_of(copies, frame).parts
        if not parts:
            none = np.zeros((0, 3))
            return PlacedCopies(
                np.zeros((0, 0, 3)), none, np.zeros((0, 4)), np.zeros(0), np.zeros(0, int), np.zeros(0, int)
            )
        part = parts[0]
        k, shapes = part.count, part.points
        which = part.shape if part.shape is not None else np.arange(k) if len(shapes) == k > 1 else np.zeros(k, int)
        place = part.places
        return PlacedCopies(shapes, place.origin, turns.turns_of(place.axes), place.size, which, part.ids)

    # -- written and read back ---------------------------------------------------------------------------------
    def write(self, job: Job, target: Path, progress):
        self._written = casts = self._casts(job, target)
        for c, cast in enumerate(casts):
            at = lambda frame, cast=cast: self._moment(job, cast, job.shown(frame))
            step = lambda share, text, c=c: progress((c + share) / len(casts), text)
            args = (job.item.name, cast.props, job.written, job.frame_rate, at, step)
            write_whole(cast.path, lambda part, args=args: write_shot(part, *args))
        return [cast.path for cast in casts]

    def check(self, job: Job, target: Path, progress) -> Deviation:
        tally, ends = DeviationTracker(job.written, job.closes), {}
        for cast in self._written:
            reader = ShotReader(cast.path)
            if (reader.first, reader.last) != (job.written[0], job.written[-1]):
                cause = "was written, but the file does not hold the frames asked for."
                raise EstampaError(job.item.name, cause, "Print it again.")
            for i, frame in enumerate(job.written):
                if not self._held_against(job, cast, reader, tally, i, ends):
                    return tally.gap()
                progress((i + 1) / len(job.written), f"Reading back frame {frame}")
        for i, found in ends.items():
            tally.keep(i, np.concatenate(found))
        return tally.gap(self._words())

    def _held_against(self, job, cast, reader, tally, i, ends) -> bool:
        frame = job.written[i]
        for thing, prop in zip(cast.things, cast.props, strict=True):
            if prop.mesh is None and prop.copied is None:
                continue
            wanted = job.outcome_of(thing, job.shown(frame)).points()
            read = reader.instances if prop.copied is not None else reader.skinned if prop.skin else reader.points
            found = read(prop.path, frame).reshape(-1, 3) if len(wanted) else wanted
            if found.shape != wanted.shape:
                cause = f"was written, but holds {len(found):,} points of {len(wanted):,} of {thing.name}."
                raise EstampaError(job.item.name, cause, "Print it again.")
            if not tally.add(i, np.linalg.norm(found - wanted, axis=1)):
                return False
            ends.setdefault(i, []).append(found)
        return True

    def _words(self) -> str:
        """What was printed."""
        every = [p for cast in self._written for p in cast.props]
        many = lambda count, word: f"{count} {word}{'s' if count != 1 else ''}"
        copies = sum(p.copied is not None for p in every)
        parts = [many(sum(p.mesh is not None for p in every), "subject")]
        skins = sum(p.skin is not None for p in every)
        parts += [f"{skins} of them skinned"] if skins else []
        parts += [f"{copies} set{'s' if copies != 1 else ''} of copies"] if copies else []
        parts += [f"in {len(self._written)} files"] if len(self._written) > 1 else []
        return " and ".join([", ".join(parts[:-1]), parts[-1]]) if len(parts) > 1 else parts[0]
