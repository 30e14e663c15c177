"""Commands that set up a plant rig: maps by island, a layer on each, and small differences between them."""

import numpy as np

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..hashing import rand
from ..scene.document import Formula, Thing, WeightMap
from ..scene.scene import Scene
from ..units import to_shown
from .names import declared_kind, thing_named, unique_name

# channels that are varied, and by how much at full strength: a share of the value, or so much either way
SHARES = ("angle", "height", "aside", "scale")
AMOUNTS = {"phase": 0.5, "heading": np.pi / 2}


def island_groups(mesh: Mesh, every: int = 1) -> list[np.ndarray]:
    """Islands in groups of `every`, each group's members as far round the middle from one another as can be, so that
    neighbours are in different groups."""
    count, middle = mesh.island_count, mesh.island_middles
    away = middle - middle.mean(axis=0)
    order = np.argsort(np.arctan2(away[:, 0], away[:, 2]), kind="stable")
    groups = max(1, -(-count // max(every, 1)))
    # walking round, the k-th island goes to group k modulo the number of groups: members lie opposite each other
    return [order[g::groups] for g in range(groups)]


def maps_by_island(scene: Scene, subject_id: str, every: int = 1) -> list[WeightMap]:
    """Make a weight map for each island, or for every n islands together, in one step of the history."""
    subject = thing_named(scene, subject_id)
    mesh = scene.mesh(subject.mesh)
    groups = island_groups(mesh, every)
    if len(groups) > 500:
        raise EstampaError(
            subject.name,
            f"has {mesh.island_count:,} islands, which would be {len(groups):,} maps.",
            "Take more islands together, or weld the mesh when it is imported.",
        )
    taken, made = {m.name for m in subject.maps}, []
    for g, group in enumerate(groups, 1):
        word = "Island" if every <= 1 else "Islands"
        name = f"{word} {g}"
        while name in taken:
            name += " b"
        taken.add(name)
        weights = np.isin(mesh.islands, group).astype(np.float32)
        made.append(WeightMap(name=name, weights=scene.arrays.put(weights)))
    scene.apply(f"Map by island on {subject.name}", scene.doc.replace(subject.with_(maps=(*subject.maps, *made))))
    return made


def layer_by_map(
    scene: Scene,
    subject_id: str,
    kind: str,
    maps: list[str],
    grip: str | dict | None = None,
    values: dict | None = None,
    different: float = 0.0,
    seed: int = 1,
) -> list[Thing]:
    """Put a layer on each weight map, all reading one grip, and vary them a little by seed.

    grip -- id of the grip, or the values of a new one that comes in the same step of the history
    """
    subject, declared = thing_named(scene, subject_id), declared_kind(kind)
    doc, layers = scene.doc, []
    if isinstance(grip, dict):
        holder = Thing(kind="grip", name=unique_name(doc, f"{subject.name} control"), values=grip)
        doc, grip = doc.adding(holder), holder.id
    for map_id in maps:
        found = subject.map(map_id)
        if found is None:
            raise EstampaError(subject.name, "has no such weight map.", "Make the maps first.", map_id)
        own = {**(values or {}), "map": map_id, **({"grip": grip} if grip else {})}
        layers.append(Thing(kind=kind, name=unique_name(doc, f"{declared.title} {found.name.lower()}"), values=own))
    layers = [
        l.with_(values={**l.values, **v}) for l, v in zip(layers, differences(layers, different, seed), strict=True)
    ]
    changed = subject.with_(stack=(*subject.stack, *layers))
    scene.apply(f"{declared.title} on {len(layers)} maps of {subject.name}", doc.replace(changed))
    return layers


def make_different(scene: Scene, layer_ids: list[str], strength: float = 0.2, seed: int = 1) -> None:
    """Make layers a bit different in angle, axis and phase, about the mean of what they are now. Keyed, linked and
    locked channels are left alone."""
    layers = [thing_named(scene, i) for i in layer_ids]
    if len(layers) < 2:
        raise EstampaError(
            "“Make them different”", "needs at least two layers of one kind.", "Put a layer on each map first."
        )
    doc = scene.doc
    for layer, values in zip(layers, differences(layers, strength, seed), strict=True):
        doc = doc.replace(layer.with_(values={**layer.values, **values}))
    scene.apply(f"Make {len(layers)} layers different", doc)


def differences(layers: list[Thing], strength: float, seed: int) -> list[dict]:
    """New values for each layer, by chance about the mean of all; each depends only on (seed, its place, channel)."""
    result = [{} for _ in layers]
    if strength <= 0 or not layers:
        return result
    for name, channel in layers[0].declared.channels.items():
        if name not in SHARES and name not in AMOUNTS:
            continue
        plain = [k for k, l in enumerate(layers) if isinstance(l.value(name), (int, float)) and name not in l.locked]
        if not plain:
            continue
        middle = float(np.mean([layers[k].value(name) for k in plain]))
        middle = 0.0 if name in AMOUNTS else middle
        chance = 2 * rand(seed, np.array(plain), f"different {name}") - 1
        for k, c in zip(plain, chance, strict=True):
            value = AMOUNTS[name] * strength * c if name in AMOUNTS else middle * (1 + strength * c)
            result[k][name] = channel.clamp(float(value))
    return result


def differing_by_copy(subject: Thing, strength: float, seed: int) -> Thing:
    """The subject with what its layers are given differing from copy to copy by chance, by formulas, up to a share of
    the values either way: the shape of the motion is then another in each. What is computed, keyed or locked stays."""
    stack = []
    for k, layer in enumerate(subject.stack):
        values = {}
        for name in SHARES if layer.on else ():
            channel = layer.declared.channels.get(name) if layer.declared is not None else None
            value = layer.value(name) if channel is not None else None
            if channel is None or not isinstance(value, (int, float)) or not value or name in layer.locked:
                continue
            share = f"{strength:g} * (2 * rand(i, {1000 * seed + 10 * k + SHARES.index(name)}) - 1)"
            values[name] = Formula(formula=f"{to_shown(value, channel.unit):.9g} * (1 + {share})")
        stack.append(layer.with_(values={**layer.values, **values}) if values else layer)
    return subject.with_(stack=tuple(stack))


def by_hand(scene: Scene, copies_id: str) -> None:
    """Turn copies that are arranged by rule into copies placed by hand, each where it stands now."""
    copies = thing_named(scene, copies_id)
    subject = scene.doc.find(copies.constant("subject"))
    if subject is None:
        raise EstampaError(copies.name, "copies nothing.", "Choose its subject first.")
    evaluator = scene.evaluator()
    many = evaluator.stage.many(copies, subject, scene.doc.start)
    pivot = evaluator.values.place(subject, many.rows.one(scene.doc.start)).origin[0]
    stand = many.copy.moved(pivot)
    turn = np.arctan2(many.copy.axes[:, 0, 2], many.copy.axes[:, 2, 2])
    rows = np.column_stack([stand, turn, many.copy.size])
    values = {n: v for n, v in copies.values.items() if n not in ("spin", "sizes", "face", "lean_out")} | {
        "arrange": "hand"
    }
    changed = copies.with_(values=values, spots=tuple(map(tuple, rows.tolist())))
    scene.apply(f"{copies.name} by hand", scene.doc.replace(changed))
