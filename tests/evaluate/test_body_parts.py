"""Which joint is which part of a body: names as many hands spell them, names that tell nothing, and hinges."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.edits import body_parts as bp
from estampa.solve.bodies.limbs import hinge_axes
from tests.solve.figures import figure

# one joint of each limb and of the trunk, as riggers write them: common practice, no source
SPELLED = {
    "plain": "Hips Spine Chest Head|upper arm {side}|lower arm {side}|hand {side}|thigh {side}|shin {side}|foot {side}",
    "capitals": "Hips Spine Chest Head|{Side}Arm|{Side}ForeArm|{Side}Hand|{Side}UpLeg|{Side}Leg|{Side}Foot",
    "scored": "pelvis spine_01 spine_03 head|upperarm_{s}|lowerarm_{s}|hand_{s}|thigh_{s}|calf_{s}|foot_{s}",
    "low": "Pelvis Waist Chest Head|{S}_UpArm|{S}_LowArm|{S}_Hand|{S}_UpLeg|{S}_LowLeg|{S}_Foot",
    "dotted": "hips spine chest head|arm.{S}|elbow.{S}|wrist.{S}|hip.{S}|knee.{S}|ankle.{S}",
    "space": "rig:Hips rig:Spine rig:Chest rig:Head|rig:{Side}Shoulder1|rig:{Side}Elbow|rig:{Side}Wrist|"
    "rig:{Side}Thigh|rig:{Side}Knee|rig:{Side}Ankle",
    "legs": "Root Spine Spine2 Head|Arm{S}|ForeArm{S}|Hand{S}|Leg{S}1|Leg{S}2|Foot{S}",
    "foreign": "bacino schiena petto testa|braccio {side}|avambraccio {side}|mano {side}|coscia {side}|"
    "stinco {side}|piede {side}",
    "senseless": "j0 j1 j3 j5|a{s}0|a{s}1|a{s}2|b{s}0|b{s}1|b{s}2",
}


def renamed(how: str, joints: int = 17):
    scene, skeleton, _ = figure(joints)
    thing = scene.doc.find(skeleton)
    trunk, *limbs = SPELLED[how].split("|")
    new = dict(zip(("Hips", "Spine", "Chest", "Head"), trunk.split(), strict=True))
    wanted = {}
    words = dict(zip(("upper arm", "lower arm", "hand", "thigh", "shin", "foot"), limbs, strict=True))
    for joint in thing.joints:
        part, _, side = joint.name.rpartition(" ")
        if joint.name in new:
            wanted[joint.id] = joint.name.lower()
            do.rename(scene, joint.id, new[joint.name])
        elif part in words:
            wanted[joint.id] = part.replace(" ", "_")
            short = {"side": side, "Side": side.capitalize(), "s": side[0], "S": side[0].upper()}
            do.rename(scene, joint.id, words[part].format(**short))
    return scene, skeleton, wanted


@pytest.mark.parametrize("how", list(SPELLED))
def test_parts_are_told_however_joints_are_named(how):
    scene, skeleton, wanted = renamed(how)
    bones = scene.values.bones(scene.doc.find(skeleton))
    assert bp.proposed(bones) == wanted


@pytest.mark.parametrize("how", ["plain", "capitals", "scored", "low", "dotted", "space"])
def test_names_alone_tell_a_body_that_is_not_in_its_pose(how):
    scene, skeleton, wanted = renamed(how)
    bones = scene.values.bones(scene.doc.find(skeleton))
    if how == "scored":  # only its place tells that the third of a spine is the chest
        wanted = {joint: part for joint, part in wanted.items() if part != "chest"}
    assert bp.by_names(bones) == wanted


def test_fingers_twists_and_collars_are_no_parts_and_sides_are_told_in_the_middle():
    for name in ("IndexFinger1_L", "forearm_twist.R", "LeftToeBase", "clavicle_r", "hand_l_end", "ik_foot.L"):
        assert max(bp.name_score(name, part) for part in bp.WORDS) <= 0, name
    for name, side in (("hand_l", "left"), ("RightFoot", "right"), ("arm.R.001", "right"), ("footLeft", "left")):
        assert bp.named_side(name) == side
    assert bp.named_side("Spine1") == ""


@pytest.mark.parametrize("joints", [11, 17, 24])
@pytest.mark.parametrize("turn", [0.0, 1.1])
def test_knees_bend_backwards_and_elbows_forwards(joints, turn):
    """Anatomy; however the figure stands, and for joints that were drawn with any roll."""
    scene, skeleton, _ = figure(joints)
    do.set_value(scene, skeleton, "turn_y", turn)
    thing = scene.doc.find(skeleton)
    bones = scene.values.bones(thing)
    parts = {j.id: j.constant("part") for j in thing.joints}
    front = bp.front_of(bones, parts)
    assert front == pytest.approx([0, 0, 1], abs=1e-6)
    for joint in thing.joints:
        part = joint.constant("part")
        if part not in ("shin", "lower_arm"):
            assert joint.constant("bends") == "any"
            continue
        i = bones.where[joint.id]
        axes = bones.at_rest[i, :3, :3]
        axis = axes @ hinge_axes(bones, np.array([i]))[0]
        goes = np.cross(axis, axes @ bones.tips[i])  # where its end goes as it bends
        assert goes @ front * (1 if part == "lower_arm" else -1) > 0.99 * np.linalg.norm(goes)
        assert joint.constant("bends") == "hinge" and joint.constant("bend_far") > 2 > 0.2 > joint.constant("bend_back")
