"""Skeletons, skins, blend shapes and their animations of an OpenUSD stage (UsdSkel), in."""

import numpy as np

from ..errors import EstampaError
from .asset import AssetClip, AssetSkin, Node, few


class Rigs:
    """What UsdSkel says of a stage: joints become nodes below their skeleton's own."""

    def __init__(self, path, stage, rate, start):
        from pxr import Usd, UsdSkel

        self.path, self.stage, self.rate, self.start = path, stage, rate, start  # what is read needs the stage
        self.cache, self.clips, self.left = UsdSkel.Cache(), [], []
        self._bound: dict[str, tuple] = {}  # path of a mesh -> (skinning query, skeleton query)
        self._numbers: dict[str, np.ndarray] = {}  # path of a skeleton -> numbers of its joints' nodes
        self._animations: dict[str, dict] = {}  # path of a skeleton -> number of a clip -> what animates it
        predicate = Usd.TraverseInstanceProxies()
        for prim in Usd.PrimRange(stage.GetPseudoRoot(), predicate):
            if not prim.IsA(UsdSkel.Root):
                continue
            root = UsdSkel.Root(prim)
            self.cache.Populate(root, predicate)
            others = [UsdSkel.Animation(p) for p in Usd.PrimRange(prim, predicate) if p.IsA(UsdSkel.Animation)]
            for binding in self.cache.ComputeSkelBindings(root, predicate):
                skeleton = self.cache.GetSkelQuery(binding.GetSkeleton())
                for target in binding.GetSkinningTargets():
                    self._bound[str(target.GetPrim().GetPath())] = (target, skeleton)
                self._animated(skeleton, others)

    def _animated(self, skeleton, others) -> None:
        """Number the animations of a skeleton: the one that is bound is of the clip that the stage itself is."""
        path = str(skeleton.GetPrim().GetPath())
        if path in self._animations:
            return
        own = self._animations[path] = {}
        bound = skeleton.GetAnimQuery()
        if bound:
            own[0] = bound
        names = set(skeleton.GetJointOrder())
        for other in others:
            query = self.cache.GetAnimQuery(other)
            if not query or (bound and other.GetPrim() == bound.GetPrim()) or not names & set(query.GetJointOrder()):
                continue
            times = query.GetJointTransformTimeSamples()
            if len(times):
                span = (times[0] / self.rate, times[-1] / self.rate)
                self.clips.append(AssetClip(other.GetPrim().GetName(), span))
                own[len(self.clips)] = query

    def name(self) -> str:
        """Of the animation that is bound, where one is."""
        return next((a[0].GetPrim().GetName() for a in self._animations.values() if 0 in a), "Animation")

    def samples(self) -> list[float]:
        """Time codes of what is bound."""
        found = []
        for own in self._animations.values():
            if 0 in own:
                found += [*own[0].GetJointTransformTimeSamples(), *own[0].GetBlendShapeWeightTimeSamples()]
        return found

    # -- joints ------------------------------------------------------------------------------------------------
    def joints(self, prim, above: int, count: int) -> list[Node]:
        """The joints of a skeleton as nodes below `above`; the first of them will be number `count`."""
        from pxr import UsdSkel

        query = self.cache.GetSkelQuery(UsdSkel.Skeleton(prim))
        path = str(prim.GetPath())
        if not query or path not in self._animations:
            return []
        names, parents = list(query.GetJointOrder()), np.array(query.GetTopology().GetParentIndices(), int)
        local = self._at_rest(query, parents)
        if local is None:
            self.left.append(f"the joints of {prim.GetName()}, which have no rest")
            return []
        self._numbers[path] = count + np.arange(len(names))
        course, moves = _Course(self, query, local, self._animations[path]), bool(self._animations[path])
        bound = self._animations[path].get(0)
        if bound is not None and len(bound.GetJointTransformTimeSamples()) < 2:  # a pose
            local = course.at(0.0, 0)
            moves = len(self._animations[path]) > 1
        found = []
        for k, name in enumerate(names):
            parent = above if parents[k] < 0 else count + int(parents[k])
            node = Node(name.rpartition("/")[2], parent, local[k])
            if moves:
                node.moves = lambda t, clip=0, k=k: course.at(t, clip)[k]
            found.append(node)
        return found

    def _at_rest(self, query, parents) -> np.ndarray | None:
        """(j, 4, 4) of joints within their parents: their rest, or else as they were bound."""
        if (parents >= np.arange(len(parents))).any():
            raise EstampaError(self.path.name, "has joints that come before what they hang on.", "Export it again.")
        given = query.ComputeJointLocalTransforms(self.start, True)
        if given is not None and len(given) == len(parents):
            return np.array(given, float).transpose(0, 2, 1)
        bind = query.GetJointWorldBindTransforms()
        if bind is None or len(bind) != len(parents):
            return None
        bind = np.array(bind, float).transpose(0, 2, 1)
        inside = parents >= 0
        found = bind.copy()
        found[inside] = np.linalg.inv(bind[parents[inside]]) @ bind[inside]
        return found

    # -- meshes ------------------------------------------------------------------------------------------------
    def bind(self, prim, node: Node) -> None:
        """Give a mesh's node its skin and its morph targets."""
        target, query = self._bound.get(str(prim.GetPath()), (None, None))
        if target is None or node.mesh is None:
            return
        path = str(query.GetPrim().GetPath())
        what = f"{self.path.name}, {prim.GetName()}"
        self._blended(prim, node, path, what)
        if not target.HasJointInfluences() or path not in self._numbers:
            return
        found = target.ComputeVaryingJointInfluences(node.mesh.count, self.start)
        if found is None:
            self.left.append(f"the skin of {prim.GetName()}, whose weights do not fit its points")
            return
        wide = target.GetNumInfluencesPerComponent()
        indices = np.array(found[0], np.int32).reshape(-1, wide)
        weights = np.array(found[1], np.float32).reshape(-1, wide)
        if not (np.isfinite(weights).all() and (weights >= 0).all()):
            raise EstampaError(what, "has weights that are not numbers, or negative.", "Export it again.")
        names, own = list(query.GetJointOrder()), target.GetJointOrder()
        order = [names.index(n) for n in own if n in names] if own else list(range(len(names)))
        bind = query.GetJointWorldBindTransforms()
        if (own and len(order) != len(own)) or bind is None or len(bind) != len(names):
            self.left.append(f"the skin of {prim.GetName()}, whose joints are not those of its skeleton")
            return
        if indices.min(initial=0) < 0 or indices.max(initial=0) >= len(order):
            raise EstampaError(what, "has weights of a joint that its skin does not have.", "Export it again.")
        into = np.array(target.GetGeomBindTransform(self.start), float).T
        bound = np.array(bind, float).transpose(0, 2, 1)[order]
        if not (np.abs(np.linalg.det(bound)) > 1e-30).all():
            raise EstampaError(what, "is bound to a joint that has no size.", "Bind it again where it was made.")
        back = np.linalg.inv(bound) @ into
        node.skin = AssetSkin(self._numbers[path][order], back, *few(indices, weights))

    def _blended(self, prim, node, path, what) -> None:
        from pxr import UsdSkel

        api = UsdSkel.BindingAPI(prim)
        names, targets = api.GetBlendShapesAttr().Get(), api.GetBlendShapeTargetsRel().GetTargets()
        for name, at in zip(names or (), targets, strict=False):
            shape = UsdSkel.BlendShape(self.stage.GetPrimAtPath(at))
            offsets = np.array(shape.GetOffsetsAttr().Get() or [], float).reshape(-1, 3) if shape else None
            if offsets is None:
                continue
            which = shape.GetPointIndicesAttr().Get()
            which = np.array(which, int) if which is not None and len(which) else np.arange(len(offsets))
            if len(which) != len(offsets) or which.min(initial=0) < 0 or which.max(initial=0) >= node.mesh.count:
                cause = f"has a blend shape ({name}) that does not fit its points."
                raise EstampaError(what, cause, "Export it again.")
            if shape.GetInbetweens():
                self.left.append(f"what lies on the way to {name}")
            away = np.zeros((node.mesh.count, 3))
            away[which] = offsets
            node.targets.append((str(name), away))
        own = self._animations.get(path, {})
        if not node.targets or not any(a.GetBlendShapeOrder() for a in own.values()):
            return
        words = [n for n, _ in node.targets]

        def felt(t, clip=0):
            from pxr import Usd

            found = np.zeros(len(words))
            if clip in own:
                order, weights = list(own[clip].GetBlendShapeOrder()), own[clip].ComputeBlendShapeWeights(
                    Usd.TimeCode(t * self.rate)
                )  # fmt: skip
                for k, word in enumerate(words):
                    found[k] = weights[order.index(word)] if word in order and weights is not None else 0.0
            return found

        node.felt = felt


class _Course:
    """How the joints of a skeleton stand over time; the last moment is kept, for each joint asks for it by itself."""

    def __init__(self, rigs, query, rest, animations):
        self.rigs, self.rest, self.animations, self._last = rigs, rest, animations, (None, None)
        number = {name: k for k, name in enumerate(query.GetJointOrder())}
        order = lambda a: np.array([number.get(n, -1) for n in a.GetJointOrder()], int)
        self.mapped = {clip: order(a) for clip, a in animations.items()}

    def at(self, seconds: float, clip: int) -> np.ndarray:
        """(j, 4, 4) within their parents."""
        if self._last[0] != (seconds, clip):
            self._last = ((seconds, clip), self._read(seconds, clip))
        return self._last[1]

    def _read(self, seconds, clip):
        from pxr import Usd

        given = None
        if clip in self.animations:
            given = self.animations[clip].ComputeJointLocalTransforms(Usd.TimeCode(seconds * self.rigs.rate))
        if given is None:
            return self.rest
        found, to = self.rest.copy(), self.mapped[clip]  # an animation may have but some of the joints
        found[to[to >= 0]] = np.array(given, float).transpose(0, 2, 1)[to >= 0]
        return found
