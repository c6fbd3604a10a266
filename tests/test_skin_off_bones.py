"""Skin that lies elsewhere than the bones that are judged is told, whatever the verdict on the bones."""

import numpy as np
import pytest

import fairswap
from fairswap.bones.assignment import roles_of
from fairswap.bones.skin import skin_off_bones
from making import FREE, RIGS, TROUPE, act, figure, run
from rewrites import REWRITES, Scene, rewritten

ARM = {"upper_arm_left", "lower_arm_left"}


def whole() -> Scene:
    fairswap.save("whole.glb", figure("Pip"), [act("walk", "Pip")], force=True)
    with open("whole.glb", "rb") as file:
        return Scene(file.read())


def bound(scene, moved, joints=lambda name: True):
    """Bind matrices that bring the skin of some joints elsewhere: they say where the mesh was, and it was not there."""
    for skin in scene.json["skins"]:
        index = skin["inverseBindMatrices"]
        matrices = np.array(scene.arrays[index]).reshape(-1, 16)
        for row, node in enumerate(skin["joints"]):
            if joints(scene.nodes[node]["name"]):
                matrices[row] = moved(matrices[row].reshape(4, 4).T).T.ravel()
        scene.arrays[index] = matrices.astype(scene.arrays[index].dtype)


def shifted(by):
    def moved(matrix):
        shift = np.eye(4)
        shift[:3, 3] = by
        return matrix @ shift

    return moved


def weighted(scene, change):
    for primitive in scene.primitives():
        index = primitive["attributes"]["JOINTS_0"]
        scene.arrays[index] = change(scene.arrays[index]).astype(scene.arrays[index].dtype)


def number_of(scene, role):
    name = figure("Pip").skeleton.names[roles_of(figure("Pip")).bones[role]]
    return next(row for row, node in enumerate(scene.json["skins"][0]["joints"]) if scene.nodes[node]["name"] == name)


def one_arm_bound_elsewhere(scene):
    arm = scene.nodes[scene.json["skins"][0]["joints"][number_of(scene, "lower_arm_left")]]["name"]
    bound(scene, shifted([0.0, 0.0, 0.25]), lambda name: name == arm)


def bound_ten_centimetres_higher(scene):
    bound(scene, shifted([0.0, 0.10, 0.0]))


def bound_nowhere(scene):
    for skin in scene.json["skins"]:
        del skin["inverseBindMatrices"]


def an_arm_on_the_head(scene):
    arm, head = number_of(scene, "upper_arm_left"), number_of(scene, "head")
    weighted(scene, lambda joints: np.where(np.asarray(joints) == arm, head, joints))


def sides_exchanged(scene):
    left, right = number_of(scene, "lower_leg_left"), number_of(scene, "lower_leg_right")
    weighted(scene, lambda j: np.where(np.asarray(j) == left, right, np.where(np.asarray(j) == right, left, j)))


def joints_mixed_up(scene):
    count = len(scene.json["skins"][0]["joints"])
    weighted(scene, lambda joints: np.random.default_rng(3).permutation(count)[np.asarray(joints)])


SPOILT = {
    one_arm_bound_elsewhere: {"lower_arm_left"},
    bound_ten_centimetres_higher: {"upper_arm_left", "upper_arm_right"},
    bound_nowhere: ARM,
    an_arm_on_the_head: {"upper_arm_left"},
    sides_exchanged: {"lower_leg_left", "lower_leg_right"},
    joints_mixed_up: set(),
}


def told(path):
    found = fairswap.inspect(path).findings
    return [finding for finding in found if finding.code == "skin-off-bones"]


@pytest.mark.parametrize("spoil", SPOILT, ids=lambda spoil: spoil.__name__)
@pytest.mark.long(but=2)
def test_skin_that_is_bound_or_weighted_wrongly_is_told_by_every_verb(spoil, tmp_path):
    scene = whole()
    spoil(scene)
    path = tmp_path / "spoilt.glb"
    path.write_bytes(scene.bytes())
    (finding,) = told(path)
    assert finding.severity == "warning"
    assert all(role in finding.message for role in SPOILT[spoil])
    idle = fairswap.demo_motion("idle", by="Osric")
    made = fairswap.convert(idle, path, motion=FREE)
    assert finding in made.findings
    assert finding in made.comparisons[0].findings
    made.save(tmp_path / "made.glb")
    assert "skin-off-bones" in {row.code for row in fairswap.compare(idle, tmp_path / "made.glb").findings}
    assert finding in fairswap.fit(path, "fernway").findings
    assert fairswap.check(path, "fernway").findings == (finding,)


def test_it_stands_before_the_numbers_and_in_the_report(tmp_path):
    scene = whole()
    one_arm_bound_elsewhere(scene)
    path = tmp_path / "spoilt.glb"
    path.write_bytes(scene.bytes())
    fairswap.save("idle.glb", fairswap.demo_motion("idle", by="Osric"))
    run("convert", "idle.glb", "--onto", path, "-o", "out.glb")
    done = run("compare", "idle.glb", "out.glb")
    assert done.stdout.index("skin-off-bones") < done.stdout.index("of 100  why")
    assert [row["code"] for row in run("compare", "idle.glb", "out.glb", "--json").report["findings"]] == [
        "skin-off-bones"
    ]


@pytest.mark.parametrize(
    "path", [*sorted(TROUPE.glob("*.glb")), *sorted(RIGS.glob("*.glb"))[::2]], ids=lambda path: path.stem
)
def test_of_sound_figures_nothing_is_told(path):
    assert told(path) == []


@pytest.mark.parametrize("name", sorted(REWRITES)[::4])
def test_another_way_to_write_it_does_not_move_the_skin(name):
    scene = whole()
    document = fairswap.load(rewritten(scene.bytes(), name), format=".glb")
    assert skin_off_bones(document.figure, roles_of(document.figure)) == []
