"""Assets: a thing with all that belongs to it, kept as a small scene file that can be put into other scenes."""

import os
from pathlib import Path
from typing import NamedTuple

import platformdirs

from ..errors import EstampaError
from ..scene.document import Document, Thing
from ..scene.file import load_scene, write_scene
from ..scene.ids import new_id
from ..scene.scene import Scene
from ..scene.skins import skins_of
from ..scene.values import PLACE
from .names import Names, thing_named
from .repose import reposed
from .things import with_ids

ENDING = ".estampa"


def folder() -> Path:
    """Where assets are kept: ESTAMPA_ASSETS says so, or the user's data folder."""
    return Path(os.environ.get("ESTAMPA_ASSETS") or Path(platformdirs.user_data_dir("estampa")) / "assets")


def kept(where: Path | None = None) -> list[Path]:
    """The assets of a folder, by name. Beside each may be a picture of the same name (.png)."""
    found = (where or folder()).glob(f"*{ENDING}")
    return sorted(found, key=lambda path: path.stem.lower())


def belongs(doc: Document, thing_id: str) -> list[Thing]:
    """A thing and all that it cannot do without, in the order of the document: what it names, what carries it or its
    skin, what rides on it, and the ensembles that its layers play in."""
    owner = doc.owner(thing_id)
    wanted, seen = [(owner or doc.find(thing_id)).id], set()
    named = {t.id: _named(t, {o.id for o in doc.things}) for t in doc.things}
    joints = {j.id: t.id for t in doc.things for j in t.joints}
    for thing in doc.things:
        named[thing.id] |= {joints[i] for i in _named(thing, set(joints))} - {thing.id}
    while wanted:
        own = wanted.pop()
        if own in seen:
            continue
        seen.add(own)
        wanted += [i for i in named[own] if i not in seen]
        for other in doc.things:
            if other.id in seen or own not in named[other.id]:
                continue
            skinned = bool(other.layers_of("skin", "cage"))
            rides = other.declared is not None and "parent" in other.declared.channels
            if skinned or (rides and _rides_on(other, own, joints)):
                wanted.append(other.id)
    return [t for t in doc.things if t.id in seen and (not _is_of_the_scene(t) or t.id == thing_id)]


def _is_of_the_scene(thing: Thing) -> bool:
    """Whether it is a force that belongs to none of the things of a scene."""
    declared = thing.declared
    return declared is not None and declared.family == "force" and not declared.goes_along


def _rides_on(thing: Thing, own: str, joints: dict[str, str]) -> bool:
    parent = thing.constant("parent")
    return parent is not None and own in (parent, joints.get(parent))


def _named(thing: Thing, ids: set[str]) -> set[str]:
    """Which of these ids a thing names anywhere in its channels, layers, joints or links."""
    text = thing.model_dump_json()
    return {i for i in ids if i != thing.id and i in text}


def keep(scene: Scene, thing_id: str, name: str, where: Path | None = None) -> Path:
    """Keep a thing as an asset of that name. Raises EstampaError when the name is none, or the disk refuses."""
    word = name.strip()
    if not word or any(c in word for c in '/\\:*?"<>|') or word.startswith("."):
        raise EstampaError(f"“{name}”", "cannot be the name of an asset.", "Use letters, numbers and spaces.")
    doc = scene.doc
    things = belongs(doc, thing_named(scene, thing_id).id)
    path = (where or folder()) / f"{word}{ENDING}"
    path.parent.mkdir(parents=True, exist_ok=True)
    part = Document(name=word, frame_rate=doc.frame_rate, start=doc.start, end=doc.end, things=tuple(things))
    write_scene(scene, path, part)
    return path


def put(scene: Scene, path: str | Path) -> list[Thing]:
    """Put an asset into a scene, in one step of the history; returns its things. Its layers are solved together with
    those of the scene, in the ensembles of their kind that are there."""
    doc, made = _with_asset(scene, path)
    scene.apply(f"Put {Path(path).stem}", doc)
    return made


def _with_asset(scene: Scene, path: str | Path) -> tuple[Document, list[Thing]]:
    """(the document with an asset, its things)."""
    other, doc, ids = load_scene(path), scene.doc, {}
    names, together = Names(doc), set()
    for thing in other.doc.things:
        ids |= {t.id: new_id() for t in (thing, *thing.stack, *thing.joints, *thing.clips)}
        ensemble = thing.declared is not None and thing.declared.family == "ensemble"
        here = next(iter(doc.of_kind(thing.kind)), None) if ensemble else None
        if here is not None:
            ids[thing.id] = here.id
            together.add(thing.id)
    own = [t for t in other.doc.things if t.id not in together]
    made = [with_ids(t, ids).with_(name=names.plain(t.name)) for t in own]
    scene.arrays.take(other.arrays)  # under the names that they have: those of older files are of another sort
    return doc.adding(*made), made


class Replaced(NamedTuple):
    """skeleton -- the new one; alone -- names of joints of the old one that are posed and found no partner in it."""

    skeleton: Thing
    alone: tuple[str, ...]

    def __str__(self) -> str:
        if not self.alone:
            return f"{self.skeleton.name} has the pose and the keys of the old one."
        names = ", ".join(self.alone[:4]) + (f" and {len(self.alone) - 4} more" if len(self.alone) > 4 else "")
        return f"{self.skeleton.name} has no joint for {names}: their pose and keys are left behind."


def replace(scene: Scene, path: str | Path, skeleton_id: str) -> Replaced:
    """Put an asset in the place of a skeleton: where that stands, with the pose and the keys that hands gave it (joints
    by name, or by which part of a body they are). The old one and its skins are switched off. In one step of the
    history."""
    old = thing_named(scene, skeleton_id)
    doc, made = _with_asset(scene, path)
    fresh = next((t for t in made if t.joints), None)
    if fresh is None:
        raise EstampaError(Path(path).stem, "has no skeleton.", "Choose an asset that is a figure.")
    joints, alone = reposed(scene.values, old, fresh, scene.doc.start)
    stand = {n: v for n, v in old.values.items() if n in (*PLACE, "parent")}
    doc = doc.replace(fresh.with_(joints=joints, values={**fresh.values, **stand}))
    for thing in scene.doc.things:
        skinned = any(l.constant("skeleton") == skeleton_id for l in skins_of(thing))
        if thing.id == skeleton_id or skinned:
            doc = doc.replace(thing.with_(on=False))
    scene.apply(f"Put {Path(path).stem} in the place of {old.name}", doc)
    return Replaced(scene.doc.find(fresh.id), alone)
