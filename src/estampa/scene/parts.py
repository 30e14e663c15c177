"""Parts of a skeleton that a layer takes: a range of joints, one kind of branch at once, or joints by their names."""

from fnmatch import fnmatchcase

import numpy as np

from ..kinds.channels import choice, ref, text
from ..kinds.registry import Kind
from .bones import Bones

KINDS = {
    "all": "All of them",
    "trunk": "Trunk: before it first divides",
    "branches": "Branches: what divides again",
    "leaves": "Leaves: what divides no more",
}


class OnPart(Kind):
    """Base of what takes a part of a skeleton."""

    first = ref("joint", "The joint it begins at; none takes the whole skeleton.", title="From joint")
    last = ref("joint", "The joint it ends at; none takes all that hang on the first.", title="To joint")
    only = choice("all", "Which of those: all, or one kind of branch at once.", KINDS, title="Parts")
    named = text("", "Of those only joints of these names; * stands for anything, commas part them: “Leaf *, Bud”.")


def joints_of(bones: Bones, v) -> np.ndarray:
    """(m,) the joints that a layer takes, parents first. v -- `first`, `last` (numbers or None), `only`, `named`"""
    key = ("part", *(v[n] for n in ("first", "last", "only", "named")))
    return bones.kept(key, lambda: _joints(bones, v))


def _joints(bones: Bones, v) -> np.ndarray:
    chain = bones.chain(v["first"], v["last"])
    if v["only"] != "all":
        kind = _kinds(bones, chain)
        chain = chain[[kind[i] == v["only"] for i in chain.tolist()]]
    if v["named"].strip():
        wanted = [w.strip() for w in v["named"].split(",") if w.strip()]
        chain = chain[[any(fnmatchcase(bones.joints[i].name, w) for w in wanted) for i in chain.tolist()]]
    return chain


def _kinds(bones: Bones, chain: np.ndarray) -> dict[int, str]:
    """Each joint's kind: what comes before the first joint that several hang on is the trunk; of what comes after, what
    divides again further on are branches, and the rest leaves."""
    inside = set(chain.tolist())
    below = {i: [c for c in bones.children[i] if c in inside] for i in inside}
    trunk, divides = {}, {}
    for i in chain.tolist():
        p = int(bones.parents[i])
        trunk[i] = p not in inside or (trunk[p] and len(below[p]) == 1)
    for i in chain.tolist()[::-1]:
        divides[i] = len(below[i]) > 1 or any(divides[c] for c in below[i])
    return {i: "trunk" if trunk[i] else "branches" if divides[i] else "leaves" for i in inside}
