"""Files from outside: plain ones alone, nothing from elsewhere, bounded in time and memory, torn ones told in words."""

import os
import time

import numpy as np
import pytest

from estampa import demo
from estampa.errors import EstampaError
from estampa.formats import exr, usd_open
from estampa.formats.asset import read_asset
from estampa.press.run import bake_scene
from estampa.rehearsal.stage import RehearsalStage
from estampa.solve.swarm.points_file import read_points
from tests import nasty_prints


def doubling(levels):
    """A stage whose every prim refers to the next one twice: 2^levels prims from some kilobytes."""
    lines = ["#usda 1.0", f'def Xform "P{levels}"\n{{\n    def Cube "c"\n    {{\n    }}\n}}']
    for i in range(levels):
        twice = "".join(f'    def "{n}" (\n        references = </P{i + 1}>\n    )\n    {{\n    }}\n' for n in "ab")
        lines.append(f'def Xform "P{i}"\n{{\n{twice}}}')
    return "\n".join(lines)


def referring(to):
    return f'#usda 1.0\ndef Xform "A" (\n    references = @{to}@\n)\n{{\n}}\n'


READERS = (read_asset, lambda p: RehearsalStage.of([p]), lambda p: read_points(str(p)))


def refused(path, words, most=25.0, readers=READERS):
    for read in readers:
        began = time.monotonic()
        with pytest.raises(EstampaError, match=words):
            read(path)
        assert time.monotonic() - began < most


def test_a_stage_that_multiplies_is_ended_before_it_takes_the_machine(tmp_path):
    """3.4 kB that ran for over a minute and took 1.3 GB."""
    path = tmp_path / "doubling.usda"
    path.write_text(doubling(24))
    assert path.stat().st_size < 4_000
    words = "more memory than it may|not put together within|more than 400,000 prims"
    refused(path, words, readers=READERS[:1])  # the door is one for all
    path.write_text(doubling(3))
    assert usd_open.stage(path).GetPrimAtPath("/P0/a/b/a/c"), "one that keeps within bounds is opened after it"


@pytest.mark.slow
def test_a_stage_that_refers_to_a_pipe_does_not_hang(tmp_path):
    os.mkfifo(tmp_path / "pipe.usda")
    path = tmp_path / "refers.usda"
    path.write_text(referring("./pipe.usda"))
    began = time.monotonic()
    with pytest.raises(EstampaError, match="no plain file"):
        usd_open.stage(path)
    assert time.monotonic() - began < 25


def test_a_stage_reads_nothing_from_outside_its_folder_whatever_way_leads_there(tmp_path):
    home, other = tmp_path / "home", tmp_path / "other"
    home.mkdir()
    other.mkdir()
    (other / "secret.usda").write_text('#usda 1.0\n(\n    defaultPrim = "A"\n)\ndef Cube "A"\n{\n}\n')
    (home / "link.usda").symlink_to(other / "secret.usda")
    for k, to in enumerate(("../other/secret.usda", "./link.usda", str(other / "secret.usda"))):
        path = home / f"{k}.usda"
        path.write_text(referring(to))
        with pytest.raises(EstampaError, match="outside its own folder"):
            read_asset(path)


def test_deep_and_crowded_stages_are_refused_in_words(tmp_path):
    path = tmp_path / "deep.usda"
    path.write_text("#usda 1.0\n" + "".join(f'def Xform "N{i}"\n{{\n' for i in range(700)) + "}\n" * 700)
    refused(path, "700 deep|cannot be read|cut short")


@pytest.mark.parametrize("ending", ["usda", "usdc", "glb", "json", "csv", "exr", "bvh", "obj", "ply"])
def test_what_is_no_plain_file_is_refused_at_once(tmp_path, ending):
    path = tmp_path / f"pipe.{ending}"
    os.mkfifo(path)
    began = time.monotonic()
    for read in (*READERS, exr.read_image):
        with pytest.raises(EstampaError):
            read(path)
    assert time.monotonic() - began < 2


def test_an_image_that_says_it_is_huge_is_refused_before_memory_is_taken(tmp_path):
    path = tmp_path / "image.exr"
    exr.write_image(path, np.zeros((4, 4, 3), np.float16))
    data = path.read_bytes()
    at = data.index(b"dataWindow\0box2i\0") + len(b"dataWindow\0box2i\0") + 4
    path.write_bytes(data[:at] + np.array([0, 0, 200_000, 200_000], "<i4").tobytes() + data[at + 16 :])
    with pytest.raises(EstampaError, match="200,001 × 200,001|damaged"):
        exr.read_image(path)


# -- printed files, torn ---------------------------------------------------------------------------------------
@pytest.fixture(scope="module")
def printed(tmp_path_factory):
    return nasty_prints.printed(tmp_path_factory.mktemp("printed"))


def test_whole_prints_play(printed):
    files = nasty_prints.stage_files(printed)
    assert {p.suffix for p in files} >= {".glb", ".json"} and len(files) >= 6
    for path in files:
        assert nasty_prints.play(path)


@pytest.mark.parametrize("part", range(6))
def test_torn_prints_are_told_in_words(printed, tmp_path, part):
    for seed in range(part, 48, 6):
        nasty_prints.torn(printed, tmp_path / str(seed), seed)


def test_a_demo_stage_that_is_printed_is_read_back_through_the_same_door(tmp_path):
    scene = demo.build("boards")
    results = bake_scene(scene, tmp_path)
    assert all(r.passed for r in results)
