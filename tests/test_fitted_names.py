"""Names of clips on a platform: allowed, short enough, nobody else's, and as near as can be to what they were."""

import re

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fairswap.platform.motions import fitting_name
from fairswap.platform.rules import ClipRules

PATTERNS = ("", "[a-z]+", "[a-z-]+", "[A-Za-z0-9_]+", r"\w+", "[A-Z][a-z0-9]*", "[a-z0-9 ]{1,12}", "clip[0-9]*")


@settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(
    st.lists(
        st.one_of(st.sampled_from(["walk", "Walk", "walk 2", "bow"]), st.text(max_size=40)), min_size=1, max_size=6
    ),
    st.sampled_from(PATTERNS[:-3]),
    st.one_of(st.none(), st.integers(4, 20)),
)
@pytest.mark.long
def test_every_clip_gets_a_name_that_is_allowed_and_its_own(names, pattern, longest):
    rules, taken = ClipRules(names=pattern, max_name_length=longest), set()
    for name in names:
        made = fitting_name(name, rules, taken)
        assert made not in taken
        assert made or not name
        assert longest is None or len(made) <= longest
        assert not pattern or re.fullmatch(pattern, made), made
        taken.add(made)


@pytest.mark.parametrize("pattern", PATTERNS)
def test_what_is_allowed_stays(pattern):
    for name in ("walk", "Walk", "a", "clip2", "clip 2"):
        if re.fullmatch(pattern or ".*", name):
            assert fitting_name(name, ClipRules(names=pattern, max_name_length=6), set()) == name


@pytest.mark.parametrize(
    ("name", "pattern", "longest", "taken", "made"),
    [
        ("Street Dance", "[a-z-]+", None, (), "street-dance"),
        ("Wäve! (2)", "[A-Za-z0-9 -]+", None, (), "W-ve- -2"),
        ("walk fast", "[a-z_]+", None, (), "walk_fast"),
        ("walk fast", "[a-z]+", None, (), "walkfast"),
        ("WALK", "[a-z]+", None, (), "walk"),
        ("舞", "[a-z]+", None, (), "clip"),
        ("walking about", "", 8, (), "walking"),
        ("walk", "", None, ("walk",), "walk 2"),
        ("walk", "", None, ("walk", "walk 2"), "walk 3"),
        ("walk", "[a-z0-9-]+", None, ("walk",), "walk-2"),
        ("walk", "[a-z0-9_]+", None, ("walk",), "walk_2"),
        ("walk", "[a-z0-9]+", None, ("walk",), "walk2"),
        ("walk", "[a-z]+", None, ("walk",), "walka"),
        ("walk", "", 4, ("walk",), "wa 2"),
        ("w", "", 1, ("w",), "2"),
        ("w2", "", 2, ("w2",), "2"),
        ("w", "[a-z]+", 1, ("w",), "a"),
        ("walk", "walk", None, ("walk",), "walk 2"),
    ],
)  # fmt: skip
def test_the_nearest_name(name, pattern, longest, taken, made):
    """The last one has no name it could have: it gets one of its own, which a check tells."""
    assert fitting_name(name, ClipRules(names=pattern, max_name_length=longest), set(taken)) == made
