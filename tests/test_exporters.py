"""What exporters of other minds write: a motion in pieces, clothes on bones of their own, nodes that hold nothing."""

import re
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
import pytest

import fairswap
import rewrites
from fairswap.model.poses import Poses
from making import FREE, RIGS, TROUPE, act, figure, rig, run
from rewrites import REWRITES, Scene, garment, limbs_again_without_skin, rewritten, sockets_that_hold_no_skin

NAMES = {
    "clip|bone": lambda clip, bone, number: f"{clip}|{bone}",
    "bone_clip": lambda clip, bone, number: f"{bone}_{clip}",
    "bone": lambda clip, bone, number: bone,
    "a number": lambda clip, bone, number: f"Action.{number:03}",
    "clip and number": lambda clip, bone, number: f"{clip} {number}",
    "nothing": lambda clip, bone, number: None,
}


@cache
def acts():
    return [act("walk", "Pip"), act("clap", "Pip")]


def whole(clips=None) -> Scene:
    fairswap.save("whole.glb", figure("Pip"), acts() if clips is None else clips, force=True)
    return Scene(Path("whole.glb").read_bytes())


def in_pieces(scene, named, shuffled=False) -> bytes:
    """Each animation as one for each bone."""
    rows = []
    for animation in scene.json["animations"]:
        for node in dict.fromkeys(channel["target"]["node"] for channel in animation["channels"]):
            own = [channel for channel in animation["channels"] if channel["target"]["node"] == node]
            name = named(animation["name"], scene.nodes[node]["name"], len(rows))
            rows.append({
                "channels": [{**channel, "sampler": number} for number, channel in enumerate(own)],
                "samplers": [animation["samplers"][channel["sampler"]] for channel in own],
                **({"name": name} if name else {}),
            })  # fmt: skip
    if shuffled:
        rows = [rows[index] for index in np.random.default_rng(3).permutation(len(rows))]
    scene.json["animations"] = rows
    return scene.bytes()


def apart(clip, other):
    """How far two clips of one skeleton are apart: as a share of a half turn, and in metres."""
    dots = np.abs(np.einsum("bif,bif->bf", clip.poses.rotation_tracks, other.poses.rotation_tracks))
    return 1.0 - dots.min(), np.abs(clip.translations - other.translations).max()


@pytest.mark.parametrize("naming", NAMES)
@pytest.mark.long(but=3)
def test_a_motion_with_an_animation_for_each_bone_is_one_clip(naming):
    Path("pieces.glb").write_bytes(in_pieces(whole(), NAMES[naming], shuffled=naming in ("clip|bone", "bone_clip")))
    found = fairswap.load("pieces.glb")
    told = [finding.message for finding in found.findings if finding.code == "pieces-joined"]
    assert len(told) == len(found.clips) == 2
    assert all("of one bone each" in message for message in told)
    if "clip" in naming:
        assert {clip.name for clip in found.clips} == {"Walk", "Clap"}
    by_length = sorted(found.clips, key=lambda clip: clip.frames)
    for clip, first in zip(by_length, sorted(acts(), key=lambda clip: clip.frames), strict=True):
        assert max(apart(clip, first)) < 1e-6
    # What is written is what was read: two animations, that need no word any more.
    fairswap.save("again.glb", found.figure, found.clips)
    again = fairswap.load("again.glb")
    assert len(Scene(Path("again.glb").read_bytes()).json["animations"]) == 2
    assert "pieces-joined" not in {finding.code for finding in again.findings}


def test_clips_that_move_one_thing_each_stay_clips():
    """A few clips of one bone each; lamps that swing each by itself."""
    scene = whole([act("walk", "Pip")])
    bones = dict.fromkeys(channel["target"]["node"] for channel in scene.json["animations"][0]["channels"])
    in_pieces(scene, NAMES["clip|bone"])
    scene.json["animations"] = scene.json["animations"][:4]
    times, turns = scene.add([[0.0], [1.0]]), scene.add([[0, 0, 0, 1], [0, 1, 0, 0]])
    for number in range(8):
        scene.nodes.append({"name": f"lamp {number}", "translation": [number, 0, 0]})
        scene.roots().append(len(scene.nodes) - 1)
        row = {"sampler": 0, "target": {"node": len(scene.nodes) - 1, "path": "rotation"}}
        scene.json["animations"].append(
            {"name": f"lamp {number} swings", "channels": [row], "samplers": [{"input": times, "output": turns}]}
        )
    Path("lamps.glb").write_bytes(scene.bytes())
    found = fairswap.load("lamps.glb")
    assert len(bones) > 4
    assert len(found.clips) == 4
    assert len([row for row in found.held if row.kind == "prop"]) == 8
    assert "pieces-joined" not in {finding.code for finding in found.findings}


def test_pieces_of_which_nobody_knows_which_belong_together_stay():
    """Two motions without names, of which one moves fewer bones: the second of a bone may be of either."""
    scene = whole()
    scene.json["animations"][0]["channels"] = scene.json["animations"][0]["channels"][:9]
    Path("pieces.glb").write_bytes(in_pieces(scene, NAMES["a number"]))
    found = fairswap.load("pieces.glb")
    assert len(found.clips) > 20
    assert "pieces-joined" not in {finding.code for finding in found.findings}


def test_x3d_with_a_timer_for_each_joint_is_one_clip():
    fairswap.save("one.x3d", figure("Pip"), [act("walk", "Pip")])
    text = Path("one.x3d").read_text()
    timer = re.search(r'<TimeSensor DEF="([^"]*)"[^>]*>', text)
    name, timers = timer.group(1), []

    def own_timer(route):
        timers.append(re.sub(r' description="[^"]*"', "", timer.group()).replace(f'"{name}"', f'"timer {len(timers)}"'))
        return route.group().replace(f'fromNode="{name}"', f'fromNode="timer {len(timers) - 1}"')

    text = re.sub(f'<ROUTE[^>]*fromNode="{name}"[^>]*>', own_timer, text)
    Path("many.x3d").write_text(text.replace(timer.group(), "".join(timers)))
    assert len(timers) > 20
    found = fairswap.load("many.x3d")
    assert len(found.clips) == 1
    assert max(apart(found.clips[0], fairswap.load("one.x3d").clips[0])) < 1e-9


def cloaked(size, name):
    """Pip in a cloak on bones of its own, both below one node that moves."""
    scene = whole([act("walk", "Pip")])
    garment(scene, name, size=size)
    times, places = scene.add([[0.0], [1.0]]), scene.add([[0, 0, 0], [0, 0, 0.1]])
    scene.nodes.append({"name": "cart", "children": list(scene.roots())})
    scene.roots()[:] = [len(scene.nodes) - 1]
    animation = scene.json["animations"][0]
    animation["samplers"].append({"input": times, "output": places, "interpolation": "LINEAR"})
    target = {"node": len(scene.nodes) - 1, "path": "translation"}
    animation["channels"].append({"sampler": len(animation["samplers"]) - 1, "target": target})
    Path("cloak.glb").write_bytes(scene.bytes())
    return Path("cloak.glb")


def test_a_copy_of_the_skeleton_below_a_node_that_moves_is_joined():
    found = fairswap.load(cloaked(1.02, lambda name: f"cloak_{name}"))
    assert "skeletons-joined" in {finding.code for finding in found.findings}
    made = fairswap.convert(act_of_osric(), found, motion=FREE)
    cloak = made.figure.meshes[-1]
    assert cloak.name == "cloak"
    # It goes with the arms that it hangs on: as far as the body does.
    frame = made.clips[0].frames // 2
    body, *_, worn = made.figure.skin(made.clips[0].poses.world(), frame, made.clips[0].poses)
    assert np.abs(worn - body).max() < 0.05


@cache
def act_of_osric():
    return fairswap.demo_motion("walk", by="Osric")


def test_skin_that_no_motion_moves_is_told_before_the_verdict():
    numbers = {}
    path = cloaked(1.3, lambda name: f"q{numbers.setdefault(name, len(numbers))}")
    shown = run("inspect", path)
    assert "[skin-apart]" in shown.stdout
    assert "'cloak'" in shown.stdout
    fairswap.save("walk.glb", act_of_osric().figure, act_of_osric().clips)
    done = run("convert", "walk.glb", "--onto", path, "-o", "out.glb")
    assert "[skin-apart]" in done.stdout
    assert "Hang it on the body's bones" in " ".join(done.stdout.split())
    assert done.stdout.index("skin-apart") < done.stdout.index("of 100")
    # A figure all of whose skin is on its body says nothing of the kind.
    assert "skin-apart" not in run("inspect", TROUPE / "osric.glb").stdout


def test_bones_that_hold_no_skin_are_the_first_to_go():
    """And then nothing looks otherwise than with all of them."""
    fairswap.save("juniper.glb", figure("Juniper"), [act("walk", "Juniper")])
    Path("nodes.glb").write_bytes(rewritten(Path("juniper.glb").read_bytes(), "a node between every two bones"))
    document = fairswap.load("nodes.glb")
    text = 'fairswap = "platform/2"\nname = "small"\nbones = "quillmoor"\n[figure]\n'
    Path("free.toml").write_text(text)
    free = fairswap.fit(document, "free.toml")
    most = len(free.figure.skeleton) - 5
    Path("small.toml").write_text(f"{text}max_bones = {most}\n")
    made = fairswap.fit(document, "small.toml")
    assert len(made.figure.skeleton) == most < len(free.figure.skeleton)
    (change,) = [row for row in made.changes if row.rule == "figure.max_bones"]
    gone = change.what.partition(": ")[2].split(" and ")[0].split(", ")
    assert all(name.endswith("_offset") for name in gone)
    tails = {name for name in figure("Juniper").skeleton.names if name.startswith("coat_tail")}
    assert len(tails) == 6
    assert tails <= {*made.figure.skeleton.names}
    skins = [
        np.concatenate(each.figure.skin(each.clips[0].poses.world(), 40, each.clips[0].poses)) for each in (free, made)
    ]
    assert np.abs(skins[0] - skins[1]).max() < 1e-6


def test_travel_on_a_node_above_the_hips_is_not_told_as_lost():
    scene = whole([act("walk", "Pip")])
    Path("mover.glb").write_bytes(rewritten(scene.bytes(), "travel on a node above"))
    made = fairswap.convert("mover.glb", TROUPE / "osric.glb", motion=FREE)
    direct = fairswap.convert("whole.glb", TROUPE / "osric.glb", motion=FREE)
    assert "Mover" in fairswap.load("mover.glb").figure.skeleton.names
    assert "extras-lost" not in {finding.code for finding in made.done[0].findings}
    assert max(apart(made.clips[0], direct.clips[0])) < 1e-5


CONTROLS = {"sockets": (sockets_that_hold_no_skin,), "limbs again": (limbs_again_without_skin,),
            "both": (limbs_again_without_skin, sockets_that_hold_no_skin)}  # fmt: skip


@pytest.mark.parametrize(
    ("path", "controls"),
    # Every rig with all of it, and one with each.
    [*((path, "both") for path in sorted(RIGS.glob("*.glb"))), *(("crew.glb", one) for one in [*CONTROLS][:2])],
    ids=lambda value: getattr(value, "stem", value),
)
@pytest.mark.long(but=4)
def test_what_a_rig_is_moved_by_is_no_part_of_the_body(path, controls):
    """Sockets and targets that hold no skin change nothing of what is found, on figures of another make."""
    path = rig(path)
    scene, plain = Scene(path.read_bytes()), fairswap.load(path)
    for add in CONTROLS[controls]:
        add(scene)
    found = fairswap.load(scene.bytes(), format=".glb")
    # It stands as it stood, and nothing new is said of that.
    assert found.space == plain.space
    assert found.figure.height_m == pytest.approx(plain.figure.height_m, abs=1e-4)
    assert [finding.code for finding in found.findings] == [finding.code for finding in plain.findings]
    before, after = roles_by_node(plain), roles_by_node(found)
    before.pop("root", None), after.pop("root", None)
    assert after == before


def test_keys_on_the_controls_of_a_rig_are_told():
    """Before anything is said of a result in which the body stands still."""
    scene = whole([act("walk", "Pip")])
    limbs_again_without_skin(scene)
    twins = {row["name"]: node for node, row in enumerate(scene.nodes) if row.get("name", "").endswith("_ik")}
    Path("both.glb").write_bytes(scene.bytes())
    for _, channel, _ in scene.channels():
        name = scene.nodes[channel["target"]["node"]]["name"]
        channel["target"]["node"] = twins.get(f"{name}_ik", channel["target"]["node"])
    Path("controls.glb").write_bytes(scene.bytes())
    assert "[keys-apart]" in run("inspect", "controls.glb").stdout
    done = run("convert", "controls.glb", "--onto", TROUPE / "osric.glb", "-o", "out.glb")
    assert done.stdout.index("keys-apart") < done.stdout.index("of 100")
    assert "Bake the motion" in done.stdout.replace("\n", " ")
    for path in ("both.glb", "whole.glb"):
        assert "keys-apart" not in run("inspect", path).stdout


@pytest.mark.parametrize("known", ["by names", "by a clip"])
@pytest.mark.parametrize("name", ["chibi", "words", "idle"])
@pytest.mark.long(but=2)
def test_nor_is_it_where_there_is_no_skin(name, known):
    scene = Scene(rig(f"{name}.glb").read_bytes())
    before = roles_by_node(fairswap.load(scene.bytes(), format=".glb"))
    sockets_that_hold_no_skin(scene)
    if known == "by a clip":
        REWRITES["no names"](scene)
    bare = fairswap.load(scene.bytes(), format=".glb")
    after = roles_by_node(bare, replace(bare.figure, meshes=()), bare.clips[0] if known == "by a clip" else None)
    small = ("eye", "jaw", "thumb", "index", "middle", "ring", "little") if known == "by a clip" else ("jaw",)
    told = {role for role in before if not role.startswith(("root", *small))}
    assert {role: after.get(role) for role in told} == {role: before[role] for role in told}


def roles_by_node(document, figure=None, clip=None):
    roles = fairswap.bones.roles_of(figure or document.figure, clip=clip).bones
    return {role: document.figure.source.nodes[bone] for role, bone in roles.items()}


@pytest.mark.parametrize("path", sorted(RIGS.glob("*.glb"))[::3], ids=lambda path: path.stem)
def test_nodes_between_bones_hide_nothing_where_names_say_nothing(path):
    before = roles_by_node(fairswap.load(rewritten(path.read_bytes(), "no names"), format=".glb"))
    between = rewritten(path.read_bytes(), "a node between every two bones", "no names")
    after = roles_by_node(fairswap.load(between, format=".glb"))
    before.pop("root", None), after.pop("root", None)
    assert after == before


@pytest.mark.parametrize("name", ["latin", "nautical", "words"])
def test_sockets_in_motion_text_neither_turn_a_figure_nor_take_its_roles(name):
    path = rig(f"{name}.bvh")
    Path("props.bvh").write_text(with_props(path.read_text()))
    plain, found = fairswap.load(path), fairswap.load("props.bvh")
    assert len(found.figure.skeleton) > len(plain.figure.skeleton) + 10
    assert found.space == plain.space
    names = []
    for document in (plain, found):
        roles = fairswap.bones.roles_of(document.figure, clip=document.clips[0]).bones
        names.append({role: document.figure.skeleton.names[bone] for role, bone in roles.items()})
    assert names[0] == names[1]


def with_props(text):
    """A joint that never turns beside the first child of a dozen joints."""
    lines = [line for line in text.splitlines() if line.strip()]
    motion = lines.index("MOTION")
    big = max(abs(float(x)) for line in lines[:motion] if line.strip().startswith("OFFSET") for x in line.split()[1:])
    dice = np.random.default_rng(1)
    out, widths = [], []
    for at, line in enumerate(lines[:motion]):
        out.append(line)
        if line.strip().startswith("CHANNELS"):
            widths.append(int(line.split()[1]))
            forks = lines[at + 1].strip().startswith("JOINT")
            if forks and len(widths) % 3 == 0:
                place = " ".join(f"{x:.4f}" for x in 0.3 * big * dice.normal(size=3))
                out += [f"JOINT prop{at}", "{", f"OFFSET {place}", "CHANNELS 3 Zrotation Xrotation Yrotation"]
                out += ["End Site", "{", f"OFFSET 0 {0.01 * big:.4f} 0", "}", "}"]
                widths.append(-3)
    rows = []
    for line in lines[motion + 3 :]:
        values, row, start = line.split(), [], 0
        for width in widths:
            row += ["0"] * 3 if width < 0 else values[start : start + width]
            start += max(width, 0)
        rows.append(" ".join(row))
    return "\n".join([*out, *lines[motion : motion + 3], *rows]) + "\n"


def test_a_bone_without_skin_keeps_its_role_if_its_name_says_it_and_no_other_does():
    scene = Scene(rig("suffix.glb").read_bytes())
    head = next(node for node, row in enumerate(scene.nodes) if row.get("name") == "head")
    number = rewrites._add_joint(scene, head, {"name": "jaw", "translation": [0.0, 0.02, 0.05]})
    roles = roles_by_node(fairswap.load(scene.bytes(), format=".glb"))
    assert roles["jaw"] == number
    # A socket that is called after the hand that it is on has none, with skin and without.
    hand = roles["hand_left"]
    name = f"{scene.nodes[hand]['name']} socket"
    rewrites._add_joint(scene, hand, {"name": name, "translation": [0.0, 0.3, 0.0]})
    document = fairswap.load(scene.bytes(), format=".glb")
    assert roles_by_node(document)["hand_left"] == hand
    assert roles_by_node(document, replace(document.figure, meshes=()))["hand_left"] == hand


def test_a_figure_of_which_only_a_part_has_skin_is_stood_up():
    scene = Scene(rewritten(rig("words.glb").read_bytes(), "lying on its back"))
    head = next(node for node, row in enumerate(scene.nodes) if row.get("name") == "Head")
    for primitive in scene.primitives():
        attributes = primitive["attributes"]
        if "JOINTS_0" in attributes:
            row = scene.json["skins"][0]["joints"].index(head)
            count = len(scene.arrays[attributes["JOINTS_0"]])
            attributes["JOINTS_0"] = scene.add(np.tile([row, 0, 0, 0], (count, 1)), "<u2")
            attributes["WEIGHTS_0"] = scene.add(np.tile([1.0, 0.0, 0.0, 0.0], (count, 1)))
    found = fairswap.load(scene.bytes(), format=".glb")
    assert "space-corrected" in {finding.code for finding in found.findings}
    places = found.figure.skeleton.rest.positions[0]
    assert np.ptp(places[:, 1]) > 1.2 > np.ptp(places[:, 2])


def test_tails_that_sway_by_themselves_are_no_controls():
    juniper, walk = figure("Juniper"), act("walk", "Juniper")
    tracks = np.repeat(juniper.skeleton.rest_rotations[:, :, None], walk.frames, axis=2)
    tails = [bone for bone, name in enumerate(juniper.skeleton.names) if name.startswith("coat_tail")]
    half = 0.1 * np.sin(np.linspace(0.0, 9.0, walk.frames))
    for bone in tails:
        tracks[bone] = np.array([np.sin(half), 0 * half, 0 * half, np.cos(half)])
    poses = Poses(juniper.skeleton, tracks)
    fairswap.save("tails.glb", juniper, [replace(walk, poses=poses, keyed=frozenset(tails), origin=None, kept=None)])
    assert "keys-apart" not in run("inspect", "tails.glb").stdout
