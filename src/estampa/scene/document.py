"""The document: frozen, validated models.

Every edit makes a new document that shares what did not change with the old one. So undo is keeping the
old one, a background solve reads a document that nobody changes under it, and what changed is found by identity.
Arrays (points, faces, weight maps) are not in the document; it names them by the digest of their content.
"""

import math
from itertools import count
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from ..errors import shortened
from ..formula import LONGEST, Refused, read
from ..kinds.channels import Channel
from ..kinds.registry import Kind, kind_of
from .curves import Curve
from .ids import new_id
from .index import Changes, Index, changed
from .limits import FASTEST, FURTHEST_FRAME, MOST_RUN_UP, MOST_SPOTS

FILE_VERSION = 5


class Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)

    def with_(self, **changes):
        """A copy with some fields changed. The fields are ours, so they are not validated again."""
        return self.model_copy(update=changes)


class Opaque(Frozen):
    """A channel value or thing written by a newer version: kept, shown, saved again, never run."""

    raw: Any


class Source(Frozen):
    """A channel of another thing, to be read."""

    thing: str  # id
    channel: str


class Link(Frozen):
    """A channel that reads another one, as it is, through a range map or through a curve. In stored units."""

    reads: Source
    span: tuple[float, float] | None = None  # these two values of what is read ...
    to: tuple[float, float] | None = None  # ... become these two
    hold: bool = True  # values outside the span are held at its ends
    curve: Curve | None = None  # instead of the range map: its frames are values of what is read

    @model_validator(mode="after")
    def _fits(self):
        if (self.span is None) != (self.to is None):
            raise ValueError("a link's range map needs both its ranges")
        if self.span is not None and not (
            all(map(math.isfinite, (*self.span, *self.to))) and self.span[0] != self.span[1]
        ):
            raise ValueError("a link's range map needs two different, finite values to read from")
        return self


class Formula(Frozen):
    """A channel computed by an expression, in the units that are shown. `inputs` are channels by their letter."""

    formula: str = Field(max_length=LONGEST)
    inputs: dict[str, Source] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _can_be_read(self):
        for name in self.inputs:
            if not (name.isidentifier() and len(name) <= 20):
                raise ValueError(f"“{name}” cannot name an input of a formula")
        try:
            read(self.formula, tuple(self.inputs))
        except Refused as err:
            raise ValueError(f"the formula {err}") from None
        return self


class Target(Frozen):
    """A shape kept to be morphed to."""

    id: str = Field(default_factory=new_id)
    name: str
    points: str  # digest of a float64 (n, 3) array, metres, in the subject's own space


class MaterialRef(Frozen):
    name: str
    colour: tuple[float, float, float] = (0.8, 0.77, 0.71)  # linear, 0 to 1
    picture: str | None = None  # uint8 array: the bytes of a PNG or JPEG
    picture_name: str = ""
    alpha: Literal["opaque", "mask", "blend"] = "opaque"
    cutoff: float = Field(default=0.5, allow_inf_nan=False)
    opacity: float = Field(default=1.0, allow_inf_nan=False)
    two_sided: bool = True
    uv: str = "uv"  # which texture coordinates
    missing: str = ""  # the name of a picture that was not there when it came in
    roughness: float = Field(default=1.0, allow_inf_nan=False)
    metallic: float = Field(default=0.0, allow_inf_nan=False)
    emission: tuple[float, float, float] = (0.0, 0.0, 0.0)  # linear


class WeightMap(Frozen):
    id: str = Field(default_factory=new_id)
    name: str
    weights: str  # digest of a float32 array, one value in [0, 1] per vertex


class Rest(Frozen):
    """How a joint stands at rest, within the joint it hangs on (or the skeleton), and where it ends."""

    place: tuple[float, float, float] = (0.0, 0.0, 0.0)  # m
    turn: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)  # unit quaternion x, y, z, w
    stretch: tuple[float, float, float] = (1.0, 1.0, 1.0)
    tip: tuple[float, float, float] = (0.0, 0.0, 0.0)  # m, in its own space; for a joint that nothing hangs on

    @model_validator(mode="after")
    def _is_finite(self):
        if not all(map(math.isfinite, (*self.place, *self.turn, *self.stretch, *self.tip))):
            raise ValueError("a joint's rest must be of finite numbers")
        length = math.sqrt(sum(x * x for x in self.turn))
        if abs(length - 1) > 1e-3:
            raise ValueError("a joint's turn must be a unit quaternion")
        return self


class Bind(Frozen):
    """What a layer was bound to: a skin's joints and weights, or a cage's coordinates."""

    joints: tuple[str, ...] = ()  # ids
    indices: str | None = None  # digest of int32 (n, m): which of the joints each vertex follows
    weights: str  # digest of float32 (n, m), rows sum to 1; of a cage (n, vertices of the cage)
    back: str | None = None  # digest of float64 (j, 4, 4): from the subject's space into each joint's, at rest
    locked: tuple[str, ...] = ()  # joints whose weights painting leaves alone


class AdoptedTable(Frozen):
    """Rows of a solved frame, by the digests of their arrays."""

    columns: dict[str, str]
    ids: str | None = None  # int64 (n,); None numbers them from 0
    rest: str | None = None  # float64 (n, 3) m, where they are at rest, to match them by


class Adopted(Frozen):
    """The state that a solver begins from, taken from a solved frame."""

    source: str  # id of the solver that it was of
    words: str = ""  # what it was, for a person
    acting: tuple[str, ...] | None = None  # ids of the aids that acted on it; None: all there are
    tables: dict[str, AdoptedTable]

    def arrays(self) -> set[str]:
        found = set()
        for table in self.tables.values():
            found |= {*table.columns.values()} | {n for n in (table.ids, table.rest) if n}
        return found


class StashedValue(Frozen):
    """A channel's value that is kept aside."""

    thing: str  # id
    channel: str
    value: Any

    @field_validator("value", mode="before")
    @classmethod
    def _read(cls, value):
        return _read_value(value)


class Clip(Frozen):
    """A named range of keys of a skeleton or of a subject's morph layers. The one that is played has its keys in
    place, on the channels; the others keep theirs here."""

    id: str = Field(default_factory=new_id)
    name: str
    first: int
    last: int
    loops: bool = False  # then `last` is the frame at which the first comes again, as it is of the scene's loop range
    speed: float = Field(default=1.0, allow_inf_nan=False)
    values: tuple[StashedValue, ...] | None = None  # None: in place

    source: str = ""  # of a bake: digest of what it was baked from, so that an old one is known
    layers: tuple[str, ...] = ()  # of a bake: ids of the layers whose motion it is

    @model_validator(mode="after")
    def _range(self):
        if self.last < self.first:
            raise ValueError("a clip may not end before it begins")
        return self

    @property
    def frames(self) -> list[int]:
        """The frames that are shown, in order; of a loop without the last one, which is the first again."""
        return list(range(self.first, self.last if self.loops and self.last > self.first else self.last + 1))


class MeshRef(Frozen):
    points: str  # float64 (n, 3), metres
    face_counts: str  # int32 (f,), corners of each face
    face_indices: str  # int32 (sum of counts,), vertex of each corner
    uv: str | None = None  # float32 (n, 2)
    source: str = ""  # name of the file it came from
    file: str = ""  # that file, where it is known: its path
    node: str = ""  # which of the file's nodes: their names down the tree
    fit: str = ""  # nine numbers, by which the file's points became ours
    materials: tuple[MaterialRef, ...] = ()
    face_materials: str | None = None  # int32 (f,), which material each face has
    corners: tuple[tuple[str, str], ...] = ()  # (name, float32 (sum of counts, k)): what each corner has by itself
    vertices: tuple[tuple[str, str], ...] = ()  # (name, float32 (n, k)): what vertices have besides `uv`
    faces: tuple[tuple[str, str], ...] = ()  # (name, float32 (f, k)): what faces have

    @property
    def content(self) -> tuple:
        """All arrays that say what it is at rest, for a digest."""
        return (self.points, self.face_counts, self.face_indices, self.uv, self.corners, self.vertices, self.faces)


_SERIALS = count(1)


class Thing(Frozen):
    """A subject, grip, force, layer or print: a kind, a name and the channels that differ from their defaults."""

    id: str = Field(default_factory=new_id)
    kind: str
    name: str
    on: bool = True
    values: dict[str, Any] = Field(default_factory=dict)
    mesh: MeshRef | None = None
    maps: tuple[WeightMap, ...] = ()
    targets: tuple[Target, ...] = ()
    spots: tuple[tuple[float, ...], ...] = ()  # a path's points, or the places of copies made by hand
    locked: tuple[str, ...] = ()  # channels that hands must not move
    stack: tuple["Thing", ...] = ()
    joints: tuple["Thing", ...] = ()  # of a skeleton
    rest: Rest | None = None  # of a joint
    bind: Bind | None = None  # of a layer that is bound once: a skin, a cage
    adopted: Adopted | None = None  # the state that a solver begins from
    clips: tuple[Clip, ...] = ()
    live: tuple[str, ...] = ()  # layers that a bake to keys switched off
    before: tuple[StashedValue, ...] = ()  # what the joints' channels were before it
    unknown: dict[str, Any] | None = None  # the raw thing, when its kind is not understood

    @field_validator("values", mode="before")
    @classmethod
    def _read_values(cls, values):
        if not isinstance(values, dict):
            raise ValueError("values must be a table of channels")
        return {name: _read_value(value) for name, value in values.items()}

    @model_validator(mode="after")
    def _fits_declaration(self):
        declared = self.declared
        for name, value in self.values.items():
            channel = declared.channels.get(name) if declared else None
            if channel and not isinstance(value, (Curve, Link, Formula, Opaque)):
                check_value(channel, value)
            elif channel and not isinstance(value, Opaque) and not channel.animates:
                if isinstance(value, (Curve, Link, Formula)):
                    raise ValueError(f"channel “{name}” cannot be keyed, linked or computed")
        if len(self.spots) > MOST_SPOTS:
            raise ValueError(f"{len(self.spots):,} points; at most {MOST_SPOTS:,} are read")
        if any(len(s) not in (3, 5) or not all(map(math.isfinite, s)) for s in self.spots):
            raise ValueError("a point needs 3 finite numbers, a copy's place 5")
        return self

    def with_(self, **changes):
        made = super().with_(**changes)
        made.__dict__.pop("_serial", None)  # it was copied along
        return made

    @property
    def serial(self) -> int:
        """A number that no other thing of this process has, nor this one as an edit made it."""
        found = self.__dict__.get("_serial")
        return found if found is not None else self.__dict__.setdefault("_serial", next(_SERIALS))

    @property
    def declared(self) -> type[Kind] | None:
        return kind_of(self.kind)

    def value(self, name: str):
        """The stored value: a constant, a Curve or an Opaque; the declared default when never set."""
        if name in self.values:
            return self.values[name]
        return self.declared.channels[name].default

    def curve(self, name: str) -> Curve | None:
        value = self.values.get(name)
        return value if isinstance(value, Curve) else None

    def constant(self, name: str):
        """The value of a channel that does not animate, within its hard range; the default where it is no constant."""
        value, channel = self.value(name), self.declared.channels[name]
        if isinstance(value, (Curve, Link, Formula, Opaque)):
            return channel.default
        return channel.clamp(value) if channel.type in ("number", "whole") else value

    def sources(self):
        """Yields (channel name, Source) for every channel of another thing that this one reads."""
        for name, value in self.values.items():
            if isinstance(value, Link):
                yield name, value.reads
            elif isinstance(value, Formula):
                yield from ((name, source) for source in value.inputs.values())

    @property
    def layers_on(self) -> list["Thing"]:
        """The layers of its stack that are on and that this version knows, from the top."""
        return [l for l in self.stack if l.on and l.declared is not None]

    def layers_of(self, *kinds: str) -> list["Thing"]:
        """The layers of some kinds in its stack, from the top."""
        return [l for l in self.stack if l.kind in kinds]

    def map(self, map_id: str | None) -> WeightMap | None:
        return next((m for m in self.maps if m.id == map_id), None)


def _read_value(value):
    if isinstance(value, (Curve, Link, Formula, Opaque)):
        return value
    if isinstance(value, dict):
        if "keys" in value:
            return Curve.model_validate(value)
        for kind, word in ((Link, "reads"), (Formula, "formula")):
            if word in value:
                try:
                    return kind.model_validate(value)
                except ValueError:  # what a newer version writes is kept as it is
                    return Opaque(raw=value)
        return Opaque(raw=value)
    if value is None or isinstance(value, (bool, int, float, str)):
        return value
    raise ValueError(f"a channel value may not be a {type(value).__name__}")


def check_value(channel: Channel, value) -> None:
    """Raises ValueError when a constant does not fit its channel."""
    if not _FITS[channel.type](channel, value):
        words = f" Its words are {', '.join(word for word, _ in channel.choices)}." if channel.choices else ""
        raise ValueError(f"channel “{channel.name}” ({channel.type}) cannot hold {shortened(repr(value), 100)}.{words}")


_FITS = {
    "number": lambda c, v: isinstance(v, (int, float)) and not isinstance(v, bool) and math.isfinite(v),
    "whole": lambda c, v: isinstance(v, int) and not isinstance(v, bool),
    "switch": lambda c, v: isinstance(v, bool),
    "choice": lambda c, v: any(v == word for word, _ in c.choices),
    "ref": lambda c, v: v is None or isinstance(v, str),
    "text": lambda c, v: isinstance(v, str),
}


class Document(Frozen):
    """Everything that is saved, but for the arrays that it names."""

    version: int = FILE_VERSION
    name: str = "Untitled"
    frame_rate: float = Field(default=24.0, gt=0, le=FASTEST)
    start: int = Field(default=1, ge=-FURTHEST_FRAME, le=FURTHEST_FRAME)
    end: int = Field(default=120, ge=-FURTHEST_FRAME, le=FURTHEST_FRAME)
    run_up: int = Field(default=0, ge=0, le=MOST_RUN_UP)  # frames that are solved before the first
    loop: tuple[int, int] | None = None  # first frame of the loop, and the frame that equals it again
    fade: int = Field(default=0, ge=0, le=MOST_RUN_UP)  # last frames of the loop faded into what came before its first
    things: tuple[Thing, ...] = ()  # subjects, grips, forces
    prints: tuple[Thing, ...] = ()

    @model_validator(mode="after")
    def _range(self):
        if self.end < self.start:
            raise ValueError("the last frame lies before the first")
        if self.loop is not None and not -FURTHEST_FRAME <= self.loop[0] < self.loop[1] <= FURTHEST_FRAME:
            raise ValueError("the loop's end must lie after its start")
        return self

    @property
    def loop_range(self) -> tuple[int, int]:
        """(first frame, the frame that equals it again): the chosen loop range, or the whole range and the frame
        after."""
        return self.loop or (self.start, self.end + 1)

    @property
    def solved_from(self) -> int:
        """The frame at which what is solved begins, from rest."""
        return self.start - self.run_up

    @property
    def solved_to(self) -> int:
        """The last frame that is solved: of a loop, one beyond the frame that equals the first, to judge its seam."""
        return max(self.end, self.loop[1] + 1) if self.loop else self.end

    def everything(self):
        """Yields (thing, owner); the owner of a layer is what has it in its stack, of a joint its skeleton, else
        None."""
        for thing in self.things:
            yield thing, None
            for part in (*thing.joints, *thing.stack):
                yield part, thing
        for item in self.prints:
            yield item, None

    def with_(self, **changes):
        made = super().with_(**changes)
        kept = made.__dict__  # what was known of this one was copied along
        for name in ("_made_by", "_owned"):
            kept.pop(name, None)
        if "_index" in kept:
            kept["_index_of"] = (self, kept.pop("_index"))
        if "things" not in changes and "prints" not in changes:
            kept["_made_by"] = (self, Changes([], []))
        return made

    @property
    def made_by(self) -> "tuple[Document, Changes | None]":
        """(the document that this one was made of, what changed at the top); itself and None where that was not told,
        or is told no more."""
        return self.__dict__.get("_made_by", (self, None))

    def settled(self) -> None:
        """Tell no more how it was made, so that nothing of that is kept."""
        _ = self.index
        self.__dict__.pop("_made_by", None)

    def _with(self, changes: Changes, **rows: tuple[Thing, ...]) -> "Document":
        """The document with other rows, of which it is known what changed."""
        _ = self.index  # whatever comes of it is mended from this one
        made = self.with_(**rows)
        made.__dict__["_made_by"] = (self, changes)
        return made

    def adding(self, *things: Thing) -> "Document":
        """The document with more things at its foot: prints in the press, all others among the things."""
        prints = tuple(t for t in things if t.declared is not None and t.declared.family == "print")
        rows: dict[str, tuple[Thing, ...]] = {"prints": (*self.prints, *prints)} if prints else {}
        if len(prints) < len(things):
            rows["things"] = (*self.things, *(t for t in things if t not in prints))
        return self._with(Changes([], list(things)), **rows)

    @property
    def index(self) -> Index:
        """What stands where, and who names whom; made once, from that of the document that this one was made of."""
        kept = self.__dict__
        found = kept.get("_index")
        if found is None:
            base, index = kept.get("_index_of", (None, None))
            made = Index.of(self) if base is None else index.mended(changed(base, self), self)
            found = kept["_index"] = made
            kept.pop("_index_of", None)
        return found

    def find(self, thing_id: str | None) -> Thing | None:
        return self.index.entries.get(thing_id, (None, None))[0] if isinstance(thing_id, str) else None

    def owner(self, thing_id: str) -> Thing | None:
        return self.index.entries.get(thing_id, (None, None))[1]

    def shape_of(self, thing: Thing) -> Thing | None:
        """The subject whose shape a thing shows: itself, or what it copies."""
        declared = thing.declared
        if declared is None or declared.shape_of is None:
            return None
        held = thing if declared.shape_of == "" else self.find(thing.constant(declared.shape_of))
        return held if held is not None and held.mesh is not None else None

    def of_kind(self, *kinds: str) -> list[Thing]:
        """The things of some kinds, in the order of the document."""
        return [t for t in self.things if t.kind in kinds]

    def owned_by(self, *owners: str) -> list[Thing]:
        """The things of some sorts of owners: "mesh", "skeleton", "grains", "copies"."""
        known = self.__dict__.setdefault("_owned", {})
        if owners not in known:
            known[owners] = [t for t in self.things if t.declared is not None and t.declared.owner in owners]
        return list(known[owners])

    @property
    def subjects(self) -> list[Thing]:
        return self.owned_by("mesh")

    @property
    def skeletons(self) -> list[Thing]:
        return self.owned_by("skeleton")

    @property
    def swarms(self) -> list[Thing]:
        """Swarms, liquids and whatever else has grains."""
        return self.owned_by("grains")

    def arrays(self) -> set[str]:
        """Digests of every array the document names."""
        names = set()
        for thing in self.things:
            names |= {m.weights for m in thing.maps} | {t.points for t in thing.targets}
            if thing.mesh:
                mesh = thing.mesh
                wanted = (mesh.points, mesh.face_counts, mesh.face_indices, mesh.uv, mesh.face_materials)
                names |= {name for name in wanted if name} | {
                    name for held in (mesh.corners, mesh.vertices, mesh.faces) for _, name in held
                }
                names |= {m.picture for m in mesh.materials if m.picture}
            for layer in (thing, *thing.stack):
                if layer.adopted:
                    names |= layer.adopted.arrays()
                if layer.bind:
                    names |= {n for n in (layer.bind.indices, layer.bind.weights, layer.bind.back) if n}
        return names

    def replace(self, thing: Thing) -> "Document":
        """The document with the thing of the same id replaced, wherever it stands."""

        return self.replace_all({thing.id: thing})

    def replace_all(self, changed: dict[str, Thing]) -> "Document":
        """The document with things replaced, by id, wherever they stand."""
        tops: dict[str, Thing] = {}
        for thing_id in changed:
            thing, owner = self.index.entries.get(thing_id, (None, None))
            if thing is not None:
                top = owner or thing
                tops[top.id] = top

        def swapped(parts):
            return tuple(changed.get(p.id, p) for p in parts)

        rows: dict[str, list[Thing]] = {}
        after: list[Thing] = []
        for top in tops.values():
            made = changed.get(top.id, top)
            names = [n for n in ("stack", "joints") if any(p.id in changed for p in getattr(made, n))]
            parts = {n: swapped(getattr(made, n)) for n in names}
            after.append(made.with_(**parts) if parts else made)
            where, at = "things", self.index.place(self.things, top)
            if at < 0:
                where, at = "prints", self.index.place(self.prints, top)
            rows.setdefault(where, list(getattr(self, where)))[at] = after[-1]
        if not tops:
            return self
        return self._with(Changes(list(tops.values()), after), **{n: tuple(row) for n, row in rows.items()})

    def remove(self, thing_id: str) -> "Document":
        def drop(items):
            return tuple(within(t) for t in items if t.id != thing_id)

        def within(thing):
            parts = {}
            for name in ("stack", "joints"):
                if any(p.id == thing_id for p in getattr(thing, name)):
                    parts[name] = drop(getattr(thing, name))
            return thing.with_(**parts) if parts else thing

        return self.with_(things=drop(self.things), prints=drop(self.prints))
