"""Skins: the layers by which a mesh follows a skeleton. A kind of layer says by `follows_skeleton` that it is one."""

from collections.abc import Iterator

from .document import Document, Thing


def is_skin(layer: Thing) -> bool:
    """Whether a layer carries points with a skeleton."""
    return layer.declared is not None and getattr(layer.declared, "follows_skeleton", False)


def skins_of(subject: Thing, bound: bool = False) -> list[Thing]:
    """The skin layers in a stack, from the top; bound -- those alone that have their weights."""
    return [l for l in subject.stack if is_skin(l) and (l.bind is not None or not bound)]


def followed(doc: Document, layer: Thing) -> Thing | None:
    """The skeleton that a skin layer follows."""
    return doc.find(layer.constant("skeleton")) if is_skin(layer) else None


def skins_on(doc: Document, skeleton: Thing) -> Iterator[tuple[Thing, Thing]]:
    """(subject, bound skin layer) of all that follow a skeleton."""
    for subject in doc.subjects:
        for layer in skins_of(subject, bound=True):
            if layer.constant("skeleton") == skeleton.id:
                yield subject, layer
