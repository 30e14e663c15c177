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
from . import bounds
from .asset import MOST_NODES, Asset, Node, with_corners

MOST_PICTURE = 512_000_000  # bytes
MOST_SETS = 8


def read(path: Path, progress) -> Asset:
    stage = opened(path)
    progress(0.1, "Reading")
    rate = stage.GetTimeCodesPerSecond() or 24.0
    reader = _Reader(path, stage, rate)
    nodes = reader.nodes(progress)
    for err in stage.GetCompositionErrors():
        named = re.findall(r"@([^@]+)@", str(err))
        what = f"“{Path(named[0]).name}”" if named else str(err)[:80]
        reader.left.append(f"what it refers to in {what}, which is not there or cannot be read")
    first, last = reader.span()
    return Asset(path, nodes, *measures(stage), (first / rate, last / rate), rate, reader.left)


def measures(stage) -> tuple[float, str]:
    """(metres that a unit of a stage is, "y" or "z")."""
    from pxr import UsdGeom

    up = "z" if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z else "y"
    return float(UsdGeom.GetStageMetersPerUnit(stage)), up


def opened(path: Path):
    """A stage, once it is known that it reads nothing from outside its folder. Raises EstampaError."""
    from pxr import Tf, Usd

    bounds.read_bytes(path)
    try:
        stage = Usd.Stage.Open(str(path))
    except Tf.ErrorException as err:
        cause = "is no OpenUSD file that can be read; it is cut short or damaged."
        raise EstampaError(path.name, cause, "Export it again.", str(err)) from err
    home = os.path.normpath(path.parent.resolve())
    for layer in stage.GetUsedLayers():
        real = layer.realPath
        if real and not layer.anonymous and not Path(os.path.normpath(real.split("[")[0])).is_relative_to(home):
            words = f"reads a layer outside its own folder (“{layer.identifier}”), which is refused."
            raise EstampaError(path.name, words, "Put its layers beside it, or flatten it to one file.")
    return stage


class _Reader:
    def __init__(self, path, stage, rate):
        from pxr import Usd, UsdGeom

        self.path, self.stage, self.rate = path, stage, rate
        self.left: list[str] = []
        told = stage.HasAuthoredTimeCodeRange()
        self.start = Usd.TimeCode(stage.GetStartTimeCode()) if told else Usd.TimeCode.EarliestTime()
        self._cache = UsdGeom.XformCache(self.start)
        self._materials: dict[str, Material] = {}
        self._meshes: dict[str, Mesh] = {}
        self._samples: list[float] = []
        self.sets: dict[str, str] = {}  # of the mesh that is read: names of its texture coordinates -> ours

    def span(self) -> tuple[float, float]:
        """First and last time code of what moves."""
        if not self._samples:
            return 0.0, 0.0
        if self.stage.HasAuthoredTimeCodeRange():
            return self.stage.GetStartTimeCode(), self.stage.GetEndTimeCode()
        return min(self._samples), max(self._samples)

    def nodes(self, progress) -> list[Node]:
        from pxr import Usd, UsdGeom, UsdLux

        found, number, lights, prims = [], {}, 0, []
        for prim in Usd.PrimRange(self.stage.GetPseudoRoot(), Usd.TraverseInstanceProxies()):
            prims.append(prim)
            if len(prims) > MOST_NODES:
                raise EstampaError(self.path.name, f"has more than {MOST_NODES:,} prims.", "Flatten or join it.")
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
            xform = UsdGeom.Xformable(prim)
            node = Node(prim.GetName(), number.get(parent.GetPath(), -1), self._local(xform, self.start))
            times = xform.GetTimeSamples()
            if len(times) > 1:
                self._samples += [times[0], times[-1]]
                node.moves = lambda t, xform=xform: self._local(xform, Usd.TimeCode(t * self.rate))
            if prim.IsA(UsdGeom.Mesh):
                self._mesh_of(prim, node)
            elif prim.IsA(UsdGeom.Camera):
                camera = UsdGeom.Camera(prim).GetCamera(self.start)
                node.view = float(np.radians(camera.GetFieldOfView(camera.FOVVertical)))
            elif prim.IsA(UsdGeom.PointInstancer):
                self.left.append(f"the instances of {prim.GetName()}")
            elif prim.IsA(UsdGeom.Gprim):
                self.left.append(f"{prim.GetName()} ({prim.GetTypeName()})")
            number[prim.GetPath()] = len(found)
            found.append(node)
        if lights:
            self.left.append(f"{lights} light{'s' if lights > 1 else ''}")
        return self._pruned(found)

    @staticmethod
    def _pruned(nodes) -> list[Node]:
        """Without branches that hold nothing."""
        kept = np.array([n.mesh is not None or n.view is not None for n in nodes], bool)
        for i in range(len(nodes) - 1, -1, -1):
            if kept[i] and nodes[i].parent >= 0:
                kept[nodes[i].parent] = True
        number = np.cumsum(kept) - 1
        found = [n for n, k in zip(nodes, kept, strict=True) if k]
        for node in found:
            node.parent = int(number[node.parent]) if node.parent >= 0 else -1
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
        if prim.HasAPI("SkelBindingAPI"):
            node.skinned = True
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
        corners = self._corners(prim, mesh, len(points), counts, indices)
        materials, which = self._looks(prim, mesh, len(counts))
        if len(holes):
            keep = np.ones(len(counts), bool)
            keep[holes[(holes >= 0) & (holes < len(counts))]] = False
            each = np.repeat(keep, counts)
            corners = {n: v[each] for n, v in corners.items()}
            indices, counts, which = indices[each], counts[keep], None if which is None else which[keep]
        if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
            order = Mesh(points, counts, indices).other_way_round
            corners, indices = {n: v[order] for n, v in corners.items()}, indices[order]
        return with_corners((points, counts, indices, materials, which), corners)

    def _corners(self, prim, mesh, count, counts, indices) -> dict[str, np.ndarray]:
        from pxr import UsdGeom

        found, api = {}, UsdGeom.PrimvarsAPI(prim)
        spread = lambda values, how: _by_corner(np.asarray(values), how, count, counts, indices)
        sets = [p for p in api.FindPrimvarsWithInheritance() if str(p.GetTypeName()) in ("texCoord2f[]", "float2[]")]
        sets = sorted(sets, key=lambda p: (p.GetPrimvarName() != "st", not p.GetPrimvarName().startswith("st")))
        self.sets.clear()
        for k, primvar in enumerate(sets[:MOST_SETS]):
            values = primvar.ComputeFlattened(self.start)
            own = spread(values, primvar.GetInterpolation()) if values is not None else None
            if own is not None:
                name = "uv" if k == 0 else f"uv{k}"
                found[name] = own.astype(np.float32)
                self.sets[primvar.GetPrimvarName()] = name
        normals, how = self._get(mesh.GetNormalsAttr()), mesh.GetNormalsInterpolation()
        primvar = api.GetPrimvar("normals")
        if primvar and primvar.HasValue():
            normals, how = primvar.ComputeFlattened(self.start), primvar.GetInterpolation()
        if normals is not None and len(normals):
            own = spread(normals, how)
            if own is not None:
                found["normal"] = own.astype(np.float32)
        colour = api.FindPrimvarWithInheritance("displayColor")
        if colour and colour.HasValue():
            own = spread(colour.ComputeFlattened(self.start), colour.GetInterpolation())
            if own is not None and colour.GetInterpolation() != UsdGeom.Tokens.constant:
                found["colour"] = own.astype(np.float32)
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
        return Material(name, tuple(map(float, colour)), held, alpha, cutoff or 0.5, opacity, True, uv, missing)

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
        name = Path(file.path).name
        resolved = file.resolvedPath
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


def _by_corner(values, how, count, counts, indices) -> np.ndarray | None:
    """(corners, k) of values that a prim has constant, by face, by vertex or by corner; None where they do not fit."""
    from pxr import UsdGeom

    t = UsdGeom.Tokens
    if how == t.constant:
        return np.repeat(values[:1], len(indices), axis=0) if len(values) else None
    if how == t.uniform:
        return np.repeat(values, counts, axis=0) if len(values) == len(counts) else None
    if how in (t.vertex, t.varying):
        return np.take(values, indices, axis=0) if len(values) == count else None
    return values if len(values) == len(indices) else None
