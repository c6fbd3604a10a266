"""Bone profiles: exact names, editions, prefixes; and what is wrong with a profile file."""

from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.bones.assignment import roles_of
from fairswap.bones.profile import BoneProfile, built_in_profiles, profile_named
from fairswap.bones.roles import MUST_HAVE, is_role
from fairswap.model.skeleton import Skeleton
from making import figure, swap_between

HEAD = 'fairswap = "bones/1"\nname = "mine"\n'


def skeleton(*names):
    count = len(names)
    parents = np.arange(count) - 1
    return Skeleton(names, parents, np.tile([0.0, 0, 0, 1], (count, 1)), np.tile([0.0, 0.1, 0], (count, 1)))


def profile(text):
    Path("p.toml").write_text(HEAD + text, encoding="utf-8")
    return BoneProfile.load("p.toml")


def test_built_in_profiles_fill_every_must_have_role_with_a_bone_of_its_own():
    for known in built_in_profiles():
        assert not set(MUST_HAVE) - set(known.roles), known.name
        assert all(is_role(role) for role in known.roles)


@pytest.mark.parametrize(("name", "stage", "roles"), [("Juniper", "quillmoor", 69), ("Osric", "saltglass", 56)])
def test_the_troupe_is_recognised_by_the_profile_of_its_stage(name, stage, roles):
    found = roles_of(figure(name))
    assert (found.profile, len(found.bones)) == (stage, roles)


def test_editions_are_tried_in_order_and_a_prefix_may_be_anything():
    mine = profile(
        'prefix = ["scene7:", "*|"]\nignore = ["*_helper"]\n[roles]\nhips = ["Hip", "Pelvis"]\nhead = "Head"\n'
    )
    for names, expected in (
        (("Pelvis", "Head"), {"hips": 0, "head": 1}),
        (("Pelvis", "Hip"), {"hips": 1}),
        (("scene7:Hip", "a b|Head"), {"hips": 0, "head": 1}),
        (("Hip_helper", "head"), {}),
    ):
        assert mine.assign(skeleton(*names)).bones == expected, names


def test_equal_names_are_told_apart_by_their_path():
    mine = profile('[roles]\nhips = "a/x"\nhead = "a/x/x"\n')
    assert mine.assign(skeleton("a", "x", "x")).bones == {"hips": 1, "head": 2}


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("", "the field 'roles' is missing"),
        ("[roles]\nhips = 3\n", "roles"),
        ('[roles]\ntorso = "x"\n', "'torso' is not a role"),
        ('[roles]\nhips = "x"\nhead = "x"\n', "bone 'x' has two roles, hips and head"),
        ('[roles]\nhips = "x"\n[space]\nup = "north"\n', "up is 'north'"),
        ('[rolls]\nhips = "x"\n[roles]\n', "no field 'rolls'.*Do you mean roles"),
        ("[roles\n", "not TOML"),
    ],
)
def test_a_wrong_profile_is_told_with_its_place(text, problem):
    with pytest.raises(fairswap.FairSwapError, match=problem):
        profile(text)


def test_a_file_that_is_no_profile_and_a_name_that_is_none():
    Path("x.toml").write_text('fairswap = "plan/1"\n')
    with pytest.raises(fairswap.InputError, match="not a bone profile"):
        profile_named("x.toml")
    with pytest.raises(fairswap.InputError, match="one of fernway, h-anim, quillmoor, saltglass, vrm-1"):
        profile_named("nowhere")


def test_a_profile_given_by_hand_makes_an_unknown_figure_known():
    from dataclasses import replace

    osric = figure("Osric")
    unknown = replace(osric.skeleton, names=tuple(f"b{i:02}" for i in range(len(osric.skeleton))))
    stranger = replace(osric, skeleton=unknown)
    assert swap_between(stranger, figure("Juniper")).source.roles.profile == "found by itself"
    known = roles_of(osric)
    lines = "\n".join(f'{role} = "b{bone:02}"' for role, bone in known.bones.items())
    swap = swap_between(stranger, figure("Juniper"), source_bones=profile(f"[roles]\n{lines}\n"))
    assert swap.source.roles.bones == known.bones
