"""What has a stack: what the sheet tells of it, and how a hand adds one that is seen at once."""

from ...edits import clips, liquids, swarms
from ...errors import EstampaError
from ...kinds.facets import Facet, Facts
from ...kinds.registry import kind_of
from ...units import format_bytes, format_length
from ..panels.reported import reported


class SubjectFacet(Facet):
    owners = ("mesh",)

    def facts(self, session, thing):
        mesh = session.scene.mesh(thing.mesh)
        rows = [
            ("Size", " × ".join(format_length(s) for s in mesh.size)),
            ("Vertices", f"{mesh.count:,}"),
            ("Faces", f"{len(mesh.face_counts):,}"),
            ("Islands", f"{mesh.island_count:,}"),
            ("Open edges", f"{mesh.open_edges:,}"),
            ("Crowded edges", f"{mesh.crowded_edges:,}"),
            ("From file", thing.mesh.source or "–"),
            ("Layers", f"{len(thing.stack)}"),
        ]
        words = [] if thing.stack else ["It has no layers yet. Add one: a bend, a noise or a cloth."]
        words += [f"Morph targets: {', '.join(t.name for t in thing.targets)}."] if thing.targets else []
        return Facts(rows, "\n".join(words))


class SkeletonFacet(Facet):
    owners = ("skeleton",)

    def facts(self, session, thing):
        bones = session.scene.values.bones(thing)
        strands = len(bones.strands(bones.order)) if len(bones) else 0
        present = clips.present(thing)
        rows = [
            ("Joints", f"{len(bones):,} in {strands:,} strand{'s' if strands != 1 else ''}"),
            ("Longest", format_length(float(bones.lengths.max(initial=0)))),
            ("Clips", f"{len(thing.clips)}" + (f", “{present.name}” is played" if present else "")),
            ("Layers", f"{len(thing.stack)}" + (f", {len(thing.live)} baked to keys" if thing.live else "")),
        ]
        empty = "It has no layers yet. Add one: wind on stems, a swinging chain, an aim."
        return Facts(rows, "" if thing.stack else empty)


class GrainsFacet(Facet):
    """Swarms, and whatever else has grains."""

    owners = ("grains",)

    def facts(self, session, thing):
        if not thing.stack:
            empty = "It has no layers yet. Add a source, Sow or Emit, and then what guides and shows its grains."
            return Facts([], empty)
        found = reported(session, thing)
        try:  # how many grains it will have, and what they take, before anything is solved
            many = session.work.evaluator("window").swarms.expected(thing)
        except EstampaError:
            return found
        words = f"About {many:,} grains at once"
        if hasattr(thing.declared, "a_frame"):
            bytes_, seconds = thing.declared.a_frame(many)
            words += f": some {format_bytes(bytes_)} to solve, {seconds:.2g} s a frame"
        return Facts(found.rows, f"{found.words}\n{words}.".strip())

    def add(self, by_hand):
        made = swarms.add_swarm(by_hand.scene, by_hand.middle, size=0.5 * by_hand.size, kind=by_hand.kind)
        by_hand.select(made)
        by_hand.frame()
        title = kind_of(by_hand.kind).title.lower()
        by_hand.say(f"A {title} that moves at once. Solve (Ctrl+Space), then add layers to guide it.")


class LiquidFacet(GrainsFacet):
    kinds, owners = ("liquid",), ()

    def add(self, by_hand):
        chosen, (x, _, z) = by_hand.selection.subject, by_hand.middle
        subject = chosen.id if chosen else None
        by_hand.select(liquids.add_liquid(by_hand.scene, subject, (x, 0.0, z), 0.4 * by_hand.size))
        words = f"It fills {chosen.name}, which holds it." if chosen else "A block of it, over the ground."
        by_hand.say(f"{words} Solve (Ctrl+Space) to see it settle.")


class ImmersionFacet(Facet):
    kinds = ("immersion",)

    def add(self, by_hand):
        found = by_hand.scene.doc.of_kind("liquid")
        if not found:
            by_hand.add()
            return
        liquid = by_hand.selection.thing if by_hand.selection.thing in found else found[0]
        by_hand.select(liquids.immerse(by_hand.scene, liquid.id))
        by_hand.say(f"Bodies float and cloths get wet in {liquid.name}, from the next solve on (Ctrl+Space).")
