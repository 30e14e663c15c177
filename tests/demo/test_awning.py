"""The demo: its data is what its generator makes, and it moves as an awning would."""

import numpy as np
import pytest

from estampa import demo
from estampa.demo import DATA
from estampa.demo.awning import COLUMNS, ROOF_ROWS, awning_mesh, stall_mesh
from estampa.errors import EstampaError
from estampa.formats.meshfile import read_mesh
from estampa.inspect.remarks.scene import remarks
from estampa.kinds.registry import kinds_in
from tests.conftest import named


@pytest.fixture(scope="module")
def played():
    scene = demo.build("awning")
    frames = {f: scene.evaluate(f)["Awning"] for f in range(1, scene.doc.end + 1)}
    return scene, np.stack([frames[f] for f in sorted(frames)])


def test_the_shipped_meshes_are_what_the_generator_makes():
    for name, made in (("awning", awning_mesh()), ("stall", stall_mesh())):
        read = read_mesh(DATA / f"{name}.obj")
        assert np.allclose(read.points, made.points, atol=1e-6)
        assert np.array_equal(read.face_indices, made.face_indices)
    assert awning_mesh().crowded_edges == 0 and awning_mesh().island_count == 1


def test_a_demo_begins_clean_and_unknown_ones_are_named():
    scene = demo.build("awning")
    assert remarks(scene) == [] and not scene.is_changed and scene.undo_label is None
    with pytest.raises(EstampaError, match="There is: awning"):
        demo.build("carousel")


def test_the_back_rail_holds_and_the_valance_blows_in_and_falls_back(played):
    scene, points = played
    rest = scene.mesh(named(scene, "Awning").mesh).points
    rail = np.arange(COLUMNS)
    drift = np.linalg.norm(points[:, rail] - points[0, rail], axis=2)
    assert drift.max() < 0.13, "the rail moves with the leaning posts, and no further"
    hem = points[:, -COLUMNS:]
    inwards = rest[-COLUMNS:, 2] - hem[:, :, 2]
    assert inwards.mean(axis=1).max() > 0.15, "an onshore wind blows the valance towards the stall"
    assert inwards[80:].mean() < inwards[35:60].mean(), "and less when it drops"


def test_canvas_hardly_stretches(played):
    scene, points = played
    mesh = scene.mesh(named(scene, "Awning").mesh)
    roof = mesh.edges[(mesh.edges < COLUMNS * ROOF_ROWS).all(axis=1)]
    length = lambda p: np.linalg.norm(p[roof[:, 0]] - p[roof[:, 1]], axis=1)
    ratio = np.stack([length(p) for p in points[20::20]]) / length(mesh.points)
    assert np.percentile(ratio, 95) < 1.05 and np.median(np.abs(ratio - 1)) < 0.01


def test_it_flutters_and_does_not_jitter(played):
    """Motion has most of its power in slow swings; jitter would put it near half the frame rate."""
    _, points = played
    hem = points[20:, -COLUMNS::7, 2]
    power = np.abs(np.fft.rfft((hem - hem.mean(axis=0)) * np.hanning(len(hem))[:, None], axis=0)) ** 2
    hertz = np.fft.rfftfreq(len(hem), 1 / 24)
    mean = power.mean(axis=1)
    assert mean[hertz < 4].sum() > 0.8 * mean.sum()
    assert mean[hertz > 10].sum() < 0.02 * mean.sum()
    sides = np.corrcoef(hem[:, 0], hem[:, -1])[0, 1]
    assert sides < 0.98, "its two ends do not move in step"


def test_every_declared_kind_explains_itself():
    for family in ("layer", "force", "print", "thing"):
        for kind in kinds_in(family):
            assert kind.title and len(kind.summary()) > 15, kind
            for channel in kind.channels.values():
                assert channel.help.endswith("."), (kind.kind, channel.name)
                if channel.type in ("number", "whole"):
                    low, high = channel.soft
                    assert low < high
                    assert channel.clamp(channel.default) == channel.default, "a default outside its hard range"
            for name, values in kind.presets.items():
                assert set(values) <= set(kind.channels), name
                assert all(kind.channels[n].clamp(v) == v for n, v in values.items())
