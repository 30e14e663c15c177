"""OpenUSD, in: the tree of prims with their meshes, materials, pictures, cameras and time samples.

Prims that are instances are read as if each were there by itself. Payloads are loaded; variants are those that the file
selects. Nothing outside the file's own folder is read.
"""

import os
import re
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..geometry.material import Material, Picture
from ..geometry.mesh import Mesh
from . import usd_open
from .asset import MOST_NODES, MOST_PICTURE, MOST_SETS, Asset, AssetClip, Attribute, Node, by_corner, made
from .usd_rig import Rigs

KNOWN = ("normals", "displayColor", "displayOpacity")
PLAIN = ("float[]", "float2[]", "float3[]", "float4[]", "color3f[]", "vector3f[]", "double[]", "int[]")


def read(path: Path, progress) -> Asset:
    stage = usd_open.stage(path)
    progress(0.1, "Reading")
    rate = stage.GetTimeCodesPerSecond() or 24.0
    reader = _UsdReader(path, stage, rate)
    nodes = reader.nodes(progress)
    for err in stage.GetCompositionErrors():
        named = re.findall(r"@([^@]+)@", str(err))
        what = f"“{Path(named[0]).name}”" if named else str(err)[:80]
        reader.left.append(f"what it refers to in {what}, which is not there or cannot be read")
    return Asset(path, nodes, *measures(stage), reader.clips(), rate, reader.left)


def measures(stage) -> tuple[float, str]:
    """(metres that a unit of a stage is, "y" or "z")."""
    from pxr import Tf, UsdGeom

    up = "z" if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z else "y"
    try:
        return float(UsdGeom.GetStageMetersPerUnit(stage)), up
    except Tf.ErrorException:  # written as a float, which the library wants to be a double
        return float(stage.GetPseudoRoot().GetMetadata("metersPerUnit")), up


def looks_of(path: Path, stage):
    """What tells, of a prim that a material is bound to, its mesh and some corners (t, 3), the material and where they
    lie in its picture (t, 3, 2), as {"material", "uv"}; nothing where it has no picture."""
    from pxr import UsdGeom, UsdShade

    reader = _UsdReader(path, stage, stage.GetTimeCodesPerSecond() or 24.0)

    def look(bound, prim, corners) -> dict:
        material = UsdShade.MaterialBindingAPI(bound).ComputeBoundMaterial()[0]
        made = reader._made(material) if material else None
        if made is None or (made.picture is None and not made.missing):
            return {}
        mesh, primvar = UsdGeom.Mesh(prim), UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance(made.uv)
        values = primvar.ComputeFlattened(reader.start) if primvar and primvar.HasValue() else None
        if values is None:
            return {}
        counts, indices = (np.array(reader._get(a), int) for a in
                           (mesh.GetFaceVertexCountsAttr(), mesh.GetFaceVertexIndicesAttr()))  # fmt: skip
        count = len(reader._get(mesh.GetPointsAttr()))
        own = _spread(np.array(values, np.float32), primvar.GetInterpolation(), count, counts, indices, True)
        if own is None:
            return {}
        rows = own.values if own.domain == "corners" else own.values[indices]
        return {"material": made, "uv": rows[corners]}

    return look


class _UsdReader:
    def __init__(self, path, stage, rate):
        from pxr import Usd, UsdGeom

        self.path, self.stage, self.rate = path, stage, rate
        self.left: list[str] = []
        ranged = stage.HasAuthoredTimeCodeRange()
        self.start = Usd.TimeCode(stage.GetStartTimeCode()) if ranged else Usd.TimeCode.EarliestTime()
        self._cache = UsdGeom.XformCache(self.start)
        self.rigs = Rigs(path, stage, rate, self.start)
        self._materials: dict[str, Material] = {}
        self._meshes: dict[str, Mesh] = {}
        self._samples: list[float] = []
        self.sets: dict[str, str] = {}  # of the mesh that is read: names of its texture coordinates -> ours

    def clips(self) -> list[AssetClip]:
        """What the stage itself plays, and behind it the animations that skeletons have besides."""
        times = [*self._samples, *self.rigs.samples()]
        if not times:
            return self.rigs.clips if self.rigs.clips else []
        first, last = min(times), max(times)
        if self.stage.HasAuthoredTimeCodeRange():
            first, last = self.stage.GetStartTimeCode(), self.stage.GetEndTimeCode()
        return [AssetClip(self.rigs.name(), (first / self.rate, last / self.rate)), *self.rigs.clips]

    def nodes(self, progress) -> list[Node]:
        from pxr import Usd, UsdGeom, UsdLux

        found, number, lights, prims, every = [], {}, 0, [], Usd.TraverseInstanceProxies()
        stage = iter(Usd.PrimRange(self.stage.GetPseudoRoot(), every))
        for prim in stage:
            prims.append(prim)
            if prim.IsA(UsdGeom.PointInstancer):
                stage.PruneChildren()  # what it has instances of is not there by itself
            self._no_more_than(len(prims))
        for count, prim in enumerate(prims):
            progress(0.1 + 0.8 * count / len(prims), "Reading meshes")
            if prim.HasAPI(UsdLux.LightAPI):
                lights += 1
            if not prim.IsA(UsdGeom.Imageable) or not prim.IsA(UsdGeom.Xformable):
                continue
            if UsdGeom.Imageable(prim).ComputePurpose() in (UsdGeom.Tokens.guide, UsdGeom.Tokens.proxy):
                continue
            if UsdGeom.Imageable(prim).ComputeVisibility(self.start) == UsdGeom.Tokens.invisible:
                self.left.append(f"{prim.GetName()}, which is hidden")
                continue
            parent = prim.GetParent()
            while parent and parent.GetPath() not in number and not parent.IsPseudoRoot():
                parent = parent.GetParent()
            node = self._node(prim, number.get(parent.GetPath(), -1))
            number[prim.GetPath()] = len(found)
            found.append(node)
            if prim.IsA(UsdGeom.PointInstancer):
                found += self._instances(prim, len(found) - 1)
                self._no_more_than(len(found))
            elif prim.GetTypeName() == "Skeleton":
                found += self.rigs.joints(prim, len(found) - 1, len(found))
        for path, i in number.items():
            if found[i].mesh is not None:
                self.rigs.bind(self.stage.GetPrimAtPath(path), found[i])
                for j in found[i].skin.joints if found[i].skin is not None else ():
                    found[j].joint = True
        if lights:
            self.left.append(f"{lights} light{'s' if lights > 1 else ''}")
        self.left += self.rigs.left
        return self._pruned(found)

    def _no_more_than(self, count) -> None:
        if count > MOST_NODES:
            raise EstampaError(self.path.name, f"has more than {MOST_NODES:,} prims.", "Flatten or join it.")

    def _node(self, prim, parent) -> Node:
        from pxr import Usd, UsdGeom

        xform = UsdGeom.Xformable(prim)
        node = Node(prim.GetName(), parent, self._local(xform, self.start))
        times = xform.GetTimeSamples()
        if len(times) > 1:
            self._samples += [times[0], times[-1]]
            moves = lambda t: self._local(xform, Usd.TimeCode(t * self.rate))
            node.moves = lambda t, clip=0: node.local if clip else moves(t)
        if prim.IsA(UsdGeom.Mesh):
            self._mesh_of(prim, node)
        elif prim.IsA(UsdGeom.Camera):
            camera = UsdGeom.Camera(prim).GetCamera(self.start)
            node.view = float(np.radians(camera.GetFieldOfView(camera.FOVVertical)))
        elif prim.IsA(UsdGeom.Gprim):
            self.left.append(f"{prim.GetName()} ({prim.GetTypeName()})")
        return node

    def _instances(self, prim, parent) -> list[Node]:
        """A node for each instance of a PointInstancer and each mesh of what it shows, in its place."""
        from pxr import Usd, UsdGeom

        instancer, name = UsdGeom.PointInstancer(prim), prim.GetName()
        which = instancer.GetProtoIndicesAttr().Get(self.start)
        which = np.array(instancer.GetProtoIndicesAttr().Get() if which is None else which, int)
        targets, mask = instancer.GetPrototypesRel().GetTargets(), instancer.ComputeMaskAtTime(self.start)
        at = lambda time: np.array(instancer.ComputeInstanceTransformsAtTime(
            time, time, instancer.IncludeProtoXform, instancer.IgnoreMask), float).reshape(-1, 4, 4)  # fmt: skip
        stands = at(self.start)
        if len(stands) != len(which) or (len(which) and not 0 <= which.min() <= which.max() < len(targets)):
            self.left.append(f"the instances of {name}, which do not fit what they show")
            return []
        shown = [self._shown(self.stage.GetPrimAtPath(t)) for t in targets]
        self._no_more_than(sum(len(shown[w]) for w in which))
        times = sorted({t for a in (instancer.GetPositionsAttr(), instancer.GetOrientationsAttr(),
                                    instancer.GetScalesAttr()) for t in a.GetTimeSamples()})  # fmt: skip
        if len(times) > 1 and len({len(at(Usd.TimeCode(t))) for t in times}) > 1:
            self.left.append(f"how the instances of {name} come and go")
            times = []
        self._samples += [times[0], times[-1]] if len(times) > 1 else []
        kept: dict = {}

        def moved(t, k):
            if kept.get("at") != t:
                kept.update(at=t, stands=at(Usd.TimeCode(t * self.rate)))
            return kept["stands"][k].T

        found = []
        for k, w in enumerate(which):
            if len(mask) and not mask[k]:
                continue
            for inner, mesh, source in shown[w]:
                node = Node(f"{name} {k + 1}", parent, stands[k].T @ inner, mesh)
                if len(times) > 1:
                    node.moves = lambda t, clip=0, k=k, inner=inner: moved(t, k) @ inner
                if source and source not in self.left:
                    self.left.append(source)
                found.append(node)
        return found

    def _shown(self, root) -> list[tuple[np.ndarray, Mesh, str]]:
        """((4, 4) within a prototype, mesh, what is left out of it) of each mesh that it has."""
        from pxr import Usd, UsdGeom

        found, home = [], np.linalg.inv(np.array(self._cache.GetLocalToWorldTransform(root), float).T)
        for prim in Usd.PrimRange(root, Usd.TraverseInstanceProxies()):
            if prim.IsA(UsdGeom.Mesh):
                node = Node(prim.GetName())
                self._mesh_of(prim, node)
                if node.mesh is not None:
                    inner = home @ np.array(self._cache.GetLocalToWorldTransform(prim), float).T
                    lost = f"how the points of {node.name} move, of which there are instances"
                    found.append((inner, node.mesh, lost if node.points_at else ""))
        return found

    @staticmethod
    def _pruned(nodes) -> list[Node]:
        """Without branches that hold nothing."""
        kept = np.array([n.mesh is not None or n.view is not None or n.joint for n in nodes], bool)
        for i in range(len(nodes) - 1, -1, -1):
            if kept[i] and nodes[i].parent >= 0:
                kept[nodes[i].parent] = True
        number = np.cumsum(kept) - 1
        found = [n for n, k in zip(nodes, kept, strict=True) if k]
        for node in found:
            node.parent = int(number[node.parent]) if node.parent >= 0 else -1
            if node.skin is not None:
                node.skin.joints = number[node.skin.joints]
        return found

    def _local(self, xform, time) -> np.ndarray:
        """(4, 4); a stack that starts anew is of the world, which is told as if it were of its parent."""
        matrix = np.array(xform.GetLocalTransformation(time), float).T
        if xform.GetResetXformStack():
            parent = self._cache.GetParentToWorldTransform(xform.GetPrim())
            matrix = np.linalg.inv(np.array(parent, float).T) @ matrix
        return matrix

    # -- meshes ------------------------------------------------------------------------------------------------
    def _mesh_of(self, prim, node) -> None:
        from pxr import UsdGeom

        mesh = UsdGeom.Mesh(prim)
        points = mesh.GetPointsAttr()
        times = points.GetTimeSamples()
        if len(times) > 1:
            self._samples += [times[0], times[-1]]
            node.points_at = str(prim.GetPath())
            if len(mesh.GetFaceVertexCountsAttr().GetTimeSamples()) > 1:
                node.points_at = ""
                self.left.append(f"how the faces of {prim.GetName()} change over time")
        source = prim.GetPrimInPrototype().GetPath() if prim.IsInstanceProxy() else prim.GetPath()
        if str(source) not in self._meshes:
            self._meshes[str(source)] = self._mesh(prim, mesh)
        node.mesh = self._meshes[str(source)]

    def _get(self, attribute):
        value = attribute.Get(self.start) if attribute else None
        return attribute.Get() if value is None and attribute else value

    def _mesh(self, prim, mesh) -> Mesh | None:
        from pxr import UsdGeom

        of = (mesh.GetPointsAttr(), mesh.GetFaceVertexCountsAttr(), mesh.GetFaceVertexIndicesAttr())
        points, counts, indices = map(self._get, of)
        if points is None or counts is None or indices is None or not len(points) or not len(counts):
            self.left.append(f"{prim.GetName()}, which has no faces")
            return None
        points = np.array(points, np.float64)
        counts, indices = np.array(counts, np.int32), np.array(indices, np.int32)
        what = f"{self.path.name}, {prim.GetName()}"
        if counts.min() < 3 or int(counts.astype(np.int64).sum()) != len(indices):
            raise EstampaError(what, "has faces that do not fit its corners.", "It is damaged; export it again.")
        if indices.min() < 0 or indices.max() >= len(points):
            cause = f"has a face that names vertex {int(indices.max())}, of {len(points):,}."
            raise EstampaError(what, cause, "It is damaged; export it again.")
        holes = np.array(self._get(mesh.GetHoleIndicesAttr()) or [], np.int64)
        own = self._attributes(prim, mesh, len(points), counts, indices)
        materials, which = self._looks(prim, mesh, len(counts))
        if len(holes):
            keep = np.ones(len(counts), bool)
            keep[holes[(holes >= 0) & (holes < len(counts))]] = False
            chosen = {"corners": np.repeat(keep, counts), "faces": keep, "vertices": slice(None)}
            own = {n: Attribute(a.domain, a.values[chosen[a.domain]]) for n, a in own.items()}
            indices, counts = indices[chosen["corners"]], counts[keep]
            which = None if which is None else which[keep]
        if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
            order = Mesh(points, counts, indices).other_way_round
            turned = lambda a: a.values[order] if a.domain == "corners" else a.values
            own, indices = {n: Attribute(a.domain, turned(a)) for n, a in own.items()}, indices[order]
        return made(points, counts, indices, materials, which, own)

    def _attributes(self, prim, mesh, count, counts, indices) -> dict[str, Attribute]:
        """All that its points, faces and corners have, by our names."""
        from pxr import UsdGeom

        found, api = {}, UsdGeom.PrimvarsAPI(prim)

        def take(name, values, how, everywhere=True):
            values = np.asarray(values, np.float32)
            values = values[:, None] if values.ndim == 1 else values
            own = _spread(values, how, count, counts, indices, everywhere)
            if own is not None:
                found[name] = own
            return own is not None

        every = [p for p in api.FindPrimvarsWithInheritance() if p.HasValue()]
        sets = [p for p in every if str(p.GetTypeName()) in ("texCoord2f[]", "float2[]")]
        sets = sorted(sets, key=lambda p: (p.GetPrimvarName() != "st", not p.GetPrimvarName().startswith("st")))
        self.sets.clear()
        for k, primvar in enumerate(sets[:MOST_SETS]):
            name = "uv" if k == 0 else f"uv{k}"
            values = primvar.ComputeFlattened(self.start)
            if values is not None and take(name, values, primvar.GetInterpolation()):
                self.sets[primvar.GetPrimvarName()] = name
        normals, how = self._get(mesh.GetNormalsAttr()), mesh.GetNormalsInterpolation()
        primvar = api.GetPrimvar("normals")
        if primvar and primvar.HasValue():
            normals, how = primvar.ComputeFlattened(self.start), primvar.GetInterpolation()
        if normals is not None and len(normals):
            take("normal", normals, how)
        colour, clear = (api.FindPrimvarWithInheritance(n) for n in ("displayColor", "displayOpacity"))
        if colour and colour.HasValue() and colour.GetInterpolation() != UsdGeom.Tokens.constant:
            values = np.array(colour.ComputeFlattened(self.start), np.float32)
            if clear and clear.HasValue() and clear.GetInterpolation() == colour.GetInterpolation():
                more = np.array(clear.ComputeFlattened(self.start), np.float32)
                values = np.column_stack([values, more]) if len(more) == len(values) else values
            take("colour", values, colour.GetInterpolation())
        for primvar in every:  # of names of their own
            name, kind = primvar.GetPrimvarName(), str(primvar.GetTypeName())
            if kind in PLAIN and name not in KNOWN and not name.startswith("skel:") and name not in self.sets:
                if primvar.GetInterpolation() != UsdGeom.Tokens.constant:
                    take(name, primvar.ComputeFlattened(self.start), primvar.GetInterpolation(), False)
        return found

    # -- materials ---------------------------------------------------------------------------------------------
    def _looks(self, prim, mesh, faces):
        """(materials, (f,) which each face has, or None)."""
        from pxr import UsdGeom, UsdShade

        materials: list[Material] = []
        of = np.full(faces, -1, np.int32)

        def number(bound):
            made = self._material(bound)
            if made not in materials:
                materials.append(made)
            return materials.index(made)

        bound = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
        if bound:
            of[:] = number(bound)
        for subset in UsdGeom.Subset.GetGeomSubsets(mesh, UsdGeom.Tokens.face):
            bound = UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()[0]
            own = np.array(self._get(subset.GetIndicesAttr()) or [], np.int64)
            own = own[(own >= 0) & (own < faces)]
            if bound and len(own):
                of[own] = number(bound)
        two_sided = bool(mesh.GetDoubleSidedAttr().Get())
        materials = [m._replace(two_sided=two_sided) for m in materials]
        if not materials:
            colour = UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance("displayColor")
            value = colour.ComputeFlattened(self.start) if colour and colour.HasValue() else None
            if value is None or len(value) != 1:
                return (), None
            return (Material("Colour", tuple(map(float, value[0])), two_sided=two_sided),), np.zeros(faces, np.int32)
        if (of < 0).any():
            materials.append(Material("Plain", (0.8, 0.77, 0.71), two_sided=two_sided))
            of[of < 0] = len(materials) - 1
        return tuple(materials), of

    def _material(self, bound) -> Material:
        path = str(bound.GetPath())
        if path not in self._materials:
            self._materials[path] = self._made(bound)
        made = self._materials[path]  # there its coordinates have the name that the file gives them
        return made._replace(uv=self.sets.get(made.uv, "uv"))

    def _made(self, bound) -> Material:
        prim = bound.GetPrim()
        name = prim.GetDisplayName() or prim.GetName()
        shader = bound.ComputeSurfaceSource()[0]
        if not shader or shader.GetIdAttr().Get() != "UsdPreviewSurface":
            return Material(name, (0.8, 0.77, 0.71))
        value = lambda n, plain: shader.GetInput(n).Get() if shader.GetInput(n) else plain
        colour, opacity, missing, uv = value("diffuseColor", None), value("opacity", None), "", "st"
        picture = self._reader(shader.GetInput("diffuseColor"))
        cutoff, held = float(value("opacityThreshold", 0.0) or 0.0), None
        colour = (1.0, 1.0, 1.0) if picture is not None else (0.18, 0.18, 0.18) if colour is None else tuple(colour)
        if picture is not None:
            held, missing = self._picture(picture)
            scale = picture.GetInput("scale").Get() if picture.GetInput("scale") else None
            colour = tuple(map(float, scale))[:3] if scale is not None else colour
            opacity = float(scale[3]) if scale is not None else 1.0
            uv = self._coordinates(picture)
        clear = self._reader(shader.GetInput("opacity")) is not None or (opacity is not None and opacity < 1)
        alpha = "mask" if cutoff > 0 else "blend" if clear else "opaque"
        opacity = 1.0 if opacity is None else float(opacity)
        number = lambda n, plain: plain if value(n, None) is None else float(value(n, None))
        light = tuple(map(float, value("emissiveColor", None) or (0, 0, 0)))
        more = (True, uv, missing, number("roughness", 0.5), number("metallic", 0.0), light)
        return Material(name, tuple(map(float, colour)), held, alpha, cutoff or 0.5, opacity, *more)

    @staticmethod
    def _reader(given):
        """The UsdUVTexture that an input is connected to, or None."""
        from pxr import UsdShade

        sources = given.GetConnectedSources()[0] if given and given.HasConnectedSource() else []
        for source in sources:
            shader = UsdShade.Shader(source.source.GetPrim())
            if shader and shader.GetIdAttr().Get() == "UsdUVTexture":
                return shader
        return None

    def _coordinates(self, picture) -> str:
        from pxr import UsdShade

        given = picture.GetInput("st")
        sources = given.GetConnectedSources()[0] if given and given.HasConnectedSource() else []
        for source in sources:
            shader = UsdShade.Shader(source.source.GetPrim())
            name = shader.GetInput("varname")
            if name:
                values = name.GetValueProducingAttributes()
                found = values[0].Get() if values else name.Get()
                return str(found)
        return "st"

    def _picture(self, shader) -> tuple[Picture | None, str]:
        from pxr import Ar, Sdf

        file = shader.GetInput("file").Get() if shader.GetInput("file") else None
        if not isinstance(file, Sdf.AssetPath) or not file.path:
            return None, "a picture without a name"
        plain = file.path.replace("\\", "/")  # as written on another system
        name, resolved = Path(plain).name, file.resolvedPath
        if not resolved and plain != file.path and (self.path.parent / plain).is_file():
            resolved = str(self.path.parent / plain)
        if not resolved:
            return None, name
        if "[" not in resolved:
            home = os.path.normpath(self.path.parent.resolve())
            if not Path(os.path.normpath(Path(resolved).resolve())).is_relative_to(home):
                words = f"names a picture outside its own folder (“{file.path}”), which is not read."
                raise EstampaError(self.path.name, words, "Put its pictures beside it.")
            if Path(resolved).stat().st_size > MOST_PICTURE:
                return None, name
            return Picture(name, Path(resolved).read_bytes()), ""
        asset = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(resolved))
        return (Picture(name, bytes(asset.GetBuffer())), "") if asset else (None, name)


def _spread(values, how, count, counts, indices, everywhere) -> Attribute | None:
    """What a prim has constant, by face, by vertex or by corner, (rows, k); None where it does not fit. everywhere --
    whether what faces have is told by their corners, as it is of what is drawn."""
    from pxr import UsdGeom

    t = UsdGeom.Tokens
    if how == t.constant:
        return Attribute("vertices", np.repeat(values[:1], count, axis=0)) if len(values) else None
    if how == t.uniform and len(values) == len(counts):
        return Attribute("corners", np.repeat(values, counts, axis=0)) if everywhere else Attribute("faces", values)
    if how in (t.vertex, t.varying) and len(values) == count:
        return Attribute("vertices", values)
    return by_corner(values, indices, count) if how == t.faceVarying and len(values) == len(indices) else None
