"""Topology of subjects through their stacks: meshes, plans of the layers that change them, what is carried along."""

from functools import partial

import numpy as np

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..geometry.weights import spread, top_influences
from ..hashing import digest
from ..kinds.plugins import blamed
from ..motion.remesh import Plan
from ..scene.document import Thing
from ..solve.frame import Frame, Table
from .reader import Scope


class Topology:
    """Meshes at rest of one document, for one evaluator."""

    def __init__(self, evaluator):
        self.evaluator, self.scene = evaluator, evaluator.scene

    def mesh(self, subject: Thing, layers: list[Thing] | None = None) -> Mesh:
        """The mesh of a subject after the given layers (all of them when none are given), at rest."""
        mesh = self.scene.mesh(subject.mesh)
        for plan in self.plans(subject, self.evaluator.layers(subject) if layers is None else layers):
            mesh = plan.mesh
        return mesh

    def plans(self, subject: Thing, layers: list[Thing]) -> list[Plan]:
        """Of those layers that change topology, in order."""
        found, mesh = [], self.scene.mesh(subject.mesh)
        for i, layer in enumerate(layers):
            if layer.declared.remeshes:
                if layer.declared.slow and i > 0:
                    mesh = self._as_it_enters(subject, layers[:i], mesh)
                found.append(self._plan(subject, layer, mesh, found))
                mesh = found[-1].mesh
        return found

    def _as_it_enters(self, subject, above, mesh) -> Mesh:
        """A mesh with the points that layers above give it at the first frame: what a slow layer works on."""
        many = self.evaluator.stage.one(subject, self.evaluator.doc.start)
        shape = self.evaluator.stacks.rows(subject, above, many)
        key = (mesh, shape.digest)
        return self.scene.memo.get(above[-1].id, "enters", key, lambda: mesh.with_points(shape.points[0]))

    def _plan(self, subject, layer, mesh, before) -> Plan:
        declared = layer.declared
        v = {n: layer.constant(n) for n, c in declared.channels.items() if not c.animates}
        found = subject.map(v.get("map"))
        fingerprint = {n: x for n, x in v.items() if n != "map"} | self._places(subject, layer, v)
        name = digest("plan", layer.kind, declared.version, fingerprint, found.weights if found else None)

        def make() -> Plan:
            weights = self.scene.arrays.get(found.weights) if found else None
            for plan in before:
                weights = plan.carried(weights) if weights is not None else None
            return self._planned(subject, layer, mesh, v, weights, name)

        def wait_for_it() -> Plan:
            if declared.slow and not self.evaluator.waits:
                cure = "Wait until it is there, and do it again."
                raise EstampaError(f"{layer.name} on {subject.name}", "is still being worked out.", cure)
            with self.scene.planning:  # several threads may ask for it at once
                return self.scene.memo.get(layer.id, "plan", (name, mesh), make)

        return self.scene.memo.get(layer.id, "plan", (name, mesh), wait_for_it)

    def _places(self, subject, layer, v) -> dict:
        """Put what a layer names in space into `v`, as it is at the first frame in the subject's own space; returns
        what decides it."""
        fingerprint, scope = {}, None
        for name, channel in layer.declared.channels.items():
            if channel.to in ("", "map", "zone") or channel.animates:
                continue
            scope = scope or Scope.of_rows(subject, self.evaluator.stage.one(subject, self.evaluator.doc.start))
            reading = self.evaluator.reader.reading(layer, channel, scope)
            v[name], fingerprint[name] = reading.value(), reading.fingerprint
        return fingerprint

    def _planned(self, subject, layer, mesh, v, weights, name) -> Plan:
        declared, more = layer.declared(), ()
        try:
            with blamed(layer.declared, f"{layer.name} on {subject.name}"):
                if declared.slow:
                    more = (self._work(subject, layer, mesh, v, weights, name),)
                return declared.plan(mesh, v, weights, *more)
        except EstampaError as err:
            raise EstampaError(f"{layer.name} on {subject.name}", err.cause, err.cure, err.detail) from err

    def _work(self, subject, layer, mesh, v, weights, name) -> dict:
        """The slow part of a plan: of the same mesh and channels it is done once, in this scene or another."""
        key = digest("work", name, mesh.points, mesh.face_counts, mesh.face_indices, weights)
        found = self.evaluator.store.frame(key)
        if found is None:
            on_progress = self.evaluator.on_progress
            on_progress = partial(on_progress, subject, layer) if on_progress is not None else None
            made = layer.declared().work(mesh, v, weights, on_progress)
            found = Frame({n: Table({"value": array}) for n, array in made.items()})
            self.evaluator.store.write(key, found)
        return {n: table["value"] for n, table in found.tables.items()}

    def map_weights(self, subject: Thing, found, layer: Thing | None = None) -> np.ndarray:
        """(n,) float32 weights of a map, carried to the topology that enters a layer (or leaves the stack)."""
        weights, evaluator = self.scene.arrays.get(found.weights), self.evaluator
        above = layer is not None and layer.on
        plans = self.plans(subject, evaluator.layers_above(subject, layer) if above else evaluator.layers(subject))
        if not plans:
            return weights
        return plans[-1].mesh.cached(("carried", found.id), lambda: _carried(weights, plans), found.weights)

    def bound(self, subject: Thing, layer: Thing):
        """(indices (n, m), weights (n, m)) that a layer was bound with, carried to the topology that enters it."""
        bind, plans = layer.bind, self.plans(subject, self.evaluator.layers_above(subject, layer))
        arrays = self.scene.arrays
        indices = arrays.get(bind.indices) if bind.indices else None
        if not plans:
            return indices, arrays.get(bind.weights)

        def make():
            dense = arrays.get(bind.weights)
            if indices is not None:
                dense = spread(indices, dense, len(bind.joints))
            for plan in plans:
                dense = plan.carried(dense)
            return top_influences(dense, indices.shape[1]) if indices is not None else (None, dense.astype(np.float32))

        return self.scene.memo.get(layer.id, "bound", (plans[-1], bind), make)

    def sized(self, subject: Thing, layer: Thing) -> Mesh:
        """The mesh that enters a solver, at the size that the subject has in the world at the first frame."""
        evaluator = self.evaluator
        mesh = self.mesh(subject, evaluator.layers_above(subject, layer))
        size = float(evaluator.stage.one(subject, evaluator.doc.start).place.size[0])
        if size == 1:
            return mesh
        return self.scene.memo.get(layer.id, "sized", (mesh, size), lambda: mesh.with_points(mesh.points * size))


def _carried(weights, plans) -> np.ndarray:
    for plan in plans:
        weights = plan.carried(weights)
    weights = np.clip(weights, 0, 1).astype(np.float32)
    weights.flags.writeable = False  # as those that the scene keeps, so that kernels see one sort of array
    return weights
