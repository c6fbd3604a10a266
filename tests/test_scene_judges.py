"""Independent judges of scenes: three.js reads COLLADA, an X3D browser plays H-Anim, USD skins by itself.

Each is asked for the places of all bones, and of skin where it tells, at twenty instants.
"""

import re
import shutil
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import fairswap
from conftest import need
from fairswap.model.mesh import deformed_vertices
from judging import JUDGES, judge
from making import act, figure
from scenes import baked, body

TROUPE = ("Juniper", "Osric", "Pip")
QUIET = ["--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader",
         "--allow-file-access-from-files"]  # fmt: skip
STEP = 97


def twenty(clip):
    return np.linspace(0.0, clip.duration_s, 20)


def without_morphs(one):
    """three.js reads no morphs of COLLADA, and cannot read a skin of them."""
    bare = {"morph_names": (), "morph_deltas": None, "morph_normals": None, "morph_weights": None}
    return replace(one, meshes=tuple(replace(mesh, **bare) for mesh in one.meshes))


@pytest.mark.parametrize("who", TROUPE)
@pytest.mark.long(but=1)
def test_three_js_puts_bones_and_skin_of_collada_where_we_do(who):
    one, clip = without_morphs(figure(who)), act("clap", who)
    fairswap.save("made.dae", one, [clip], space=fairswap.Space())
    theirs = judge("collada", Path("made.dae"), twenty(clip).tolist(), STEP)
    assert theirs["duration"] == pytest.approx(clip.duration_s, abs=1e-5)
    poses = clip.at(twenty(clip))
    world = poses.world()
    # It calls joints by what identifies them in the file, which has letters and digits alone.
    clean = {re.sub(r"[^A-Za-z0-9_-]", "_", name): bone for bone, name in enumerate(one.skeleton.names)}
    assert set(theirs["joints"]) == set(clean)
    for name, places in theirs["joints"].items():
        assert np.abs(world.positions[:, clean[name]] - places).max() < 1e-4, name
    (body,) = [mesh for mesh in one.meshes if len(mesh.vertices) > 5000]
    shown = np.stack([deformed_vertices(body, world, frame)[::STEP] for frame in range(20)])
    skins = [np.array(places) for places in theirs["skins"].values()]
    # Every point that it shows is one of ours: it may keep its vertices in another order.
    nearest = min(
        np.abs(skin[0][:, None] - deformed_vertices(body, world, 0)[None]).sum(axis=2).min(axis=1).max()
        for skin in skins
    )
    assert nearest < 2e-4
    assert shown.shape[0] == len(next(iter(skins)))


def without_meshes(one):
    """The browser draws each instant before it tells where joints are: a skeleton is drawn at once."""
    return replace(one, meshes=())


@pytest.fixture(scope="module")
def x3d_browser():
    need("chromium, and the packages of tests/judges (npm ci)",
         shutil.which("chromium") is not None and (JUDGES / "node_modules" / "x_ite").exists())  # fmt: skip
    from playwright.sync_api import sync_playwright

    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=shutil.which("chromium"), args=QUIET)
        page = browser.new_page()
        page.goto((JUDGES / "x3d.html").as_uri())
        page.wait_for_function("window.X3D && X3D.getBrowser()")
        yield page
        browser.close()


@pytest.mark.long
def test_an_x3d_browser_puts_every_joint_where_we_do(x3d_browser):
    for who in ("Osric", "Pip"):  # other axes and inches; a hand of three fingers
        clip = act("turn-and-bow", who)
        fairswap.save(f"{who}.x3d", without_meshes(figure(who)), [clip])
        fractions = (twenty(clip) / clip.duration_s).tolist()
        text = Path(f"{who}.x3d").read_text()
        theirs = x3d_browser.evaluate("([text, fractions]) => jointsOf(text, fractions)", [text, fractions])
        ours = clip.at(twenty(clip)).world().positions
        assert set(theirs) == set(figure(who).skeleton.names)
        for bone, name in enumerate(figure(who).skeleton.names):
            assert np.abs(ours[:, bone] - theirs[name]).max() < 1e-4, (who, name)


@pytest.mark.long
def test_an_x3d_browser_plays_a_baked_motion_as_we_read_it(x3d_browser):
    clip = act("turn-and-bow", "Juniper")
    fairswap.save("plain.x3d", without_meshes(figure("Juniper")), [clip])
    text = baked(Path("plain.x3d").read_text(), 20, "ZXYXYZYZXXZYYXZZYX")  # joints turn in all orders
    text = text.replace("<HAnimMotion ", '<HAnimMotion enabled="false" ')  # its clock would go on by itself
    Path("baked.x3d").write_text(text)
    (read,) = fairswap.load("baked.x3d").clips
    fractions = np.arange(0, read.frames, 17) / (read.frames - 1)
    theirs = x3d_browser.evaluate("([text, fractions]) => jointsOf(text, fractions)", [text, fractions.tolist()])
    ours = read.at(fractions * read.duration_s).world().positions
    for name, places in theirs.items():
        assert np.abs(ours[:, read.skeleton.names.index(name)] - places).max() < 1e-4, name
    assert set(theirs) == set(clip.skeleton.names)


@pytest.mark.parametrize("who", TROUPE)
def test_usds_own_skinning_puts_bones_and_skin_where_we_do(who):
    from pxr import Usd, UsdGeom, UsdSkel, Vt

    one, clip = figure(who), act("lamp", who)
    fairswap.save("made.usda", one, [clip])
    stage = Usd.Stage.Open("made.usda")
    metres = UsdGeom.GetStageMetersPerUnit(stage)
    turn = one.space.turn
    root = UsdSkel.Root(stage.GetDefaultPrim())
    cache = UsdSkel.Cache()
    cache.Populate(root, Usd.PrimDefaultPredicate)
    (binding,) = cache.ComputeSkelBindings(root, Usd.PrimDefaultPredicate)
    query = cache.GetSkelQuery(binding.GetSkeleton())
    frames = np.unique(np.round(twenty(clip) * float(clip.rate)).astype(int))
    world = clip.poses.world()
    codes = stage.GetTimeCodesPerSecond() / float(clip.rate)
    worst = skin_off = 0.0
    for frame in frames.tolist():
        transforms = query.ComputeJointSkelTransforms(Usd.TimeCode(frame * codes))
        places = np.array([matrix.ExtractTranslation() for matrix in transforms]) @ turn.T * metres
        worst = max(worst, float(np.abs(places - world.positions[frame]).max()))
        for target, mesh in zip(binding.GetSkinningTargets(), one.meshes, strict=True):
            points = UsdGeom.Mesh(target.GetPrim()).GetPointsAttr().Get()
            moved = Vt.Vec3fArray(points)
            assert target.ComputeSkinnedPoints(query.ComputeSkinningTransforms(Usd.TimeCode(frame * codes)), moved)
            ours = deformed_vertices(mesh, world, frame)
            skin_off = max(skin_off, float(np.abs(np.array(moved) @ turn.T * metres - ours).max()))
    assert worst < 1e-4
    assert skin_off < 1e-4


@pytest.mark.parametrize("suffix", [".usda", ".usdc", ".usdz"])
def test_usds_own_validators_find_nothing(suffix):
    from pxr import Usd, UsdValidation

    made, _ = body()
    made.json["materials"][0] |= {"normalTexture": {"index": 0}, "emissiveTexture": {"index": 0}}
    made.json["materials"][0]["pbrMetallicRoughness"]["metallicRoughnessTexture"] = {"index": 0}
    shiny = fairswap.load(made.glb(), format=".glb").figure
    fairswap.save(f"shiny{suffix}", shiny)
    fairswap.save(f"made{suffix}", figure("Juniper"), [act("walk", "Juniper"), act("clap", "Juniper")])
    validators = UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
    for name in ("made", "shiny"):
        errors = UsdValidation.ValidationContext(validators).Validate(Usd.Stage.Open(f"{name}{suffix}"))
        assert not [f"{error.GetName()}: {error.GetMessage()}" for error in errors]


HEIGHTS = [(0, 0, 80), (0, 0, 30), (0, 0, 30), (0, 0, 30)]
RINGS = [(x, y, 30.0 * ring) for ring in range(4) for x, y in ((-5, -5), (5, -5), (5, 5), (-5, 5))]
FACES = [[4 * r + i, 4 * r + (i + 1) % 4, 4 * r + 4 + (i + 1) % 4, 4 * r + 4 + i] for r in range(3) for i in range(4)]


def sleeved_arm(start=0.0, keyed=False, without=(), even=False, name="stage.usda"):
    """A stage as other programs lay it out: centimetres with Z up, a turned group above, an animation bound at the
    root, a mesh with joints of its own order and a bind transform, quads, coordinates at each corner of each face.

    Its animation begins at the time code ``start``; ``keyed``: all that never changes has one key as well; ``even``:
    every point has the same influences, said once.
    """
    from pxr import Gf, Sdf, Usd, UsdGeom, UsdSkel, Vt

    stage = Usd.Stage.CreateNew(name)
    when = Usd.TimeCode(start) if keyed else Usd.TimeCode.Default()
    UsdGeom.SetStageUpAxis(stage, "Z")
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetTimeCodesPerSecond(24)
    group = UsdGeom.Xform.Define(stage, "/World/Group")
    group.AddTranslateOp().Set(Gf.Vec3d(30, -20, 10), when)
    group.AddRotateZOp().Set(30.0, when)
    root = UsdSkel.Root.Define(stage, "/World/Group/Arm")
    joints = ["a", "a/b", "a/b/c", "a/b/c/d"]
    skeleton = UsdSkel.Skeleton.Define(stage, "/World/Group/Arm/Rig/Skel")
    rest = [Gf.Matrix4d().SetTranslate(Gf.Vec3d(*one)) for one in HEIGHTS]
    world, at = [], Gf.Vec3d(0)
    for one in HEIGHTS:
        at += Gf.Vec3d(*one)
        world.append(Gf.Matrix4d().SetTranslate(at))
    skeleton.CreateJointsAttr(joints)
    if "rest" not in without:
        skeleton.CreateRestTransformsAttr(Vt.Matrix4dArray(rest))
    if "bind" not in without:
        skeleton.CreateBindTransformsAttr(Vt.Matrix4dArray(world))
    animation = UsdSkel.Animation.Define(stage, "/World/Group/Arm/Rig/Bend")
    animation.CreateJointsAttr(["a/b", "a/b/c"])  # not all of them
    for code in range(25):
        half = np.radians(2.0 * code) / 2
        turn = Gf.Quatf(float(np.cos(half)), float(np.sin(half)), 0, 0)
        animation.CreateRotationsAttr().Set(Vt.QuatfArray([turn, turn]), start + code)
    # Said once, and not where they rest: longer by a tenth.
    animation.CreateTranslationsAttr().Set(Vt.Vec3fArray([Gf.Vec3f(0, 0, 33)] * 2))
    animation.CreateScalesAttr().Set(Vt.Vec3hArray([Gf.Vec3h(1)] * 2))
    UsdSkel.BindingAPI.Apply(root.GetPrim()).CreateAnimationSourceRel().SetTargets([animation.GetPath()])
    mesh = UsdGeom.Mesh.Define(stage, "/World/Group/Arm/Sleeve")
    mesh.CreatePointsAttr().Set(Vt.Vec3fArray([Gf.Vec3f(*one) for one in RINGS]), when)
    mesh.CreateFaceVertexCountsAttr().Set([4] * len(FACES), when)
    mesh.CreateFaceVertexIndicesAttr().Set([one for face in FACES for one in face], when)
    primvars = UsdGeom.PrimvarsAPI(mesh)
    uvs = primvars.CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying)
    uvs.Set(Vt.Vec2fArray([Gf.Vec2f(*one) for _ in FACES for one in ((0, 0), (1, 0), (1, 1), (0, 1))]), when)
    binding = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
    binding.CreateSkeletonRel().SetTargets([skeleton.GetPath()])
    binding.CreateJointsAttr(["a/b/c", "a/b", "a"])  # its own order, and fewer
    binding.CreateGeomBindTransformAttr().Set(Gf.Matrix4d().SetTranslate(Gf.Vec3d(0, 0, 80)))
    number = [[2, 1], [2, 1], [1, 0], [0, 1]]
    weight = [[1.0, 0.0], [0.5, 0.5], [0.5, 0.5], [1.0, 0.0]]
    indices, shares = (np.repeat(rows, 4, axis=0).ravel().tolist() for rows in (number, weight))
    binding.CreateJointIndicesPrimvar(even, 2).Set(number[1] if even else indices, when)
    binding.CreateJointWeightsPrimvar(even, 2).Set(weight[1] if even else shares, when)
    return stage


def skinned_by_usd(stage, frame):
    """The points of the sleeve as the official library moves them, in the stage's coordinates."""
    from pxr import Gf, Usd, UsdGeom, UsdSkel, Vt

    root = UsdSkel.Root(stage.GetPrimAtPath("/World/Group/Arm"))
    cache = UsdSkel.Cache()
    cache.Populate(root, Usd.PrimDefaultPredicate)
    (held,) = cache.ComputeSkelBindings(root, Usd.PrimDefaultPredicate)
    query, target = cache.GetSkelQuery(held.GetSkeleton()), held.GetSkinningTargets()[0]
    points = Vt.Vec3fArray(UsdGeom.Mesh(target.GetPrim()).GetPointsAttr().Get(frame))
    assert target.ComputeSkinnedPoints(query.ComputeSkinningTransforms(frame), points, frame)
    above = UsdGeom.XformCache(frame).GetLocalToWorldTransform(held.GetSkeleton().GetPrim())
    return np.array([above.Transform(Gf.Vec3d(point)) for point in points])


@pytest.mark.parametrize(
    "way",
    [{}, {"start": 1001.0}, {"start": -12.0}, {"keyed": True, "start": 1.0}, {"even": True}],
    ids=str,
)
def test_a_stage_laid_out_by_other_programs_is_skinned_as_usd_does_it(way):
    stage = sleeved_arm(**way)
    stage.Save()
    document = fairswap.load("stage.usda")
    one, clip = document.figure, document.clips[0]
    assert (one.name, one.skeleton.names, clip.name, clip.rate) == ("Rig", ("a", "b", "c", "d"), "Bend", 24)
    assert (clip.frames, len(one.meshes[0].triangles)) == (25, 24)
    world = clip.poses.world()
    to_ours = one.source.to_ours @ np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0]]) * 0.01
    for frame in (0, 11, 24):
        theirs = skinned_by_usd(stage, way.get("start", 0.0) + frame) @ to_ours.T
        ours = deformed_vertices(one.meshes[0], world, frame)
        # Ours are more, one for each coordinate: every one of theirs is among them, and none besides.
        apart = np.abs(ours[:, None] - theirs[None]).max(axis=2)
        assert apart.min(axis=0).max() < 1e-5
        assert apart.min(axis=1).max() < 1e-5
    assert one.meshes[0].uvs is not None


def test_joints_rest_as_they_were_bound_and_are_bound_as_they_rest_where_one_is_not_said():
    places = []
    for number, without in enumerate([(), ("bind",), ("rest",)]):
        sleeved_arm(without=without, name=f"{number}.usda").Save()
        clip = fairswap.load(f"{number}.usda").clips[0]
        places.append(clip.world().positions)
    assert places[1] == pytest.approx(places[0], abs=1e-6)
    assert places[2] == pytest.approx(places[0], abs=1e-6)
    sleeved_arm(without=("bind", "rest")).Save()
    with pytest.raises(fairswap.InputError, match="neither a bind nor a rest pose"):
        fairswap.load("stage.usda")


def test_what_a_stage_hides_and_what_it_keys_point_by_point_is_told():
    from pxr import Gf, UsdGeom, Vt

    stage = sleeved_arm()
    for name, purpose in (("Guide", "guide"), ("Proxy", "proxy"), ("Off", "default")):
        more = UsdGeom.Mesh.Define(stage, f"/World/Group/{name}")
        more.CreatePointsAttr(Vt.Vec3fArray([Gf.Vec3f(*one) for one in RINGS]))
        more.CreateFaceVertexCountsAttr([4] * len(FACES))
        more.CreateFaceVertexIndicesAttr([one for face in FACES for one in face])
        more.CreatePurposeAttr(purpose)
        if name == "Off":
            more.MakeInvisible()
    sleeve = UsdGeom.Mesh(stage.GetPrimAtPath("/World/Group/Arm/Sleeve"))
    for code in (0.0, 1.0):
        sleeve.GetPointsAttr().Set(Vt.Vec3fArray([Gf.Vec3f(*one) for one in RINGS]), code)
    stage.Save()
    document = fairswap.load("stage.usda")
    assert [mesh.name for mesh in document.figure.meshes] == ["Sleeve"]
    told = {row.code: row.message for row in document.findings}
    assert "3 meshes" in told["hidden-left-out"]
    assert "keyed one by one (Sleeve)" in told["motion-not-read"]
